"""Machines on a host: from a build sheet to a reference machine, and machines that are started.

The only host so far is simulated: it boots nothing. It does to a disk, through our own file-system
code, what a first boot and some use do. What it shows is labelled so and proves nothing about a
real guest.
"""
