"""Registry hives as files: the regf format, versions 1.3 to 1.6, read and changed offline.

A hive is a header (the *base block*), then *bins* of whole pages that are cut into *cells*. A cell
is free or in use and says its own length; all others are found by offsets from the first bin. A key
(``nk``) names its parent, a list of subkeys (``lf``, ``lh``, ``li``, under ``ri`` where there are
many, sorted by upper-cased name), a list of values (``vk``) and a security descriptor (``sk``) that
keys share and count. Small values lie in their ``vk``, large ones in segments (``db``).

``layout`` declares the records, ``hive`` reads, ``logs`` replays transaction logs, ``edit``
changes, ``check`` is written apart from it, ``values`` types and expands, ``paths`` finds keys by
pattern.

Source: no text ships with a package here; the format is as the tools that were compared with read
it (hivex, python-registry, regipy, reglookup), each fact tried on hives of theirs and ours.
"""
