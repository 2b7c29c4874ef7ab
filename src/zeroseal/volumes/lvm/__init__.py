"""LVM2: physical volumes, their metadata, and the logical volumes they hold.

Follows the layout as LVM2's own sources describe it (``lib/format_text/layout.h``,
``format-text.c``).

A physical volume begins with a label in one of its first four sectors, which says where its
metadata areas lie. An area is a ring of text: its header says where the newest copy begins. The
text lists the physical volumes of the group and, for each logical volume, segments of extents on
them.

Linear and striped volumes are read and changed. Snapshots, thin pools, RAID, mirrors and caches are
refused by name; so is a group of which a physical volume is not on the disk.
"""
