"""The operating system on a disk: one tree across its volumes, and what can be read from it."""
