"""A guest: the file systems of its volumes as one tree, read and changed by path.

Paths are absolute and belong to the guest. Symbolic links are resolved inside the guest only: an
absolute one starts again at the guest's root, ``..`` never leaves it, and a chain of more than
forty links is a damaged guest.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

from zeroseal.errors import DamagedError, RefusedError
from zeroseal.filesystems.driver import VolumeDriver
from zeroseal.filesystems.drivers import get_driver
from zeroseal.filesystems.tree import (
    EditableTree,
    FileTree,
    FolderEntry,
    Kind,
    NodeFacts,
    Subvolume,
)
from zeroseal.messages import guests as messages
from zeroseal.volumes.volume import Volume

MAX_LINKS = 40
MAX_TEXT_BYTES = 16 << 20
_PIECE = 1 << 20
_MOST_KEPT_BYTES, _MOST_KEPT_IN_ALL = 256 << 10, 16 << 20
_SPECIAL = (Kind.DEVICE, Kind.SOCKET)
_WILD = frozenset("*?[")


class Place(NamedTuple):
    """A node of one of the guest's file systems."""

    mount_no: int
    node: int


@dataclass(frozen=True)
class Mount:
    """A volume's tree and where the guest mounts it.

    Attributes:
        subvolume: the part of the volume that it is, where the file system has such.
        hidden: the numbers of subvolumes that its folders show as empty.
    """

    path: str
    volume: Volume
    tree: FileTree
    subvolume: Subvolume | None = None
    hidden: frozenset[int] = frozenset()

    @property
    def source(self) -> str:
        """What is mounted, in words."""
        path = self.subvolume.path if self.subvolume else ""
        return f"{self.volume.name} ({path})" if path else self.volume.name

    @property
    def driver(self) -> VolumeDriver[Any]:
        """The driver of its file system."""
        return get_driver(self.volume)


_MOST_KNOWN, _MOST_KEPT_OF_A_FOLDER = 50_000, 5_000
_MOST_TRAILS = 64


class Found(NamedTuple):
    """A resolved path: canonical form, place and kind, and the name in the folder above."""

    path: str
    place: Place
    kind: Kind
    parent: Place | None
    name: bytes


class Guest:
    """The tree of an operating system across its volumes.

    Args:
        mounts: the root (``/``) first, then the others; those whose mount point is no folder in the
            tree are left out.
        beside: volumes that are mounted nowhere in the tree, as Windows has them; their paths are
            ``/NAME:``, which no name in a folder can be.
        folds_case: whether names have no case, ``.`` hides nothing, and no link is followed.
    """

    def __init__(
        self, mounts: list[Mount], beside: Sequence[Mount] = (), folds_case: bool = False
    ) -> None:
        self.mounts: list[Mount] = [mounts[0]]
        self.folds_case = folds_case
        self._beside: dict[str, Place] = {}
        for mount in beside:
            self._beside[mount.path[1:]] = Place(len(self.mounts), mount.tree.root)
            self.mounts.append(mount)
        self._covered: dict[Place, Place] = {}
        self._trails: dict[str, list[Found]] = {}
        self._linked: dict[Place, list[str]] | None = None  # files with several names
        self._last: tuple[str, bool, Found] | None = None
        self._known: dict[tuple[Place, str], Found | None] = {}  # children that were asked for
        self._listed: dict[tuple[Place, str], list[Found]] = {}  # by folder, and the way to it
        self._listed_count = 0
        self._contents: dict[Place, bytes] = {}
        self._kept_bytes = 0
        self.mount(mounts[1:])

    def mount(self, mounts: Sequence[Mount]) -> None:
        """Mounts further volumes, where the guest has a folder for them."""
        for mount in sorted(mounts, key=lambda item: item.path.count("/")):
            point = self.find(mount.path)
            if point and point.kind is Kind.FOLDER:
                self.mounts.append(mount)
                self._covered[point.place] = Place(len(self.mounts) - 1, mount.tree.root)
                self._forget()

    @property
    def volume_mounts(self) -> list[Mount]:
        """A mount of each volume: the first where several show parts of it."""
        return list({mount.volume.name: mount for mount in reversed(self.mounts)}.values())[::-1]

    def mount_of(self, path: str) -> Mount:
        """The mount that a path lies in, by its name alone."""
        fitting = [
            mount for mount in self.mounts if f"{path}/".startswith(mount.path.rstrip("/") + "/")
        ]
        return max(fitting, key=lambda mount: len(mount.path))

    # -- finding

    def find(self, path: str, follow_last: bool = True) -> Found | None:
        """Resolves a path; None where there is nothing.

        Raises:
            DamagedError: too many symbolic links.
        """
        if self._last and self._last[:2] == (path, follow_last):
            return self._last[2]
        folder, _slash, name = path.rpartition("/")
        known = self._trails.get(folder) if name else None
        trail = list(known) if known else [self._top()]
        pending = [name] if known else [part for part in reversed(path.split("/")) if part]
        links, plain = 0, True
        while pending:
            part = pending.pop()
            if part in (".", ".."):
                plain = False
                trail = trail[:-1] or trail if part == ".." else trail
                continue
            here = trail[-1]
            if here.kind is not Kind.FOLDER:
                return None
            child = self._child(here, part)
            if child is None:
                return None
            is_last = not pending
            if child.kind is Kind.LINK and self.folds_case:
                if not is_last:
                    return None
            elif child.kind is Kind.LINK and (follow_last or not is_last):
                links, plain = links + 1, False
                if links > MAX_LINKS:
                    raise DamagedError(messages.TOO_MANY_LINKS.format(path=path))
                target = _text(self._tree(child.place).read_link(child.place.node))
                pending += [piece for piece in reversed(target.split("/")) if piece]
                if target.startswith("/"):
                    trail = trail[:1]
                continue
            trail.append(child)
        if plain and name and len(trail) > 1:
            self._remember(folder, trail[:-1])
        self._last = path, follow_last, trail[-1]
        return trail[-1]

    def forget_ways(self) -> None:
        """Names or contents were changed in a tree without the guest's knowing."""
        self._forget()
        self._contents.clear()

    def _forget(self) -> None:
        """A name came or went that ways may lead through."""
        self._trails.clear()
        self._forget_children()

    def _forget_children(self) -> None:
        """A name came or went, through which no way leads."""
        self._last = None
        self._known.clear()
        self._listed.clear()
        self._listed_count = 0

    def _remember(self, folder: str, trail: list[Found]) -> None:
        """Keeps the way to a folder: a glob asks for one name of it after the other."""
        if len(self._trails) >= _MOST_TRAILS:
            self._trails.clear()
        self._trails[folder] = trail

    def exists(self, path: str) -> bool:
        """Whether a path leads to anything."""
        return self.find(path) is not None

    def is_file(self, path: str) -> bool:
        """Whether a path leads to a regular file."""
        found = self.find(path)
        return found is not None and found.kind is Kind.FILE

    def is_folder(self, path: str) -> bool:
        """Whether a path leads to a folder."""
        found = self.find(path)
        return found is not None and found.kind is Kind.FOLDER

    def facts(self, path: str, follow_last: bool = True) -> NodeFacts:
        """A path's own data."""
        return self._facts_of(self._get(path, follow_last).place)

    def list_names(self, path: str) -> list[str]:
        """The sorted names in a folder; none where there is no folder."""
        found = self.find(path)
        if not found or found.kind is not Kind.FOLDER:
            return []
        entries = self._tree(found.place).list_folder(found.place.node)
        return sorted(_text(entry.name) for entry in entries)

    def glob(self, pattern: str) -> list[str]:
        """Canonical paths that match, sorted; ``*``, ``?``, ``[..]`` in a name, ``**`` for folders.

        A link that the last part matches is itself the result; ``**`` follows no links.
        """
        return sorted(
            {item.path for item in self._glob(self._top(), pattern.strip("/").split("/"))}
        )

    def walk(self, path: str) -> Iterator[tuple[str, NodeFacts]]:
        """Yields (path, facts) of all beneath a folder, mounts included, links in it unfollowed.

        Where the folder is reached by a link, the paths are those of the folder itself.
        """
        for found in self._walk(self._get(path)):
            yield found.path, self._facts_of(found.place)

    def count_encrypted(self, folder: str) -> int:
        """How many files beneath a folder their file system has encrypted."""
        if not self.is_folder(folder):
            return 0
        count = 0
        for found in self._walk(self._get(folder, follow_last=False)):
            mount = self.mounts[found.place.mount_no]
            count += mount.driver.is_encrypted(mount.tree, found.place.node)
        return count

    def other_names(self, path: str) -> list[str]:
        """The other names of a file that has hard links, sorted.

        All names of the guest are read at the first question about such a file.
        """
        place = self._get(path, follow_last=False).place
        if self._linked is None:
            self._linked = {}
            for found in self._walk(self._top()):
                if found.kind is Kind.FILE and self._facts_of(found.place).link_count > 1:
                    self._linked.setdefault(found.place, []).append(found.path)
        return sorted(name for name in self._linked.get(place, []) if name != path)

    def size_of(self, path: str) -> tuple[int, int]:
        """(files, bytes) of what a path is or holds."""
        facts = self.facts(path, follow_last=False)
        if facts.kind is not Kind.FOLDER:
            return 1, facts.size_bytes
        files, size = 0, 0
        for _path, item in self.walk(path):
            if item.kind is not Kind.FOLDER:
                files += 1
                size += item.size_bytes
        return files, size

    # -- reading

    def read_file(self, path: str, limit_bytes: int = MAX_TEXT_BYTES) -> bytes:
        """A file's content, or its beginning."""
        place = self._get(path).place
        kept = self._contents.get(place)
        if kept is not None:
            return kept[:limit_bytes]
        content = self._tree(place).read_file(place.node, limit_bytes)
        if len(content) < min(limit_bytes, _MOST_KEPT_BYTES):  # all of it, and little
            self._keep(place, content)
        return content

    def _keep(self, place: Place, content: bytes) -> None:
        """Keeps a small file's content: passwd and fstab are asked for by many."""
        if self._kept_bytes + len(content) > _MOST_KEPT_IN_ALL:
            self._contents.clear()
            self._kept_bytes = 0
        self._contents[place] = content
        self._kept_bytes += len(content)

    def read_text(self, path: str) -> str:
        """A text file's content; empty where there is no such file."""
        return _text(self.read_file(path)) if self.is_file(path) else ""

    def read_attributes(self, path: str) -> dict[bytes, bytes]:
        """Extended attributes, by full name."""
        place = self._get(path, follow_last=False).place
        return self._tree(place).read_attributes(place.node)

    def read_link(self, path: str) -> str:
        """Where a symbolic link points; empty where there is none."""
        found = self.find(path, follow_last=False)
        if found is None or found.kind is not Kind.LINK:
            return ""
        return _text(self._tree(found.place).read_link(found.place.node))

    def is_zero_behind(self, path: str, from_byte: int) -> bool:
        """Whether a file holds nothing but zeros from a byte on."""
        place = self._get(path).place
        mount = self.mounts[place.mount_no]
        for start, length in mount.tree.iter_content(place.node, from_byte):
            for extent in mount.volume.store.iter_extents(start, length):
                end = extent.offset_bytes + extent.length
                for offset in range(extent.offset_bytes, 0 if extent.is_zero else end, _PIECE):
                    if any(mount.volume.store.read(offset, min(_PIECE, end - offset))):
                        return False
        return True

    # -- changing; only for guests opened with editable trees

    def remove(self, path: str) -> int:
        """Removes a file, link or whole folder; returns how many names went.

        A mount point stays, and what is in it goes.

        Raises:
            RefusedError: a volume is mounted somewhere beneath it, which could not be mounted then.
        """
        found = self._get(path, follow_last=False)
        for mount in self.mounts:
            if mount.path.startswith(found.path.rstrip("/") + "/") and mount.path != found.path:
                raise RefusedError(
                    messages.MOUNTED_BELOW_REMOVED.format(
                        path=found.path, name=mount.volume.name, mount_point=mount.path
                    )
                )
        if self._is_mount_point(found.path):
            children = [child.path for child in self._children(found)]
            return sum(self.remove(child) for child in children if not self.is_lost_found(child))
        if found.kind in (Kind.FOLDER, Kind.LINK):
            self._forget()
        else:
            self._forget_children()
        assert found.parent is not None  # only the root has none, and it is a mount point
        return self._editor(found.parent).remove_tree(found.parent.node, found.name)

    def is_lost_found(self, path: str) -> bool:
        """Whether a path is the folder that a file system checker keeps for itself."""
        folder, _slash, name = path.rpartition("/")
        return name == "lost+found" and self._is_mount_point(folder or "/")

    def is_untouchable(self, path: str) -> bool:
        """Whether a path is a device or a socket, or holds nothing else, of a tree that keeps them.

        In a folder of the host they belong to processes that run.
        """
        found = self.find(path, follow_last=False)
        if found is None or self.mounts[found.place.mount_no].driver.has_volume:
            return False
        if found.kind is not Kind.FOLDER:
            return found.kind in _SPECIAL
        kinds = [item.kind for item in self._walk(found) if item.kind is not Kind.FOLDER]
        return bool(kinds) and all(kind in _SPECIAL for kind in kinds)

    def replace_content(self, path: str, content: bytes) -> None:
        """Gives a file other content."""
        place = self._get(path).place
        self._contents.pop(place, None)
        self._editor(place).replace_content(place.node, content)
        if len(content) < _MOST_KEPT_BYTES:
            self._keep(place, content)

    def zero_content(self, path: str, from_byte: int) -> None:
        """Zeroes a file's content from a byte on; its blocks stay where they are."""
        place = self._get(path).place
        self._contents.pop(place, None)
        self._editor(place).zero_content(place.node, from_byte)

    def rename(self, path: str, new_name: str) -> None:
        """Gives a file or folder another name in its folder.

        Raises:
            RefusedError: the folder has such a name already.
        """
        found = self._get(path, follow_last=False)
        assert found.parent is not None  # the root has no name
        raw = new_name.encode("utf-8", "surrogateescape")
        if self._tree(found.parent).find_child(found.parent.node, raw):
            raise RefusedError(
                messages.NEW_NAME_ALREADY_EXISTS.format(path=path, new_name=new_name)
            )
        self._forget()
        self._contents.clear()  # on some file systems it is another node then
        self._editor(found.parent).rename(found.parent.node, found.name, raw)

    def create_file(self, path: str, content: bytes, mode: int, uid: int = 0, gid: int = 0) -> None:
        """Makes a file; its folder must be there."""
        folder, name = self._get_folder_for(path)
        self._forget_children()
        node = self._editor(folder).create_file(folder.node, name, content, mode, uid, gid)
        self._contents.pop(Place(folder.mount_no, node), None)  # it may have been another's

    def put_file(self, path: str, content: bytes, mode: int) -> None:
        """Makes a file and the folders it needs, or gives one that is there other content."""
        if self.is_file(path):
            self.replace_content(path, content)
            return
        self.make_folders(path.rpartition("/")[0], 0o755)
        self.create_file(path, content, mode)

    def make_folders(self, path: str, mode: int) -> None:
        """Makes a folder and those above it that are not there."""
        if path and not self.exists(path):
            self.make_folders(path.rpartition("/")[0], mode)
            self.create_folder(path, mode)

    def create_link(self, path: str, target: str) -> None:
        """Makes a symbolic link; its folder must be there."""
        folder, name = self._get_folder_for(path)
        self._forget()
        self._editor(folder).create_link(folder.node, name, target.encode())

    def create_folder(self, path: str, mode: int, uid: int = 0, gid: int = 0) -> None:
        """Makes an empty folder; the one above must be there."""
        folder, name = self._get_folder_for(path)
        self._forget()
        self._editor(folder).create_folder(folder.node, name, mode, uid, gid)

    def check_editable(self) -> None:
        """Raises ImageError or RefusedError where a volume can be read but not changed."""
        for mount in self.mounts:
            mount.driver.check_editable(mount.tree)

    def start_editing(self, now: int, zero_removed: bool = True) -> None:
        """Opens all volumes for changing; what was written beneath their trees is seen.

        Args:
            now: the time that changes are given, seconds since 1970.
            zero_removed: whether content that goes is zeroed.

        Raises:
            ImageError, RefusedError: a volume cannot be changed.
        """
        editors: dict[str, EditableTree] = {}
        for number, mount in enumerate(self.mounts):
            name, driver = mount.volume.name, mount.driver
            if name not in editors:
                editors[name] = driver.edit(mount.tree, now, zero_removed)
            tree = editors[name]
            if mount.subvolume:
                tree = driver.view(tree, mount.subvolume.node, mount.hidden)
            self.mounts[number] = replace(mount, tree=tree)
        self._forget()
        self._linked = None

    def editor_of(self, mount: Mount) -> EditableTree:
        """The tree of a mounted volume, to be changed itself."""
        self._contents.clear()
        return self._editor(Place(self.mounts.index(mount), mount.tree.root))

    def finish(self) -> None:
        """Brings all changes to the volumes."""
        for mount_no in range(len(self.mounts)):
            self._editor(Place(mount_no, 0)).finish()

    # -- inside

    def _get(self, path: str, follow_last: bool = True) -> Found:
        found = self.find(path, follow_last)
        if found is None:
            raise DamagedError(messages.NOT_FOUND_IN_GUEST.format(path=path))
        return found

    def _get_folder_for(self, path: str) -> tuple[Place, bytes]:
        folder, _slash, name = path.rpartition("/")
        return self._get(folder or "/").place, name.encode("utf-8", "surrogateescape")

    def _tree(self, place: Place) -> FileTree:
        return self.mounts[place.mount_no].tree

    def _editor(self, place: Place) -> EditableTree:
        tree = self._tree(place)
        if not hasattr(tree, "finish"):
            raise TypeError("the guest was opened for reading")
        return tree  # type: ignore[return-value]  # an EditableTree is a FileTree with finish()

    def _facts_of(self, place: Place) -> NodeFacts:
        return self._tree(place).get_facts(place.node)

    def _is_mount_point(self, path: str) -> bool:
        return any(mount.path == path for mount in self.mounts)

    def _top(self) -> Found:
        return Found("/", Place(0, self.mounts[0].tree.root), Kind.FOLDER, None, b"")

    def _child(self, folder: Found, name: str) -> Found | None:
        if folder.parent is None and name in self._beside:
            return self._top_of(name)
        key = folder.place, f"{folder.path}/{name}"
        if key not in self._known:
            if len(self._known) >= _MOST_KNOWN:
                self._known.clear()
            raw = name.encode("utf-8", "surrogateescape")
            entry = self._tree(folder.place).find_child(folder.place.node, raw)
            self._known[key] = self._found(folder, entry) if entry else None
        return self._known[key]

    def _top_of(self, name: str) -> Found:
        """The topmost folder of a volume that stands beside the tree."""
        return Found(f"/{name}", self._beside[name], Kind.FOLDER, None, b"")

    def _children(self, folder: Found) -> list[Found]:
        key = folder.place, folder.path
        found = self._listed.get(key)
        if found is None:
            entries = self._tree(folder.place).list_folder(folder.place.node)
            found = [self._found(folder, entry) for entry in entries]
            if len(found) <= _MOST_KEPT_OF_A_FOLDER:
                if self._listed_count >= _MOST_KNOWN:
                    self._listed.clear()
                    self._listed_count = 0
                self._listed[key] = found
                self._listed_count += len(found)
        return found

    def _found(self, folder: Found, entry: FolderEntry) -> Found:
        own = Place(folder.place.mount_no, entry.node)
        path = f"{folder.path.rstrip('/')}/{_text(entry.name)}"
        return Found(path, self._covered.get(own, own), entry.kind, folder.place, entry.name)

    def _walk(self, top: Found) -> Iterator[Found]:
        pending, seen = [top], {top.place}
        while pending:
            for child in self._children(pending.pop()):
                yield child
                if child.kind is Kind.FOLDER:
                    if child.place in seen:
                        raise DamagedError(messages.FOLDER_CONTAINS_ITSELF.format(path=child.path))
                    seen.add(child.place)
                    pending.append(child)

    def _glob(self, folder: Found, parts: list[str]) -> Iterator[Found]:
        """Matches the parts below a folder; links are followed only on the way to further parts."""
        part, rest = parts[0], parts[1:]
        if part == "**":
            if rest:
                yield from self._glob(folder, rest)
            for item in list(self._walk(folder)):
                if not rest:
                    yield item
                elif item.kind is Kind.FOLDER:
                    yield from self._glob(item, rest)
            return
        for item in self._matches(folder, part):
            if not rest:
                yield item
                continue
            below = self.find(item.path) if item.kind is Kind.LINK else item
            if below and below.kind is Kind.FOLDER:
                yield from self._glob(below, rest)

    def _matches(self, folder: Found, part: str) -> Iterator[Found]:
        if not _WILD & set(part):
            child = self._child(folder, part)
            if child:
                yield child
            return
        if folder.parent is None and part.endswith(":"):
            yield from (self._top_of(name) for name in self._beside if self._fits(name, part))
            return
        for child in self._children(folder):
            name = _text(child.name)
            hidden = name.startswith(".") and not part.startswith(".") and not self.folds_case
            if not hidden and self._fits(name, part):
                yield child

    def _fits(self, name: str, part: str) -> bool:
        if self.folds_case:
            name, part = name.upper(), part.upper()
        return fnmatch.fnmatchcase(name, part)


def _text(raw: bytes) -> str:
    """Names and texts of the guest; bytes that are no UTF-8 survive a round trip."""
    return raw.decode("utf-8", "surrogateescape")
