"""ext2, ext3 and ext4: one family of formats that share their on-disk structures.

The volume is cut into *block groups* of equal size. Each group has a bitmap of its blocks, a bitmap
of its inodes and a slice of the inode table; a table of group descriptors, behind the superblock,
says where they lie. An *inode* is a file's own data; it maps the file's blocks either by an extent
tree or (ext2, ext3) by lists of block numbers nested up to three deep. A folder is a file whose
blocks hold directory entries; a large one has an index by hash (*htree*) inside blocks that look
empty to a reader who does not know it.

Follows the Linux kernel's ``Documentation/filesystems/ext4`` (6.1) and e2fsprogs' ``ext2_fs.h``.
"""
