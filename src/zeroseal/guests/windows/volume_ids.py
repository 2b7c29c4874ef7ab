"""Where a Windows names partitions: the table of mounted devices, and the store of the boot loader.

With a GPT both name the GUIDs of disk and partition in binary, and names of keys have them as text:
they stand for nothing else, so that they are replaced wherever a hive has them. With a master boot
record both name the four bytes of its signature, which are changed only in the values that hold it.

Source: for the mounted devices, Windows Driver Kit, ``mountmgr.h`` and what real hives show; for
the elements of the boot loader, the same of type *device* (``0x*1000001``): option GUID, kind (6
for a partition), flags, size, partition, table type (1 for a master boot record), disk.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from zeroseal.guests.registry.hive import Hive
from zeroseal.guests.windows.hives import GuestRegistry, HiveSet

Pairs = Sequence[tuple[bytes, bytes]]

_MOUNTED = "MountedDevices"
_MOUNTED_BYTES = 12  # signature, and where the partition begins
_ELEMENT = "Element"
_KIND_AT, _TABLE_AT, _DISK_AT = 0x10, 0x34, 0x38
_PARTITION, _MBR = 6, 1


def hives_with(registry: GuestRegistry, forms: Sequence[bytes]) -> list[str]:
    """The hives that hold one of some byte strings."""
    return [
        path
        for path in registry.files
        if any(form in registry.get_hive(path).content for form in forms)
    ]


def hives_with_signature(registry: GuestRegistry, signature: bytes) -> list[str]:
    """The hives with values that hold the signature of a master boot record."""
    return [
        path
        for path in registry.files
        if any(True for _place in _values_with(registry.get_hive(path), signature))
    ]


def with_wide(pairs: Pairs) -> list[tuple[bytes, bytes]]:
    """The same pairs, and texts among them in two bytes a letter."""
    wide = [
        (old.decode("ascii").encode("utf-16-le"), new.decode("ascii").encode("utf-16-le"))
        for old, new in pairs
        if old.isascii() and new.isascii()
    ]
    return [*pairs, *wide]


def replace_signature(hives: HiveSet, path: str, old: bytes, new: bytes) -> None:
    """Replaces the signature of a master boot record in the values that hold it."""
    editor = hives.editor(path)
    for key_path, name, kind, data, at in list(_values_with(hives.registry.get_hive(path), old)):
        key = editor.find_key(key_path)
        if key is not None:
            editor.set_value(key, name, kind, data[:at] + new + data[at + len(new) :])


def _values_with(hive: Hive, signature: bytes) -> Iterator[tuple[str, str, int, bytes, int]]:
    """Yields (key, value, kind, data, where the signature stands in it)."""
    for path, key in hive.walk():
        name = path.rpartition("\\")[2]
        is_mounted = name.lower() == _MOUNTED.lower()
        is_element = path.lower().rpartition("\\")[0].endswith("elements")
        if not is_mounted and not is_element:
            continue
        for value in hive.values(key):
            data = value.data
            if is_mounted and len(data) == _MOUNTED_BYTES and data.startswith(signature):
                yield path, value.name, value.kind, data, 0
            elif is_element and value.name == _ELEMENT and _is_on(data, signature):
                yield path, value.name, value.kind, data, _DISK_AT


def _is_on(data: bytes, signature: bytes) -> bool:
    """Whether an element of the boot loader names a partition of the disk with a signature."""
    return (
        len(data) >= _DISK_AT + 16
        and int.from_bytes(data[_KIND_AT : _KIND_AT + 4], "little") == _PARTITION
        and int.from_bytes(data[_TABLE_AT : _TABLE_AT + 4], "little") == _MBR
        and data[_DISK_AT : _DISK_AT + 4] == signature
    )
