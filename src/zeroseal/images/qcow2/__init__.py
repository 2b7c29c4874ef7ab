"""qcow2, versions 2 and 3: standard, zero and compressed clusters, subclusters, backing files.

Follows the published specification of the format (QEMU, ``docs/interop/qcow2.txt``).

An image is a two-level table over equally large *clusters*: the L1 table points to L2 tables, whose
entries point to the data, in the file or in an external data file. A third table counts how often
each cluster of the file is used. Internal snapshots are further L1 tables over the same clusters.

Refused by name: encryption and a corrupt image; for writing also an image that was not closed
cleanly, and one with an external data file.
"""
