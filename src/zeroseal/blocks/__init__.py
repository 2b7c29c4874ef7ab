"""Bytes by offset: the store protocol, staging, extents, on-disk records and checksums."""
