"""VMDK: hosted sparse, stream-optimized, flat and split disks, with parents.

Follows *Virtual Disk Format 5.0* (VMware technical note).

A disk is described by a text of lines, in a file of its own or inside the first extent. It names
the extents: flat ones are plain bytes, sparse ones have a directory of tables of *grains* (64 KiB).
In a stream-optimized extent the grains are compressed, and markers between them make it readable in
order.

Extents must lie beside the file that names them. The sparse forms of ESX hosts (COWD, SESPARSE) are
refused by name. Changed in place are single sparse files without a parent.
"""
