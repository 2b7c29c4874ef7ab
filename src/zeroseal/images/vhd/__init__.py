"""VHD: fixed, dynamic and differencing virtual hard disks.

Follows the *Virtual Hard Disk Image Format Specification*, version 1.0 (Microsoft, 2006).

A footer of 512 bytes ends the file. A dynamic disk also begins with a copy of it, and has a table
that says where each block (2 MiB) lies; before a block's data lies a bitmap of its sectors.

The size is the footer's *current size*, never its geometry. Split disks and disks with a saved
state are refused by name; differencing disks are read, and not changed.
"""
