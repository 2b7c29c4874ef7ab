"""A folder of the host that holds a root file system: read into a table, changes carried out on it.

No link is ever followed, neither in reading nor in changing: each part of a path is opened by
itself, from the folder above, and must be a folder. What is mounted at ``/proc``, ``/sys``,
``/dev`` and ``/run`` is not looked into.
"""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path

from zeroseal.errors import DamagedError, MissingError, UnsupportedError
from zeroseal.filesystems.plain.tree import (
    Made,
    PlainChange,
    PlainNode,
    PlainTree,
    Removed,
    Renamed,
    Written,
)
from zeroseal.filesystems.tree import Kind
from zeroseal.messages import plain as messages

_NOT_ENTERED = (b"proc", b"sys", b"dev", b"run")
_FOLDER_FLAGS = getattr(os, "O_DIRECTORY", 0) | getattr(os, "O_NOFOLLOW", 0) | os.O_RDONLY
_NO_FOLLOW = getattr(os, "O_NOFOLLOW", 0)
_PIECE = 1 << 20


class FolderSource:
    """A folder of the host and its tree."""

    def __init__(self, path: Path, now: int) -> None:
        if not path.is_dir():
            raise MissingError(messages.NOT_FOLDER.format(path=path))
        if os.open not in os.supports_dir_fd:
            raise UnsupportedError(messages.FOLDERS_NOT_SUPPORTED_ON_THIS_SYSTEM.format(path=path))
        self.path = path
        self.tree = PlainTree(str(path), now)
        self._seen: dict[tuple[int, int], int] = {}
        self._root_device = path.stat().st_dev
        top = self.tree.nodes[self.tree.root]
        facts = path.stat()
        top.mode, top.uid, top.gid = stat.S_IMODE(facts.st_mode), facts.st_uid, facts.st_gid
        self._read_folder(self.tree.root, ())

    def close(self) -> None:
        """Nothing is kept open."""

    def carry_out(self, changes: list[PlainChange]) -> None:
        """Makes the folder what the tree has become; done again, it does no harm."""
        for change in changes:
            with self._opened(change.path[:-1]) as folder:
                self._do(change, folder)

    # -- reading

    def _read_folder(self, number: int, path: tuple[bytes, ...]) -> None:
        pending = [(number, path)]
        while pending:
            number, path = pending.pop()
            with self._opened(path) as folder, os.scandir(folder) as entries:
                for entry in sorted(entries, key=lambda item: item.name):
                    name = os.fsencode(entry.name)
                    facts = entry.stat(follow_symlinks=False)
                    child = self._add(number, (*path, name), facts, folder)
                    is_foreign = not path and name in _NOT_ENTERED
                    is_mounted = facts.st_dev != self._root_device
                    if stat.S_ISDIR(facts.st_mode) and not (is_foreign and is_mounted):
                        pending.append((child, (*path, name)))

    def _add(self, number: int, path: tuple[bytes, ...], facts: os.stat_result, folder: int) -> int:
        known = self._seen.get((facts.st_dev, facts.st_ino))
        if known is not None and not stat.S_ISDIR(facts.st_mode):
            self.tree.link(number, path[-1], known)
            return known
        kind = _kind_of(facts.st_mode)
        node = PlainNode(
            kind=kind,
            mode=stat.S_IMODE(facts.st_mode),
            uid=facts.st_uid,
            gid=facts.st_gid,
            size_bytes=facts.st_size if kind in (Kind.FILE, Kind.LINK) else 0,
            changed_at=int(facts.st_mtime),
            read=self._reader(path),
            origin=path,
        )
        if kind is Kind.LINK:
            node.target = os.readlink(path[-1], dir_fd=folder)
        if kind is Kind.DEVICE:
            node.device = os.major(facts.st_rdev), os.minor(facts.st_rdev)
            node.is_block_device = stat.S_ISBLK(facts.st_mode)
        if kind in (Kind.FILE, Kind.FOLDER):
            node.attributes = _attributes_of(path[-1], folder)
        child = self.tree.add(number, path[-1], node)
        if facts.st_nlink > 1:
            self._seen[facts.st_dev, facts.st_ino] = child
        return child

    def _reader(self, path: tuple[bytes, ...]) -> Callable[[int | None], bytes]:
        def read(limit_bytes: int | None) -> bytes:
            with self._opened(path[:-1]) as folder:
                file = os.open(path[-1], os.O_RDONLY | _NO_FOLLOW, dir_fd=folder)
            with os.fdopen(file, "rb") as opened:
                return opened.read(-1 if limit_bytes is None else limit_bytes)

        return read

    @contextlib.contextmanager
    def _opened(self, path: tuple[bytes, ...]) -> Iterator[int]:
        """Opens a folder part by part; a link among them is an error, not a way out."""
        here = os.open(self.path, os.O_RDONLY | getattr(os, "O_DIRECTORY", 0))
        try:
            for part in path:
                below = os.open(part, _FOLDER_FLAGS, dir_fd=here)
                os.close(here)
                here = below
            yield here
        except OSError as error:
            shown = b"/".join(path).decode("utf-8", "replace")
            raise DamagedError(
                messages.CANNOT_BE_OPENED.format(shown=shown, path=self.path, error=error)
            ) from error
        finally:
            os.close(here)

    # -- changing

    def _do(self, change: PlainChange, folder: int) -> None:
        name = change.path[-1]
        match change:
            case Removed():
                _remove(folder, name)
            case Renamed(new_name=new_name):
                with contextlib.suppress(FileNotFoundError):
                    os.rename(name, new_name, src_dir_fd=folder, dst_dir_fd=folder)
            case Written(node=number, made=made):
                self._write(folder, name, self.tree.nodes[number], made)
            case Made(node=number):
                node = self.tree.nodes[number]
                with contextlib.suppress(FileExistsError):
                    if node.kind is Kind.LINK:
                        os.symlink(node.target, name, dir_fd=folder)
                    else:
                        os.mkdir(name, node.mode, dir_fd=folder)

    def _write(self, folder: int, name: bytes, node: PlainNode, made: bool) -> None:
        """Rewrites a file in its place: owner, mode, labels and other names stay."""
        flags = os.O_RDWR | _NO_FOLLOW | (os.O_CREAT if made else 0)
        file = os.open(name, flags, node.mode, dir_fd=folder)
        with os.fdopen(file, "r+b", buffering=0) as opened:
            if made:
                os.fchmod(opened.fileno(), node.mode)
            else:
                _zero(opened.fileno())
            content = node.content or b""
            opened.write(content)
            opened.truncate(len(content))
            os.fsync(opened.fileno())


def _remove(folder: int, name: bytes) -> None:
    """Removes a file or an empty folder; a file's content is overwritten first."""
    try:
        facts = os.stat(name, dir_fd=folder, follow_symlinks=False)
    except FileNotFoundError:
        return
    if stat.S_ISDIR(facts.st_mode):
        with contextlib.suppress(OSError):  # a folder with a device in it stays
            os.rmdir(name, dir_fd=folder)
        return
    if stat.S_ISREG(facts.st_mode) and facts.st_nlink == 1:
        file = os.open(name, os.O_RDWR | _NO_FOLLOW, dir_fd=folder)
        try:
            _zero(file)
            os.fsync(file)
        finally:
            os.close(file)
    os.unlink(name, dir_fd=folder)


def _attributes_of(name: bytes, folder: int) -> dict[bytes, bytes]:
    """Extended attributes of a file or folder, as far as the system shows them."""
    if not hasattr(os, "listxattr"):
        return {}
    try:
        file = os.open(name, os.O_RDONLY | _NO_FOLLOW | getattr(os, "O_NONBLOCK", 0), dir_fd=folder)
    except OSError:
        return {}
    try:
        return {os.fsencode(key): os.getxattr(file, key) for key in os.listxattr(file)}
    except OSError:
        return {}
    finally:
        os.close(file)


def _zero(file: int) -> None:
    """Overwrites a file with zeros where it lies, as far as its file system lets that happen."""
    size = os.fstat(file).st_size
    for offset in range(0, size, _PIECE):
        os.pwrite(file, bytes(min(_PIECE, size - offset)), offset)


def _kind_of(mode: int) -> Kind:
    for test, kind in (
        (stat.S_ISREG, Kind.FILE), (stat.S_ISDIR, Kind.FOLDER), (stat.S_ISLNK, Kind.LINK),
        (stat.S_ISSOCK, Kind.SOCKET), (stat.S_ISFIFO, Kind.PIPE),
    ):  # fmt: skip
        if test(mode):
            return kind
    return Kind.DEVICE
