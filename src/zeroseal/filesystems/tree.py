"""What every file system offers to the rooms above: a tree of numbered nodes.

A node is known by its number (an inode number); a name is bytes, as on the disk. Nothing here
follows a symbolic link: that is the guest's business, which knows where the mount points are.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum
from typing import NamedTuple, Protocol


class Kind(Enum):
    """What a node is."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"
    DEVICE = "device"
    PIPE = "pipe"
    SOCKET = "socket"
    UNKNOWN = "unknown"


class FolderEntry(NamedTuple):
    """A name in a folder."""

    name: bytes
    node: int
    kind: Kind


@dataclass(frozen=True)
class NodeFacts:
    """A node's own data.

    Attributes:
        mode: permission bits only (the lower twelve).
        size_bytes: length of a file's content or of a link's target.
        changed_at: the later of modification and status change, seconds since 1970.
    """

    kind: Kind
    mode: int
    uid: int
    gid: int
    size_bytes: int
    link_count: int
    changed_at: int


class FileTree(Protocol):
    """A file system that can be read."""

    root: int

    @property
    def where(self) -> str:
        """The volume's name, for messages."""

    def find_child(self, folder: int, name: bytes) -> FolderEntry | None:
        """The entry of that name; ``.`` and ``..`` are never found."""

    def list_folder(self, folder: int) -> list[FolderEntry]:
        """All entries but ``.`` and ``..``, in the order of the disk."""

    def get_facts(self, node: int) -> NodeFacts:
        """The node's own data."""

    def read_file(self, node: int, limit_bytes: int | None = None) -> bytes:
        """A file's content, or its first ``limit_bytes``; holes are zeros."""

    def read_link(self, node: int) -> bytes:
        """A symbolic link's target."""

    def iter_content(self, node: int, from_byte: int) -> Iterator[tuple[int, int]]:
        """Yields (offset, length) on the volume of a file's content from that byte of it on."""

    def read_attributes(self, node: int) -> dict[bytes, bytes]:
        """Extended attributes, by full name (``user.comment``)."""


@dataclass(frozen=True)
class Subvolume:
    """A part of a volume that is mounted on its own.

    Attributes:
        number: by which mount options (``subvolid=``) know it.
        path: from the topmost one, as ``subvol=`` has it; empty for that one.
        node: its topmost folder.
        snapshot_of: the number of the subvolume that it was made from; 0 for none that is there.
        is_read_only: as snapshots often are.
        is_default: whether it is mounted where no option names one.
    """

    number: int
    path: str
    node: int
    snapshot_of: int = 0
    is_read_only: bool = False
    is_default: bool = False


class EditableTree(FileTree, Protocol):
    """A file system that can be changed. Nothing is whole on the store until ``finish``.

    What each editor refuses, and with which errors, is in ``editing.py``.
    """

    def create_file(
        self, folder: int, name: bytes, content: bytes, mode: int, uid: int = 0, gid: int = 0
    ) -> int:
        """Makes a file and returns its node."""

    def create_folder(self, folder: int, name: bytes, mode: int, uid: int = 0, gid: int = 0) -> int:
        """Makes an empty folder and returns its node."""

    def create_link(self, folder: int, name: bytes, target: bytes) -> int:
        """Makes a symbolic link and returns its node."""

    def add_name(self, folder: int, name: bytes, node: int) -> None:
        """Gives a file one more name (a hard link)."""

    def replace_content(self, node: int, content: bytes) -> None:
        """Gives a file other content; owner, mode, attributes and names stay."""

    def zero_content(self, node: int, from_byte: int) -> None:
        """Zeroes a file's content from that byte on; its blocks stay where they are."""

    def rename(self, folder: int, name: bytes, new_name: bytes) -> None:
        """Gives an entry of a folder another name there."""

    def truncate(self, node: int, size_bytes: int) -> None:
        """Cuts a file, or lets it grow by a hole."""

    def remove(self, folder: int, name: bytes) -> None:
        """Removes a name; the last one takes the content with it. Folders must be empty."""

    def remove_tree(self, folder: int, name: bytes) -> int:
        """Removes a name and all beneath it; returns how many nodes went."""

    def set_mode(self, node: int, mode: int) -> None:
        """Sets the permission bits."""

    def set_owner(self, node: int, uid: int, gid: int) -> None:
        """Sets owner and group."""

    def finish(self) -> None:
        """Brings counters and bitmaps to the store; the tree may be used on."""


class Problem(NamedTuple):
    """Something that a consistency checker found wrong."""

    where: str
    what: str
