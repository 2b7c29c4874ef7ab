"""Hosts: what starts and stops the machines of a yard, and lets tasks reach their guests.

``host`` says what a host can do; ``simulated`` runs nothing and changes disks through our own code,
``qemu`` runs the machines for real. ``ssh`` and ``qemu.agent`` are two ways into a guest.
"""
