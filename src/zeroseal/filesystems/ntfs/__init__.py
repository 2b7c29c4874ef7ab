"""NTFS: a table of records, one or more a file, that say everything, the table itself included.

The *master file table* (MFT) is the data of its own first record. A record is a list of
*attributes*: a file's times, its names, its data, each *stream* of it. A small value lies in the
record itself (*resident*), a large one in clusters that a run list names. A file that does not fit
into a record has an *attribute list* that says in which extension records the rest lies. Folders
are indexes: B-trees of entries that carry the name, its folder, sizes and times once more. So
are the store of security descriptors and the lists of object identifiers and reparse points.
Records and blocks of indexes are protected by *update sequences*: the last two bytes of each
512 are kept in the head, and a counter stands in their place.

``layout`` declares the records, ``volume`` reads boot sector and table, ``runs`` run lists,
``nodes`` puts together what a file's records say, ``streams`` reads content (``lznt1``,
``xpress``: compressed), ``index`` indexes, ``names`` upper-cases by the volume's own table,
``security`` descriptors, ``reparse`` links, ``state`` whether the volume was closed. ``read`` is
the tree for the rooms above. ``check`` and its parts trust none of that but the parsing. ``edit``
changes a volume: a node's records are packed anew (``pack``) and an index is built anew
(``index_build``), neither is patched.

Follows ``ntfs-3g/layout.h``, ``logfile.h`` and ``compress.h`` (2022.10); Microsoft's [MS-XCA] for
compression and [MS-FSCC] for reparse points.
"""
