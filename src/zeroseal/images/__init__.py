"""Disk image files: a path becomes a store, and a store becomes a file, in open formats."""
