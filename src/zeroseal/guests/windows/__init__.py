"""Windows guests: which system, whose, how it will start; read and changed offline, nothing booted.

A Windows keeps what is its own in its registry and in files of NTFS. Its volumes are not mounted
into one tree: the system volume is the guest's root, the others stand beside it
(``/partition 1:``).
"""
