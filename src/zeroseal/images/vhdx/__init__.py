"""VHDX, version 1: fixed, dynamic and differencing virtual hard disks.

Follows the published specification [MS-VHDX] (Microsoft Open Specifications).

Two headers, of which the one with the higher sequence number counts; two copies of a region table
that says where the block table and the metadata lie; a log of changes to those, which is replayed
over the file before anything else is read (in memory when the image is only read).

Differencing disks are read, and not changed.
"""
