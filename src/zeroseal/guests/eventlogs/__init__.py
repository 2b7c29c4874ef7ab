"""Windows' event logs (evtx, versions 3.1 and 3.2): an empty one made, and what is in one told.

A file is a header of 4096 bytes and chunks of 64 KiB; each has tables of strings and templates, and
records of binary XML. Both headers and each chunk's records are under CRC-32.
"""
