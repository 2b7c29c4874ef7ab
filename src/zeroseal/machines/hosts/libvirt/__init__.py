"""Machines on a libvirt connection, through the libvirt package.

A machine is known to libvirt only while it runs: it is a transient domain, and nothing is left
behind there when it ends. What libvirt says of the form: its manual, "Domain XML format".
"""
