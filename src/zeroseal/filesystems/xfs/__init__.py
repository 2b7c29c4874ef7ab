"""XFS: allocation groups of equal size, each with trees that say what is free and what is whose.

An *allocation group* (AG) begins with four sectors: a copy of the superblock, the header of its
free-space trees (AGF), that of its inode trees (AGI), and a short list of blocks kept for the trees
themselves (AGFL). Free extents are in two B+trees, by block and by length; chunks of 64 inodes in
another, and those with free inodes once more (finobt); newer volumes also know each extent's owner
(rmapbt) and how often one is shared (refcountbt). An inode keeps its data, a list of extents or the
root of a tree of extents (bmbt) in itself, and extended attributes in a second *fork* of the same
kinds. Numbers are big-endian, checksums (version 5) little-endian CRC-32C.

``layout`` declares the records, ``volume`` reads headers and inodes, ``trees`` a group's trees,
``forks`` what inodes map, ``folders`` names, ``attributes`` attributes, ``log`` the log. ``read``
is the tree for the rooms above, ``edit`` changes it; neither folders nor the trees of a group are
patched, they are built anew (``folder_build``, ``group``). ``check`` is written apart from that.

Follows xfsprogs' ``xfs_format.h``, ``xfs_da_format.h`` and ``xfs_log_format.h`` (6.1), and "XFS
Algorithms & Data Structures" (SGI, 3rd edition).
"""
