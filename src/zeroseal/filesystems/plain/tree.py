"""A file tree held as a table of nodes; contents are read from their source when asked for.

Edits are made in the table only, and noted as changes, so that whoever made the table can carry
them out: into a new archive, or onto the folder that it was read from.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from zeroseal.errors import UnsupportedError
from zeroseal.filesystems import editing
from zeroseal.filesystems.tree import FolderEntry, Kind, NodeFacts
from zeroseal.messages import plain as messages

_MAX_TARGET_BYTES = 4096


@dataclass
class PlainNode:
    """One node.

    Attributes:
        read: gives the content of a file as its source has it, or its beginning.
        content: what the file has instead since it was edited.
        children: of a folder, by name.
        device: (major, minor) of a device that was read from a folder.
        origin: what the source knows it by; None for a node that was made here.
    """

    kind: Kind
    mode: int
    uid: int
    gid: int
    size_bytes: int
    changed_at: int
    read: Callable[[int | None], bytes] = lambda _limit: b""
    content: bytes | None = None
    target: bytes = b""
    attributes: dict[bytes, bytes] = field(default_factory=dict)
    children: dict[bytes, int] = field(default_factory=dict)
    link_count: int = 1
    device: tuple[int, int] | None = None
    is_block_device: bool = False
    origin: object = None


@dataclass(frozen=True)
class Removed:
    """A name went, with all beneath it; parts of the path from the root."""

    path: tuple[bytes, ...]


@dataclass(frozen=True)
class Written:
    """A file has other content; ``made`` says that it is new."""

    path: tuple[bytes, ...]
    node: int
    made: bool = False


@dataclass(frozen=True)
class Made:
    """A folder or a link is new."""

    path: tuple[bytes, ...]
    node: int


@dataclass(frozen=True)
class Renamed:
    """An entry has another name in its folder."""

    path: tuple[bytes, ...]
    new_name: bytes


PlainChange = Removed | Written | Made | Renamed


class PlainTree:
    """The table of nodes, as a tree that can be read and changed.

    Args:
        where: what it was read from, for messages.
        now: the time that changes are given, seconds since 1970.
    """

    def __init__(self, where: str, now: int = 0) -> None:
        self.where = where
        self.now = now
        self.root = 1
        self.nodes: dict[int, PlainNode] = {
            1: PlainNode(kind=Kind.FOLDER, mode=0o755, uid=0, gid=0, size_bytes=0, changed_at=0)
        }
        self.changes: list[PlainChange] = []
        self._above: dict[int, tuple[int, bytes]] = {}

    # -- making the table

    def add(self, folder: int, name: bytes, node: PlainNode) -> int:
        """Puts a node into a folder; for whoever makes the table."""
        number = len(self.nodes) + 1
        self.nodes[number] = node
        self._put(folder, name, number)
        return number

    def link(self, folder: int, name: bytes, number: int) -> None:
        """Gives a node one more name; for whoever makes the table."""
        self.nodes[number].link_count += 1
        self._put(folder, name, number)

    def _put(self, folder: int, name: bytes, number: int) -> None:
        self.nodes[folder].children[name] = number
        self._above.setdefault(number, (folder, name))

    # -- reading

    def find_child(self, folder: int, name: bytes) -> FolderEntry | None:
        """The entry of that name."""
        number = self.nodes[folder].children.get(name)
        return None if number is None else FolderEntry(name, number, self.nodes[number].kind)

    def list_folder(self, folder: int) -> list[FolderEntry]:
        """All entries, in the order of the source."""
        children = self.nodes[folder].children.items()
        return [FolderEntry(name, number, self.nodes[number].kind) for name, number in children]

    def get_facts(self, node: int) -> NodeFacts:
        """The node's own data."""
        item = self.nodes[node]
        return NodeFacts(
            kind=item.kind,
            mode=item.mode,
            uid=item.uid,
            gid=item.gid,
            size_bytes=item.size_bytes,
            link_count=item.link_count,
            changed_at=item.changed_at,
        )

    def read_file(self, node: int, limit_bytes: int | None = None) -> bytes:
        """A file's content, or its beginning."""
        item = self.nodes[node]
        return item.read(limit_bytes) if item.content is None else item.content[:limit_bytes]

    def read_link(self, node: int) -> bytes:
        """A symbolic link's target."""
        return self.nodes[node].target

    def read_attributes(self, node: int) -> dict[bytes, bytes]:
        """Extended attributes, by full name."""
        return dict(self.nodes[node].attributes)

    def iter_content(self, node: int, from_byte: int) -> Iterator[tuple[int, int]]:
        """Nothing lies on a volume here."""
        del node, from_byte
        return iter(())

    # -- changing

    def create_file(
        self, folder: int, name: bytes, content: bytes, mode: int, uid: int = 0, gid: int = 0
    ) -> int:
        """Makes a file and returns its node."""
        made = PlainNode(
            kind=Kind.FILE,
            mode=mode,
            uid=uid,
            gid=gid,
            size_bytes=len(content),
            changed_at=self.now,
            content=content,
        )
        number = self._make(folder, name, made)
        self.changes.append(Written(self._path(folder, name), number, made=True))
        return number

    def create_folder(self, folder: int, name: bytes, mode: int, uid: int = 0, gid: int = 0) -> int:
        """Makes an empty folder and returns its node."""
        number = self._make(
            folder,
            name,
            PlainNode(
                kind=Kind.FOLDER, mode=mode, uid=uid, gid=gid, size_bytes=0, changed_at=self.now
            ),
        )
        self.changes.append(Made(self._path(folder, name), number))
        return number

    def create_link(self, folder: int, name: bytes, target: bytes) -> int:
        """Makes a symbolic link and returns its node."""
        if not 0 < len(target) < _MAX_TARGET_BYTES or b"\0" in target:
            raise editing.bad_target(self, target)
        made = PlainNode(
            kind=Kind.LINK,
            mode=0o777,
            uid=0,
            gid=0,
            size_bytes=len(target),
            changed_at=self.now,
            target=target,
        )
        number = self._make(folder, name, made)
        self.changes.append(Made(self._path(folder, name), number))
        return number

    def add_name(self, folder: int, name: bytes, node: int) -> None:
        """Second names are not made here."""
        editing.check_can_be_linked(self, node)
        editing.check_new(self, folder, name)
        raise UnsupportedError(messages.NO_SECOND_NAME.format(name=name, where=self.where))

    def replace_content(self, node: int, content: bytes) -> None:
        """Gives a file other content."""
        editing.check_file(self, node)
        item = self.nodes[node]
        item.content, item.size_bytes, item.changed_at = content, len(content), self.now
        folder, name = self._above[node]
        self.changes.append(Written(self._path(folder, name), node))

    def zero_content(self, node: int, from_byte: int) -> None:
        """Zeroes a file's content from a byte on."""
        size = self.nodes[node].size_bytes
        self.replace_content(node, self.read_file(node, from_byte).ljust(size, b"\0"))

    def truncate(self, node: int, size_bytes: int) -> None:
        """Cuts a file, or lets it grow by zeros."""
        self.replace_content(node, self.read_file(node, size_bytes).ljust(size_bytes, b"\0"))

    def rename(self, folder: int, name: bytes, new_name: bytes) -> None:
        """Gives an entry of a folder another name there."""
        editing.get_entry(self, folder, name)
        if new_name == name:
            return
        self._check_new(folder, new_name)
        self.changes.append(Renamed(self._path(folder, name), new_name))
        children = self.nodes[folder].children
        number = children[name]
        renamed = {new_name if key == name else key: value for key, value in children.items()}
        self.nodes[folder].children = renamed
        if self._above.get(number) == (folder, name):
            self._above[number] = folder, new_name

    def remove(self, folder: int, name: bytes) -> None:
        """Removes a name; folders must be empty."""
        editing.check_removable(self, editing.get_entry(self, folder, name))
        self.remove_tree(folder, name)

    def remove_tree(self, folder: int, name: bytes) -> int:
        """Removes a name and all beneath it but devices and sockets; returns how many went."""
        number = editing.get_entry(self, folder, name).node
        node = self.nodes[number]
        if node.kind in (Kind.DEVICE, Kind.SOCKET):
            return 0
        removed = sum(self.remove_tree(number, child) for child in list(node.children))
        if node.children:
            return removed
        self.changes.append(Removed(self._path(folder, name)))
        del self.nodes[folder].children[name]
        node.link_count -= 1
        if self._above.get(number) == (folder, name):
            self._move_home(number)
        return removed + 1

    def set_mode(self, node: int, mode: int) -> None:
        """Sets the permission bits."""
        self.nodes[node].mode = mode

    def set_owner(self, node: int, uid: int, gid: int) -> None:
        """Sets owner and group."""
        self.nodes[node].uid, self.nodes[node].gid = uid, gid

    def finish(self) -> None:
        """There is nothing to finish."""

    def _make(self, folder: int, name: bytes, node: PlainNode) -> int:
        self._check_new(folder, name)
        return self.add(folder, name, node)

    def _check_new(self, folder: int, name: bytes) -> None:
        if not 0 < len(name) < 256 or b"/" in name or b"\0" in name or name in (b".", b".."):
            raise editing.bad_name(self, name)
        editing.check_new(self, folder, name)

    def _move_home(self, number: int) -> None:
        """A node with several names is known by another one of them now."""
        del self._above[number]
        if self.nodes[number].link_count > 0:
            for folder, item in self.nodes.items():
                for name, child in item.children.items():
                    if child == number:
                        self._above[number] = folder, name
                        return

    def _path(self, folder: int, name: bytes) -> tuple[bytes, ...]:
        parts = [name]
        while folder != self.root:
            folder, name = self._above[folder]
            parts.insert(0, name)
        return tuple(parts)
