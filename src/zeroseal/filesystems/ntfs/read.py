"""An NTFS volume as a tree of numbered nodes, for the rooms above.

Names are compared without their case, as Windows does; a short (8.3) name finds its file, and is
not listed. The file system's own files are not part of the tree.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from zeroseal.blocks.store import Store
from zeroseal.errors import UnsupportedError
from zeroseal.filesystems.ntfs import layout, system_compression
from zeroseal.filesystems.ntfs.index import Index, IndexEntry
from zeroseal.filesystems.ntfs.layout import StandardInformation
from zeroseal.filesystems.ntfs.names import UPCASE_BYTES, Upcase, from_bytes, to_bytes
from zeroseal.filesystems.ntfs.nodes import Node, load_node, open_volume, parse_name
from zeroseal.filesystems.ntfs.reparse import ReparsePoint, parse_reparse
from zeroseal.filesystems.ntfs.streams import iter_places, read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.filesystems.tree import FolderEntry, Kind, NodeFacts
from zeroseal.messages import ntfs as messages

_MOST_HELD = 512
_CHANGE_JOURNAL = b"$UsnJrnl"
_HIBERNATION_FILE, _SLEEPING = b"hiberfil.sys", (b"hibr", b"wake")
_MOST_FILE_BYTES = 1 << 44


class NtfsTree:
    """An NTFS volume, read as a ``FileTree``; see there for the methods.

    Raises:
        ImageError: as ``NtfsVolume`` does.
    """

    def __init__(
        self, store: Store, where: str = "the volume", volume: NtfsVolume | None = None
    ) -> None:
        self.volume = volume or open_volume(store, where)
        self.root = layout.ROOT
        self._held: dict[int, Node] = {}

    @cached_property
    def upcase(self) -> Upcase:
        """The volume's own table of upper-case letters."""
        attribute = self.get_node(layout.UPCASE).find(layout.DATA)
        raw = read_stream(self.volume, attribute, 0, UPCASE_BYTES) if attribute else b""
        if len(raw) != UPCASE_BYTES:
            raise self.volume.damaged(messages.UPPER_CASE_TABLE_TRUNCATED)
        return Upcase(raw)

    @property
    def where(self) -> str:
        """The volume's name, for messages."""
        return self.volume.where

    def find_child(self, folder: int, name: bytes) -> FolderEntry | None:
        """The entry of that name, whatever its case; an exact match comes first."""
        entry = self.find_entry(folder, name)
        return self._entry(entry) if entry and not self.is_hidden(entry) else None

    def list_folder(self, folder: int) -> list[FolderEntry]:
        """All entries but short names and the file system's own files."""
        return [
            self._entry(entry)
            for entry in self.iter_names(folder)
            if entry.key[65] != layout.DOS and not self.is_hidden(entry)
        ]

    def get_facts(self, node: int) -> NodeFacts:
        """The node's own data; a mode stands for the read-only flag, there is no owner's number."""
        found = self.get_node(node)
        kind = self.kind_of(found)
        value = found.standard or bytes(layout.STANDARD_BYTES)
        times = StandardInformation.parse(value[: StandardInformation.SIZE])
        size = 0
        if kind is Kind.FILE:
            data = found.find(layout.DATA)
            size = data.size_bytes if data else 0
        elif kind is Kind.LINK:
            size = len(self.read_link(node))
        writable = not times.flags & layout.FILE_READ_ONLY or found.is_folder
        return NodeFacts(
            kind=kind,
            mode=0o777 if writable else 0o555,
            uid=0,
            gid=0,
            size_bytes=size,
            link_count=sum(head.space != layout.DOS for head, _name in found.names()),
            changed_at=seconds_of(max(times.modified, times.changed)),
        )

    def read_file(self, node: int, limit_bytes: int | None = None) -> bytes:
        """A file's content, or its beginning.

        Raises:
            UnsupportedError: it is encrypted, or lies elsewhere.
        """
        return self.read_named_stream(node, "", limit_bytes)

    def read_named_stream(self, node: int, name: str, limit_bytes: int | None = None) -> bytes:
        """The content of a stream; the nameless one is a file's own."""
        found = self.get_node(node)
        attribute = found.find(layout.DATA, name)
        if attribute is None:
            if name or found.is_folder:
                raise self.volume.damaged(messages.STREAM_MISSING.format(node=node))
            return b""
        size = attribute.size_bytes
        length = size if limit_bytes is None else min(size, limit_bytes)
        if length > _MOST_FILE_BYTES:
            raise self.volume.damaged(messages.RECORD_IMPOSSIBLY_LARGE.format(node=node))
        if attribute.is_encrypted:
            raise self._unreadable(node, messages.ENCRYPTED_EFS)
        point = None if name else self.get_reparse(found)
        if point and point.tag == layout.TAG_WOF:
            return self._read_content(found, point, size, length)
        if point and point.content_elsewhere:
            raise self._unreadable(node, f"is {point.content_elsewhere}")
        return read_stream(self.volume, attribute, 0, length)

    def stream_names(self, node: int) -> list[str]:
        """The names of a node's streams; the nameless one, if it has one, is the empty name."""
        return [attribute.name for attribute in self.get_node(node).all_of(layout.DATA)]

    def read_link(self, node: int) -> bytes:
        """A link's target, as it is stored but with ``/`` between folders."""
        point = self.get_reparse(self.get_node(node))
        if point is None or not point.is_link:
            raise self.volume.damaged(messages.RECORD_NOT_SYMBOLIC_LINK.format(node=node))
        return to_bytes(point.target.replace("\\", "/"))

    def iter_content(self, node: int, from_byte: int) -> Iterator[tuple[int, int]]:
        """Yields (offset, length) on the volume of content in clusters from that byte of it on."""
        attribute = self.get_node(node).find(layout.DATA)
        if attribute is not None:
            yield from iter_places(self.volume, attribute, from_byte)

    def read_attributes(self, node: int) -> dict[bytes, bytes]:
        """Extended attributes, which few files have."""
        attribute = self.get_node(node).find(layout.EA)
        return _parse_extended(read_stream(self.volume, attribute)) if attribute else {}

    def get_node(self, number: int) -> Node:
        """A node with all its attributes.

        Raises:
            DamagedError: its records contradict each other.
        """
        node = self._held.get(number)
        if node is None:
            node = load_node(self.volume, number)
            if len(self._held) >= _MOST_HELD:
                self._held.pop(next(iter(self._held)))
            self._held[number] = node
        return node

    def get_reparse(self, node: Node) -> ReparsePoint | None:
        """The node's reparse point, if it has one.

        Raises:
            DamagedError: it is cut off.
        """
        attribute = node.find(layout.REPARSE_POINT)
        if attribute is None:
            return None
        point = parse_reparse(read_stream(self.volume, attribute, 0, 1 << 16))
        if point is None:
            raise self.volume.damaged(
                messages.REPARSE_POINT_OF_RECORD_TRUNCATED.format(number=node.number)
            )
        return point

    def kind_of(self, node: Node) -> Kind:
        """What a node is."""
        point = self.get_reparse(node)
        if point and point.is_link:
            return Kind.LINK
        return Kind.FOLDER if node.is_folder else Kind.FILE

    def find_entry(self, folder: int, name: bytes) -> IndexEntry | None:
        """The index entry of a name: an exact match, or else one but for its case."""
        try:
            wanted = self.upcase.key(from_bytes(name))
        except UnicodeDecodeError:
            return None
        index = self.get_index(folder)
        key = self.upcase.key

        def exactly(raw: bytes) -> int:
            other = key(parse_name(raw)[1])
            return (wanted > other) - (wanted < other)

        def nearly(raw: bytes) -> int:
            other = key(parse_name(raw)[1])[0]
            return (wanted[0] > other) - (wanted[0] < other)

        return index.find(exactly) or index.find(nearly)

    def iter_names(self, folder: int) -> Iterator[IndexEntry]:
        """Yields the entries of a folder, short names and the file system's own among them."""
        return self.get_index(folder).iter_entries()

    def get_index(self, folder: int) -> Index:
        """A folder's index.

        Raises:
            DamagedError: it is no folder.
        """
        node = self.get_node(folder)
        if not node.is_folder:
            raise self.volume.damaged(messages.RECORD_NOT_FOLDER.format(folder=folder))
        return Index(self.volume, node)

    def change_journal(self) -> Node | None:
        """The file of the change journal, where there is one."""
        entry = self.find_entry(layout.EXTEND, _CHANGE_JOURNAL)
        return self.get_node(entry.number) if entry else None

    def is_asleep(self) -> bool:
        """Whether Windows hibernates on the volume, or was shut down for a fast start."""
        found = self.find_child(self.root, _HIBERNATION_FILE)
        return found is not None and self.read_file(found.node, 4).lower() in _SLEEPING

    def is_hidden(self, entry: IndexEntry) -> bool:
        """Whether an entry is one of the file system's own."""
        head = parse_name(entry.key)[0]
        number = entry.number
        in_extend = head.parent & layout.REFERENCE_MASK == layout.EXTEND
        return number < layout.FIRST_USER_RECORD or in_extend

    # -- inside

    def _entry(self, entry: IndexEntry) -> FolderEntry:
        head, name = parse_name(entry.key)
        number = entry.number
        if head.flags & layout.FILE_REPARSE:
            kind = self.kind_of(self.get_node(number))
        else:
            kind = Kind.FOLDER if head.flags & layout.FILE_IS_FOLDER else Kind.FILE
        return FolderEntry(to_bytes(name), number, kind)

    def _read_content(self, node: Node, point: ReparsePoint, size: int, length: int) -> bytes:
        chunk = system_compression.chunk_bytes(point.data)
        stream = node.find(layout.DATA, system_compression.STREAM)
        if chunk is None or stream is None:
            raise self._unreadable(node.number, messages.COMPRESSION_NOT_SUPPORTED)
        if not length:
            return b""
        return system_compression.read_content(self.volume, stream, chunk, size, length)

    def _unreadable(self, node: int, why: str) -> UnsupportedError:
        names = [name for _head, name in self.get_node(node).names()]
        shown = names[0] if names else f"record {node}"
        return self.volume.unsupported(f"the file {shown} {why}")


def seconds_of(ticks: int) -> int:
    """A time of 100 ns since 1601 in seconds since 1970."""
    return (ticks - layout.UNIX_EPOCH_TICKS) // 10**7


def ticks_of(seconds: int) -> int:
    """A time in seconds since 1970 as the disk has it."""
    return seconds * 10**7 + layout.UNIX_EPOCH_TICKS


def _parse_extended(raw: bytes) -> dict[bytes, bytes]:
    """Entries of next offset (4 bytes), flags, length of the name, length of the value (2)."""
    found, position = {}, 0
    while position + 8 <= len(raw):
        step = int.from_bytes(raw[position : position + 4], "little")
        name_end = position + 8 + raw[position + 5]
        size = int.from_bytes(raw[position + 6 : position + 8], "little")
        found[b"ea." + raw[position + 8 : name_end]] = raw[name_end + 1 : name_end + 1 + size]
        if step < 8:
            break
        position += step
    return found
