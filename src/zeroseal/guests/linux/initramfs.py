"""Initramfs archives: what lies in them, and the same archive without some of it.

An initramfs is one or more archives, one behind the other, padded with zeros: often an archive with
microcode as it is, then a packed one with the early user space. Each is a series of entries in the
*newc* form of cpio; an archive ends with an entry ``TRAILER!!!``. Source: kernel
``Documentation/driver-api/early-userspace/buffer-format.rst`` and ``init/initramfs.c``.

What is not changed stays byte for byte: archives without a changed entry are taken over as they are
packed, and a changed archive is built from the very bytes of its other entries.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import NamedTuple

from zeroseal.guests.compressors import UNPACK_ERRORS, Packing, find_packing, pack, unpack_first
from zeroseal.messages import guests as messages

BOOT_ARCHIVES = ("/boot/init*", "/boot/*/*/init*", "/boot/loader/*/*/init*")
BOOT_IMAGES = ("/boot/efi/EFI/Linux/*.efi", "/boot/EFI/Linux/*.efi", "/efi/EFI/Linux/*.efi")
_MAGICS = (b"070701", b"070702")
_CHECKSUM_MAGIC = b"070702"
_HEADER_BYTES = 110
_TRAILER = b"TRAILER!!!"
_TYPE_MASK, _FILE_TYPE = 0o170000, 0o100000
_MAX_CONTENT_BYTES = 1 << 30
_MAX_NAME_BYTES = 4096


@dataclass(frozen=True)
class Entry:
    """One entry of an archive.

    Attributes:
        header: its 110 bytes; numbers are eight hexadecimal digits each.
        name: as it stands there, without the zero byte.
        content: a file's bytes; of hard links only the last one has them.
    """

    header: bytes
    name: bytes
    content: bytes

    @property
    def path(self) -> str:
        """The name without a leading ``/`` or ``./``."""
        return self.name.decode("utf-8", "surrogateescape").removeprefix("./").lstrip("/")

    @property
    def inode(self) -> tuple[int, int, int]:
        """What tells hard links of one file: inode and device."""
        return self._number(0), self._number(7), self._number(8)

    @property
    def is_file(self) -> bool:
        """Whether it is a file."""
        return self._number(1) & _TYPE_MASK == _FILE_TYPE

    @property
    def has_links(self) -> bool:
        """Whether the file has more names than one."""
        return self.is_file and self._number(4) > 1

    def with_content(self, content: bytes) -> Entry:
        """The same entry with other content."""
        header = self._with_number(6, len(content))
        if header.startswith(_CHECKSUM_MAGIC):
            total = sum(content) & 0xFFFFFFFF
            header = replace(self, header=header)._with_number(12, total)
        return Entry(header, self.name, content)

    def changed(self, change: Callable[[bytes], bytes]) -> Entry:
        """The same entry with its name and content changed, neither in length."""
        content = change(self.content)
        entry = Entry(self.header, change(self.name), self.content)
        return entry if content == self.content else entry.with_content(content)

    def build(self) -> bytes:
        """The entry's bytes; name and content are padded to four."""
        head = self.header + self.name + b"\0"
        return _padded(head) + _padded(self.content)

    def _number(self, field: int) -> int:
        start = 6 + field * 8
        return int(self.header[start : start + 8], 16)

    def _with_number(self, field: int, value: int) -> bytes:
        start = 6 + field * 8
        return self.header[:start] + b"%08x" % value + self.header[start + 8 :]


@dataclass(frozen=True)
class Archive:
    """One archive of an initramfs.

    Attributes:
        packing: how it is packed; None for one as it is.
        raw: its bytes in the file, with the zeros behind it.
        entries: in order, without the trailer.
        tail: the trailer and what follows it inside.
    """

    packing: Packing | None
    raw: bytes
    entries: tuple[Entry, ...]
    tail: bytes


def is_initramfs(raw: bytes) -> bool:
    """Whether a file begins as an initramfs may."""
    return raw.startswith(_MAGICS) or find_packing(raw) not in (None, Packing.ZIP, Packing.LZ4)


def split_initramfs(raw: bytes) -> list[Archive]:
    """Takes an initramfs apart.

    Raises:
        ValueError: it is none, is damaged, or holds more than 1 GiB.
    """
    found = []
    for part in _iter_parts(raw):
        entries, tail_start = _parse_entries(part.content)
        content_end = part.end - part.start if part.packing is None else len(part.content)
        tail = bytes(part.content[tail_start:content_end])
        found.append(Archive(part.packing, raw[part.start : part.end], entries, tail))
    return found


def find_entries(raw: bytes, is_wanted: Callable[[str], object]) -> list[Entry]:
    """The entries of an initramfs whose paths are wanted; nothing of the others is kept.

    Raises:
        ValueError: as ``split_initramfs``.
    """
    return [
        entry
        for part in _iter_parts(raw)
        for entry, _end in _iter_archive(part.content, is_wanted)
        if is_wanted(entry.path)
    ]


class _Part(NamedTuple):
    """One archive: where it lies in the file, its zeros with it, and what it holds."""

    packing: Packing | None
    start: int
    end: int
    content: bytes | bytearray


def _iter_parts(raw: bytes) -> Iterator[_Part]:
    """Yields the archives of an initramfs, unpacked one at a time."""
    start, room = 0, _MAX_CONTENT_BYTES
    while start < len(raw) and raw.count(0, start) < len(raw) - start:
        rest = raw[start:]
        packing = find_packing(rest)
        content: bytes | bytearray
        if rest.startswith(_MAGICS):
            packing, content = None, rest
            end = _end_of_zeros(rest, _end_of_archive(rest))
        elif packing:
            try:
                content, behind = unpack_first(rest, packing, room)
            except UNPACK_ERRORS as error:
                raise ValueError(
                    messages.DATA_CANNOT_BE_DECOMPRESSED.format(
                        compression=packing.value, error=error
                    )
                ) from None
            end = _end_of_zeros(rest, len(rest) - len(behind))
            room -= len(content)
        else:
            raise ValueError(messages.NOT_AN_ARCHIVE)
        yield _Part(packing, start, start + end, content)
        start += end
    if not start:
        raise ValueError(messages.NO_ARCHIVE)


def skip_plain_archives(raw: bytes) -> bytes:
    """What stands behind archives that are not packed: most often the packed one."""
    while raw.startswith(_MAGICS):
        end = raw.find(_TRAILER + b"\0")
        if end < 0:
            return b""
        raw = raw[end + len(_TRAILER) + 1 :].lstrip(b"\0")
    return raw


def build_file_archive(files: Mapping[str, bytes]) -> bytes:
    """An archive of regular files at its root, to stand behind other archives of an initramfs.

    Args:
        files: their contents by name.
    """
    entries = []
    for number, (name, content) in enumerate(files.items(), 1):
        mode, sizes = _FILE_TYPE | 0o600, (len(content), 0, 0, 0, 0, len(name) + 1, 0)
        numbers = (number, mode, 0, 0, 1, 0, *sizes)
        header = _MAGICS[0] + b"".join(b"%08x" % value for value in numbers)
        entries.append(Entry(header, name.encode(), content).build())
    numbers = (0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, len(_TRAILER) + 1, 0)
    header = _MAGICS[0] + b"".join(b"%08x" % value for value in numbers)
    return b"".join(entries) + Entry(header, _TRAILER, b"").build()


def rewrite_initramfs(
    raw: bytes, drop: Callable[[str], bool], empty: Callable[[str], bool]
) -> bytes:
    """The same initramfs without some entries, and with others empty.

    Args:
        raw: the file.
        drop: by an entry's path, whether it goes.
        empty: by an entry's path, whether its content goes.

    Raises:
        ValueError: as ``split_initramfs``.
    """
    return _change_archives(raw, lambda entries: _rewrite_entries(entries, drop, empty))


def change_initramfs(raw: bytes, change: Callable[[bytes], bytes]) -> bytes:
    """The same initramfs with names and contents changed.

    Args:
        raw: the file.
        change: is given a name or a content and returns it, or another of the same length.

    Raises:
        ValueError: as ``split_initramfs``.
    """
    return _change_archives(raw, lambda entries: tuple(one.changed(change) for one in entries))


def _change_archives(raw: bytes, change: Callable[[tuple[Entry, ...]], tuple[Entry, ...]]) -> bytes:
    """An initramfs with other entries; archives that do not change stay byte for byte."""
    pieces: list[bytes] = []
    for archive in split_initramfs(raw):
        pieces = [_padded(b"".join(pieces))]  # an archive begins at a multiple of four
        entries = change(archive.entries)
        if entries == archive.entries:
            pieces.append(archive.raw)
            continue
        content = b"".join(entry.build() for entry in entries) + archive.tail
        pieces.append(content if archive.packing is None else pack(content, archive.packing))
    return b"".join(pieces)


def find_initrd_of_boot_image(raw: bytes) -> bytes:
    """The initramfs inside a boot image for UEFI (section ``.initrd``); empty where none is.

    Source: Microsoft PE/COFF specification, section table; systemd, *Unified Kernel Image*.
    """
    if raw[:2] != b"MZ" or len(raw) < 0x40:
        return b""
    start = int.from_bytes(raw[0x3C:0x40], "little")
    if raw[start : start + 4] != b"PE\0\0" or len(raw) < start + 24:
        return b""
    sections, optional_bytes = struct.unpack_from("<2xH12xH", raw, start + 4)
    table = start + 24 + optional_bytes
    for number in range(sections):
        fields = raw[table + number * 40 : table + number * 40 + 24]
        if fields[:8] == b".initrd\0" and len(fields) == 24:
            length, _address, stored, offset = struct.unpack_from("<IIII", fields, 8)
            return raw[offset : offset + min(length, stored)]
    return b""


def _rewrite_entries(
    entries: tuple[Entry, ...], drop: Callable[[str], bool], empty: Callable[[str], bool]
) -> tuple[Entry, ...]:
    """Drops and empties; the content of a hard-linked file moves to a name that stays."""
    kept: list[Entry] = []
    for entry in entries:
        if drop(entry.path):
            if entry.has_links and entry.content:
                _give_content(kept, entry)
            continue
        if empty(entry.path) and entry.is_file and entry.content:
            entry = entry.with_content(b"")
        kept.append(entry)
    return tuple(kept)


def _give_content(kept: list[Entry], gone: Entry) -> None:
    for index in range(len(kept) - 1, -1, -1):
        if kept[index].is_file and kept[index].inode == gone.inode:
            kept[index] = kept[index].with_content(gone.content)
            return


def _parse_entries(raw: bytes | bytearray) -> tuple[tuple[Entry, ...], int]:
    """(entries, where the trailer begins)."""
    entries: list[Entry] = []
    position = 0
    for entry, end in _iter_archive(raw):
        entries.append(entry)
        position = end
    return tuple(entries), position


def _end_of_archive(raw: bytes) -> int:
    """Where the trailer of an archive ends."""
    for entry, end in _iter_entries(raw, lambda _path: False):
        if entry.name == _TRAILER:
            return end
    raise ValueError(messages.ENDS_WITHOUT_TRAILER)


def _iter_archive(
    raw: bytes | bytearray, is_wanted: Callable[[str], object] | None = None
) -> Iterator[tuple[Entry, int]]:
    """The entries of an archive up to its trailer, as ``_iter_entries`` yields them."""
    for entry, end in _iter_entries(raw, is_wanted):
        if entry.name == _TRAILER:
            return
        yield entry, end
    raise ValueError(messages.ENDS_WITHOUT_TRAILER)


def _iter_entries(
    raw: bytes | bytearray, is_wanted: Callable[[str], object] | None = None
) -> Iterator[tuple[Entry, int]]:
    """(entry, where the next one begins); those that are not wanted come without content."""
    position = 0
    while position < len(raw):
        header = bytes(raw[position : position + _HEADER_BYTES])
        if not header.startswith(_MAGICS) or len(header) < _HEADER_BYTES:
            raise ValueError(messages.ENTRY_OF_ARCHIVE_INVALID)
        try:
            name_bytes = int(header[94:102], 16)
            content_bytes = int(header[54:62], 16)
        except ValueError:
            raise ValueError(messages.ENTRY_OF_ARCHIVE_INVALID) from None
        name_end = position + _HEADER_BYTES + name_bytes
        start = _aligned(name_end)
        end = start + content_bytes
        if not 0 < name_bytes <= _MAX_NAME_BYTES or end > len(raw):
            raise ValueError(messages.ENTRY_OF_ARCHIVE_TRUNCATED)
        entry = Entry(header, bytes(raw[position + _HEADER_BYTES : name_end].rstrip(b"\0")), b"")
        if is_wanted is None or is_wanted(entry.path):
            entry = replace(entry, content=bytes(raw[start:end]))
        position = _aligned(end)
        yield entry, position


def _end_of_zeros(raw: bytes, start: int) -> int:
    """Where the zeros end that begin at ``start``."""
    return len(raw) - len(raw[start:].lstrip(b"\0"))


def _aligned(position: int) -> int:
    return (position + 3) // 4 * 4


def _padded(content: bytes) -> bytes:
    return content.ljust(_aligned(len(content)), b"\0")
