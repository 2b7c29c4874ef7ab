"""VDI, version 1.1: dynamic and fixed images.

There is no published specification; the layout follows QEMU's ``block/vdi.c``, which describes it,
and files written by it.

A header, a table that says which block of the data area each block of the disk is, the data area.
Differencing and undo images are refused by name.
"""
