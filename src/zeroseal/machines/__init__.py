"""Machines on a host: from a build sheet to a reference machine, and machines that are started.

There are three hosts: QEMU, libvirt, and a simulated one that boots nothing. That one does to a
disk, through our own file-system code, what a first boot and some use do; what it shows is labelled
so and proves nothing about a real guest.
"""

FILE_NAME = "machine.toml"
"""What a machine's definition beside its disk is called; here, so that asking for it is cheap."""
TPM_FOLDER = "tpm"
"""Where the state of a machine's TPM lies, in its folder; it is that machine's alone."""
VARIABLES_FILE = "firmware-vars.fd"
"""What the file with the variables of a machine's UEFI firmware is called, in its folder."""
HOST_NAMES = ("qemu", "libvirt", "simulated")
"""The hosts by name."""
