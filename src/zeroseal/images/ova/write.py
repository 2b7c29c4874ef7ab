"""Writing an OVA in one go: the disk is compressed and hashed on its way into the archive.

The descriptor comes first in the archive and says how long the disk's file is, which is known last:
room is kept for it, and it is filled in at the end, with blanks behind it.
"""

from __future__ import annotations

import hashlib
import tarfile
from collections.abc import Iterator

from zeroseal.blocks.store import Extent
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.ova.descriptor import Appliance, DescribedDisk, build_descriptor
from zeroseal.images.ova.manifest import Signer
from zeroseal.images.vmdk.stream import StreamWriter

_BLOCK = 512
_DESCRIPTOR_ROOM = 16 << 10
_RECORD_BYTES = 10240


class OvaWriter:
    """Takes the disk's data in ascending order, in whole grains; only the last may be short."""

    def __init__(
        self,
        file: ContainerFile,
        size_bytes: int,
        appliance: Appliance,
        signer: Signer | None,
        compression: str,
    ) -> None:
        self._file = file
        self._disk_bytes = size_bytes
        self._appliance, self._signer = appliance, signer
        self._disk_name = f"{appliance.name}-disk1.vmdk"
        self._member = _HashedMember(file, _BLOCK + _DESCRIPTOR_ROOM + _BLOCK)
        self._stream = StreamWriter(self._member, size_bytes, self._disk_name, compression)
        self.granule_bytes = self._stream.granule_bytes

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        """Takes data."""
        self._stream.write(offset_bytes, data)

    def finish(self) -> None:
        """Completes the disk, then fills in what depends on it."""
        self._stream.finish()
        member = self._member
        header_at = member.start - _BLOCK
        self._file.write(header_at, self._header(self._disk_name, member.size_bytes))
        ovf_name, mf_name = f"{self._appliance.name}.ovf", f"{self._appliance.name}.mf"
        disk = DescribedDisk(self._disk_name, member.size_bytes, self._disk_bytes)
        text = build_descriptor(self._appliance, (disk,)).ljust(_DESCRIPTOR_ROOM, b"\n")
        self._file.write(0, self._header(ovf_name, len(text)) + text)
        manifest = (
            f"SHA256({ovf_name})= {hashlib.sha256(text).hexdigest()}\n"
            f"SHA256({self._disk_name})= {member.hasher.hexdigest()}\n"
        ).encode()
        position = member.start + -(-member.size_bytes // _BLOCK) * _BLOCK
        position = self._put(position, mf_name, manifest)
        if self._signer:
            name = f"{self._appliance.name}.cert"
            position = self._put(position, name, self._signer.sign(mf_name, manifest))
        self._file.resize(-(-(position + 2 * _BLOCK) // _RECORD_BYTES) * _RECORD_BYTES)

    def _put(self, position: int, name: str, content: bytes) -> int:
        padded = content.ljust(-(-len(content) // _BLOCK) * _BLOCK, b"\0")
        self._file.write(position, self._header(name, len(content)) + padded)
        return position + _BLOCK + len(padded)

    def _header(self, name: str, size_bytes: int) -> bytes:
        info = tarfile.TarInfo(name)
        info.size, info.mtime, info.mode = size_bytes, self._appliance.moment, 0o644
        # USTAR as the specification asks for; what it cannot say is a size of 8 GiB and more
        if size_bytes < 8 << 30:
            return info.tobuf(tarfile.USTAR_FORMAT)
        return info.tobuf(tarfile.GNU_FORMAT)


class _HashedMember(ContainerFile):
    """A member of the archive that is written from front to back."""

    def __init__(self, file: ContainerFile, start: int) -> None:
        self._file, self.start = file, start
        self.path = file.path
        self.size_bytes = 0
        self.hasher = hashlib.sha256()

    def read(self, offset_bytes: int, length: int) -> bytes:
        self.check_range(offset_bytes, length)
        return self._file.read(self.start + offset_bytes, length)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:
        self.check_range(offset_bytes, length)
        yield Extent(offset_bytes, length, is_zero=False)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        if offset_bytes != self.size_bytes:
            raise TypeError("a member of an archive is written from front to back")
        self.hasher.update(data)
        self._file.write(self.start + offset_bytes, data)
        self.size_bytes += len(data)
