"""FAT12, FAT16 and FAT32 with long names: the file system of EFI system partitions.

Follows the *FAT32 File System Specification*, version 1.03 (Microsoft), and Linux
``linux/msdos_fs.h``.

A node's number is the place of its directory entry on the volume, in bytes; the root is 0. There
are no links, owners or modes: setting them does nothing, and links are refused by name.
"""
