"""Folders of FAT: runs of long-name entries, each ended by the entry with the short name."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from zeroseal.filesystems.fat import layout
from zeroseal.filesystems.fat.layout import Entry, LongEntry, short_name_checksum
from zeroseal.messages import fat as messages

_SIZE = layout.ENTRY_BYTES


class Named(NamedTuple):
    """A name in a folder.

    Attributes:
        first_slot: number of its first entry in the folder; ``slot`` that of the one with the
            short name.
    """

    name: str
    short_name: str
    entry: Entry
    first_slot: int
    slot: int

    @property
    def cluster(self) -> int:
        """First cluster of the content, 0 for none."""
        return self.entry.cluster_hi << 16 | self.entry.cluster_lo

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder."""
        return bool(self.entry.attributes & layout.ATTRIBUTE_FOLDER)


def iter_names(content: bytes) -> Iterator[Named]:
    """Yields all names of a folder, ``.`` and ``..`` and the volume's label left out."""
    parts: list[LongEntry] = []
    first_slot = 0
    for slot in range(len(content) // _SIZE):
        raw = content[slot * _SIZE : (slot + 1) * _SIZE]
        if raw[0] == layout.END:
            return
        attributes = raw[11]
        if raw[0] == layout.DELETED:
            parts = []
        elif attributes & 0x3F == layout.ATTRIBUTE_LONG_NAME:
            part = LongEntry.parse(raw)
            if part.order & layout.LAST_LONG_ENTRY:
                parts, first_slot = [], slot
            parts.append(part)
        else:
            entry = Entry.parse(raw)
            name = _long_name(parts, entry.name)
            short = short_text(entry)
            if not attributes & layout.ATTRIBUTE_VOLUME and short not in (".", ".."):
                yield Named(name or short, short, entry, first_slot if name else slot, slot)
            parts = []


def short_text(entry: Entry) -> str:
    """A short name as people see it."""
    raw = entry.name
    if raw[0] == 0x05:
        raw = b"\xe5" + raw[1:]
    base = raw[:8].decode("cp437").rstrip(" ")
    extension = raw[8:].decode("cp437").rstrip(" ")
    if entry.name_case & layout.LOWER_BASE:
        base = base.lower()
    if entry.name_case & layout.LOWER_EXTENSION:
        extension = extension.lower()
    return f"{base}.{extension}" if extension else base


def _long_name(parts: list[LongEntry], short: bytes) -> str:
    """The long name that belongs to a short one; empty where the parts do not fit together."""
    if not parts or len(parts) > layout.MAX_LONG_ENTRIES:
        return ""
    count = len(parts)
    orders = [part.order & 0x3F for part in parts]
    checksum = short_name_checksum(short)
    if orders != list(range(count, 0, -1)) or any(part.checksum != checksum for part in parts):
        return ""
    raw = b"".join(part.first + part.middle + part.last for part in reversed(parts))
    units = raw.decode("utf-16-le", "surrogatepass")
    return units.split("\0")[0]


def build_long_entries(name: str, short: bytes) -> list[bytes]:
    """The entries of a long name, in the order of the disk."""
    raw = name.encode("utf-16-le", "surrogatepass")
    units = len(raw) // 2
    count = -(-units // layout.LONG_NAME_UNITS)
    if units % layout.LONG_NAME_UNITS:
        raw += b"\0\0"
    raw = raw.ljust(count * layout.LONG_NAME_UNITS * 2, b"\xff")
    checksum = short_name_checksum(short)
    found = []
    for number in range(count, 0, -1):
        part = raw[(number - 1) * 26 : number * 26]
        entry = LongEntry.blank(
            order=number | (layout.LAST_LONG_ENTRY if number == count else 0),
            first=part[:10],
            attributes=layout.ATTRIBUTE_LONG_NAME,
            checksum=checksum,
            middle=part[10:22],
            last=part[22:],
        )
        found.append(entry.build())
    return found


def make_short_name(name: str, taken: set[bytes]) -> bytes:
    """A short name that no other in the folder has."""
    base, _dot, extension = name.rpartition(".")
    if not base:
        base, extension = name, ""
    allowed = "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789!#$%&'()-@^_`{}~"

    def plain(text: str) -> str:
        return "".join(
            char if char in allowed else "_" for char in text.upper() if char not in " ."
        )

    stem, ending = plain(base) or "_", plain(extension)[:3].ljust(3)
    for number in range(1, 1_000_000):
        tail = f"~{number}"
        made = (stem[: 8 - len(tail)] + tail).ljust(8) + ending
        if made.encode() not in taken:
            return made.encode()
    raise ValueError(messages.NO_SHORT_NAME_LEFT.format(name=name))
