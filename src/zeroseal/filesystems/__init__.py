"""File systems: a volume becomes a tree of folders and files that can be read and changed."""
