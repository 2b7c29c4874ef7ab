"""qcow2, versions 2 and 3: standard and zlib-compressed clusters, zero clusters, backing files.

Follows the published specification of the format (QEMU, ``docs/interop/qcow2.txt``).

An image is a two-level table over equally large *clusters*: the L1 table points to L2 tables, whose
entries point to the data. A third table counts how often each cluster of the file is used.

Refused by name: encryption, an external data file, zstd compression, extended L2 entries, a corrupt
image; for writing also an image that was not closed cleanly, keeps bitmaps, or counts references in
less than a byte.
"""
