"""A tar archive of a root file system: read into a table of nodes, written anew with its changes.

Members that stay are copied with all their headers (POSIX pax, extended attributes included), in
their order. Names that lead out of the archive are refused. Source: pax(1), tar(5) of libarchive.
"""

from __future__ import annotations

import io
import tarfile
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

from zeroseal.errors import DamagedError, MissingError, UnsupportedError, ZeroSealError
from zeroseal.filesystems.plain.tree import PlainNode, PlainTree
from zeroseal.filesystems.tree import Kind
from zeroseal.messages import plain as messages

_KINDS = {
    tarfile.REGTYPE: Kind.FILE,
    tarfile.AREGTYPE: Kind.FILE,
    tarfile.CONTTYPE: Kind.FILE,
    tarfile.GNUTYPE_SPARSE: Kind.FILE,
    tarfile.DIRTYPE: Kind.FOLDER,
    tarfile.SYMTYPE: Kind.LINK,
    tarfile.CHRTYPE: Kind.DEVICE,
    tarfile.BLKTYPE: Kind.DEVICE,
    tarfile.FIFOTYPE: Kind.PIPE,
}
_XATTR = "SCHILY.xattr."
_WRITE_MODES = {".gz": "w:gz", ".tgz": "w:gz", ".xz": "w:xz", ".txz": "w:xz", ".bz2": "w:bz2"}
_MOST_MEMBERS = 5_000_000


class TarSource:
    """An opened archive and its tree."""

    def __init__(self, path: Path, now: int) -> None:
        try:
            self._archive = tarfile.open(path, "r:*")  # noqa: SIM115 - closed by close()
        except FileNotFoundError as error:
            raise MissingError(messages.NOT_FOUND.format(path=path)) from error
        except (tarfile.TarError, OSError, EOFError) as error:
            raise DamagedError(
                messages.NOT_READABLE_TAR_ARCHIVE.format(path=path, error=error)
            ) from error
        self.path = path
        self.tree = PlainTree(str(path), now)
        try:
            for member in self._archive:
                self._add(member)
        except (tarfile.TarError, OSError, EOFError) as error:
            self.close()
            raise DamagedError(
                messages.TRUNCATED_OR_DAMAGED.format(path=path, error=error)
            ) from error
        except ZeroSealError:
            self.close()
            raise

    def close(self) -> None:
        """Closes the archive."""
        self._archive.close()

    @staticmethod
    def writer_for(tree: PlainTree) -> Callable[[BinaryIO, str], None]:
        """What writes a tree as a new archive, to a file of that name."""
        return _TarWriter(tree).write

    # -- reading

    def _add(self, member: tarfile.TarInfo) -> None:
        parts = self._parts_of(member.name)
        if len(self.tree.nodes) > _MOST_MEMBERS:
            raise UnsupportedError(
                messages.TOO_MANY_MEMBERS.format(path=self.path, most_members=_MOST_MEMBERS)
            )
        if not parts:
            self._take_over(self.tree.root, member)
            return
        folder = self._folder_of(parts[:-1])
        old = self.tree.nodes[folder].children.get(parts[-1])
        if member.islnk():
            target = self._find(self._parts_of(member.linkname))
            if target is not None:
                self.tree.link(folder, parts[-1], target)
            return
        kind = _KINDS.get(member.type)
        if kind is None:
            raise UnsupportedError(
                messages.MEMBER_TYPE_NOT_SUPPORTED.format(path=self.path, name=member.name)
            )
        if old is not None and kind is Kind.FOLDER and self.tree.nodes[old].kind is Kind.FOLDER:
            self._take_over(old, member)
            return
        node = self.tree.add(
            folder,
            parts[-1],
            PlainNode(
                kind=kind,
                mode=0,
                uid=0,
                gid=0,
                size_bytes=member.size,
                changed_at=0,
                read=self._reader(member),
            ),
        )
        self._take_over(node, member)

    def _take_over(self, number: int, member: tarfile.TarInfo) -> None:
        node = self.tree.nodes[number]
        node.mode, node.uid, node.gid = member.mode & 0o7777, member.uid, member.gid
        node.changed_at, node.origin = int(member.mtime), member
        node.target = member.linkname.encode("utf-8", "surrogateescape") if member.issym() else b""
        node.attributes = {
            key[len(_XATTR) :].encode(): value.encode("utf-8", "surrogateescape")
            for key, value in member.pax_headers.items()
            if key.startswith(_XATTR)
        }

    def _reader(self, member: tarfile.TarInfo) -> Callable[[int | None], bytes]:
        def read(limit_bytes: int | None) -> bytes:
            file = self._archive.extractfile(member)
            return file.read(-1 if limit_bytes is None else limit_bytes) if file else b""

        return read

    def _parts_of(self, name: str) -> list[bytes]:
        parts = [part for part in name.split("/") if part not in ("", ".")]
        if ".." in parts:
            raise DamagedError(messages.MEMBER_LEADS_OUTSIDE.format(path=self.path, name=name))
        return [part.encode("utf-8", "surrogateescape") for part in parts]

    def _folder_of(self, parts: list[bytes]) -> int:
        number = self.tree.root
        for part in parts:
            child = self.tree.nodes[number].children.get(part)
            if child is None:
                child = self.tree.add(
                    number,
                    part,
                    PlainNode(
                        kind=Kind.FOLDER, mode=0o755, uid=0, gid=0, size_bytes=0, changed_at=0
                    ),
                )
            if self.tree.nodes[child].kind is not Kind.FOLDER:
                raise DamagedError(
                    messages.MEMBERS_BELOW_A_FILE.format(
                        path=self.path, part=part.decode("utf-8", "replace")
                    )
                )
            number = child
        return number

    def _find(self, parts: list[bytes]) -> int | None:
        number: int | None = self.tree.root
        for part in parts:
            number = None if number is None else self.tree.nodes[number].children.get(part)
        return number


class _TarWriter:
    """Writes a tree as an archive; a file of several names is written once."""

    def __init__(self, tree: PlainTree) -> None:
        self._tree = tree
        self._written: dict[int, str] = {}

    def write(self, target: BinaryIO, name: str) -> None:
        """Writes all; the name's suffix says how the archive is packed."""
        mode = _WRITE_MODES.get(Path(name).suffix, "w")
        with tarfile.open(fileobj=target, mode=mode, format=tarfile.PAX_FORMAT) as archive:  # type: ignore[call-overload]  # one of the modes above
            archive.addfile(_info_of(self._tree.nodes[self._tree.root], "."))
            self._write_folder(archive, self._tree.root, "./")

    def _write_folder(self, archive: tarfile.TarFile, folder: int, path: str) -> None:
        for entry in self._tree.list_folder(folder):
            name = f"{path}{entry.name.decode('utf-8', 'surrogateescape')}"
            node = self._tree.nodes[entry.node]
            info = _info_of(node, name)
            if node.kind is Kind.SOCKET:
                continue  # an archive cannot hold one, and it means nothing without its process
            if entry.node in self._written:
                info.type, info.linkname = tarfile.LNKTYPE, self._written[entry.node]
                archive.addfile(info)
                continue
            self._written[entry.node] = name
            if node.kind is Kind.FILE:
                content = self._tree.read_file(entry.node)
                info.size = len(content)
                archive.addfile(info, io.BytesIO(content))
            else:
                archive.addfile(info)
            if node.kind is Kind.FOLDER:
                self._write_folder(archive, entry.node, f"{name}/")


def _info_of(node: PlainNode, name: str) -> tarfile.TarInfo:
    """A member's header: with what the archive that it came from says of it."""
    info = tarfile.TarInfo(name)
    info.type = _TYPES[node.kind]
    if isinstance(node.origin, tarfile.TarInfo):
        for key in ("uname", "gname", "devmajor", "devminor"):
            setattr(info, key, getattr(node.origin, key))
        if node.kind is Kind.DEVICE:
            info.type = node.origin.type
    elif node.device:
        info.type = tarfile.BLKTYPE if node.is_block_device else tarfile.CHRTYPE
        info.devmajor, info.devminor = node.device
    info.pax_headers = {
        _XATTR + key.decode("utf-8", "surrogateescape"): value.decode("utf-8", "surrogateescape")
        for key, value in node.attributes.items()
    }
    if node.kind is Kind.LINK:
        info.linkname = node.target.decode("utf-8", "surrogateescape")
    info.mode, info.uid, info.gid, info.mtime = node.mode, node.uid, node.gid, node.changed_at
    return info


_TYPES = {
    Kind.FILE: tarfile.REGTYPE,
    Kind.FOLDER: tarfile.DIRTYPE,
    Kind.LINK: tarfile.SYMTYPE,
    Kind.PIPE: tarfile.FIFOTYPE,
    Kind.DEVICE: tarfile.CHRTYPE,
    Kind.SOCKET: tarfile.REGTYPE,
}
