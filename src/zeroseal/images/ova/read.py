"""Reading OVA archives, and OVF descriptors with their files beside them."""

from __future__ import annotations

import tarfile
import tempfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO

from zeroseal.blocks.store import Extent
from zeroseal.errors import (
    DamagedError,
    MissingError,
    RefusedError,
    UnsupportedError,
    environment_error,
)
from zeroseal.images.container_file import ContainerFile, FileSlice
from zeroseal.images.host_file import HostFile
from zeroseal.images.image import Image
from zeroseal.images.ova import manifest as manifests
from zeroseal.images.ova.descriptor import MAX_BYTES, PackagedDisk, parse_descriptor
from zeroseal.images.recognise import is_ova
from zeroseal.messages import images as messages

_MOST_MEMBERS = 1000
_PIECE_BYTES = 1 << 20

# Opens the container that lies in a file of the package.
InnerOpener = Callable[[ContainerFile], Image]
# Opens a file beside a descriptor, with its locks.
FileOpener = Callable[[Path], ContainerFile]


def open_package(file: ContainerFile, open_inner: InnerOpener, open_file: FileOpener) -> OvaImage:
    """Opens the disk of a package, whose manifest is verified first.

    Raises:
        DamagedError: the package contradicts itself, or its manifest.
        MissingError: a file of it is not there.
        UnsupportedError: it holds no disk, several, or one of a kind that we do not read.
    """
    archive = is_ova(file.read(0, min(512, file.size_bytes)))
    members = _members(file) if archive else _Beside(file, open_file)
    name = next((name for name in members.names if name.lower().endswith(".ovf")), None)
    if name is None:
        raise UnsupportedError(messages.TAR_ARCHIVE_WITHOUT_OVF_DESCRIPTOR.format(path=file.path))
    text = members.get(name)
    if text.size_bytes > MAX_BYTES:
        raise DamagedError(
            messages.DESCRIPTOR_TOO_LARGE.format(path=file.path, size_bytes=text.size_bytes)
        )
    disk = parse_descriptor(file.path, text.read(0, text.size_bytes))
    remarks = _verify(file.path, members, name, disk)
    inner_file = members.get(disk.file_name)
    if disk.is_gzipped:
        inner_file = _unpack(file.path, inner_file)
    image = open_inner(inner_file)
    if image.has_parent or len(image.files) > 1:
        image.close()
        raise UnsupportedError(messages.DISK_NEEDS_FILES_OUTSIDE.format(path=file.path))
    return OvaImage(file, image, disk, remarks, is_archive=archive)


class _Archive:
    """The members of a tar archive, as parts of its file."""

    def __init__(self, file: ContainerFile, places: dict[str, tuple[int, int]]) -> None:
        self._file, self._places = file, places
        self.names = list(places)

    def get(self, name: str) -> ContainerFile:
        if name not in self._places:
            raise MissingError(
                messages.MEMBER_NOT_IN_PACKAGE.format(path=self._file.path, name=name)
            )
        return FileSlice(self._file, *self._places[name])


class _Beside:
    """The files that lie beside a descriptor."""

    def __init__(self, file: ContainerFile, open_file: FileOpener) -> None:
        self._file, self._open = file, open_file
        stem = file.path.stem
        wanted = [file.path.name, f"{stem}.mf", f"{stem}.cert"]
        self.names = [name for name in wanted if (file.path.parent / name).is_file()]

    def get(self, name: str) -> ContainerFile:
        if name == self._file.path.name:
            return FileSlice(self._file, 0, self._file.size_bytes)
        path = self._file.path.parent / name
        home = self._file.path.resolve().parent
        if not path.resolve().is_relative_to(home):
            raise RefusedError(
                messages.MEMBER_OUTSIDE_FOLDER.format(path=self._file.path, name=name)
            )
        if not path.is_file():
            raise MissingError(
                messages.NEEDED_FILE_NOT_FOUND.format(path=self._file.path, needed=path)
            )
        return self._open(path)


def _members(file: ContainerFile) -> _Archive:
    places: dict[str, tuple[int, int]] = {}
    try:
        with tarfile.open(file.path, "r:") as archive:
            for member in archive:
                if len(places) >= _MOST_MEMBERS:
                    raise DamagedError(
                        messages.TOO_MANY_MEMBERS.format(path=file.path, most_members=_MOST_MEMBERS)
                    )
                if member.isfile() and member.offset_data + member.size <= file.size_bytes:
                    places.setdefault(
                        member.name.removeprefix("./"), (member.offset_data, member.size)
                    )
    except (tarfile.TarError, ValueError, EOFError) as error:
        raise DamagedError(
            messages.DAMAGED_TAR_ARCHIVE.format(path=file.path, error=error)
        ) from error
    except OSError as error:
        raise environment_error(error, file.path, "reading") from error
    return _Archive(file, places)


def _verify(
    path: Path, members: _Archive | _Beside, descriptor: str, disk: PackagedDisk
) -> list[str]:
    """Verifies manifest and signature; returns what is to be said of them."""
    name = next((name for name in members.names if name.lower().endswith(".mf")), None)
    if name is None:
        return [messages.PACKAGE_HAS_NO_MANIFEST]
    file = members.get(name)
    raw = file.read(0, min(file.size_bytes, manifests.MAX_BYTES))
    digests = manifests.parse_manifest(path, raw)
    for needed in (descriptor, disk.file_name):
        if needed not in digests:
            raise DamagedError(messages.MANIFEST_INCOMPLETE.format(path=path, needed=needed))
        manifests.check_digest(path, needed, members.get(needed), *digests[needed])
    signed = next((name for name in members.names if name.lower().endswith(".cert")), None)
    if signed is None:
        return [messages.PACKAGE_MATCHES_MANIFEST]
    file = members.get(signed)
    text = file.read(0, min(file.size_bytes, manifests.MAX_BYTES))
    who = manifests.check_signature(path, raw, text)
    return [messages.PACKAGE_MATCHES_SIGNED_MANIFEST.format(who=who)]


def _unpack(path: Path, packed: ContainerFile) -> ContainerFile:
    """Inflates a gzipped disk into a temporary file without a name, which is wiped in the end."""
    inflater = zlib.decompressobj(31)
    try:
        spill = tempfile.TemporaryFile(dir=path.parent, buffering=0)  # noqa: SIM115 - see below
    except OSError:
        spill = tempfile.TemporaryFile(buffering=0)  # noqa: SIM115 - WipedFile closes it
    file = _WipedFile(path, spill)
    try:
        for start in range(0, packed.size_bytes, _PIECE_BYTES):
            piece = packed.read(start, min(_PIECE_BYTES, packed.size_bytes - start))
            file.write(file.size_bytes, inflater.decompress(piece))
    except zlib.error as error:
        file.close()
        raise DamagedError(messages.GZIP_DISK_DAMAGED.format(path=path)) from error
    except BaseException:
        file.close()
        raise
    if not inflater.eof:
        file.close()
        raise DamagedError(messages.TRUNCATED_GZIP_COMPRESSED_DISK.format(path=path))
    return file


class _WipedFile(HostFile):
    """A temporary file that is overwritten with zeros when it is closed."""

    def __init__(self, path: Path, spill: IO[bytes]) -> None:
        self._spill = spill
        super().__init__(path, spill.fileno(), writable=True)

    def close(self) -> None:
        if not self._closed:
            self._closed = True
            self.wipe()
            self._spill.close()


class OvaImage(Image):
    """The disk of a package."""

    format_name = "ova"

    def __init__(
        self,
        file: ContainerFile,
        inner: Image,
        disk: PackagedDisk,
        remarks: list[str],
        is_archive: bool,
    ) -> None:
        self._file, self._inner = file, inner
        self.path = file.path
        self.size_bytes = inner.size_bytes
        kind = f"{inner.format_name}, {inner.variant}" if inner.variant else inner.format_name
        packed = ", gzipped" if disk.is_gzipped else ""
        self.variant = f"OVF {disk.envelope_version}, {kind}{packed}"
        self._remarks = remarks
        self._is_archive = is_archive

    @property
    def file(self) -> ContainerFile:  # noqa: D102 - as in Image
        return self._file

    @property
    def files(self) -> list[ContainerFile]:  # noqa: D102
        return [self._file] if self._is_archive else [self._file, *self._inner.files]

    @property
    def remarks(self) -> list[str]:  # noqa: D102
        return [*self._remarks, *self._inner.remarks]

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102
        return self._inner.read(offset_bytes, length)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        return self._inner.iter_extents(offset_bytes, length)

    def close(self) -> None:  # noqa: D102
        self._inner.close()
        self._file.close()
