"""Making a new image in a container format, from its contents in order."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from zeroseal.errors import UsageError
from zeroseal.images.compression import COMPRESSIONS, SMALL, ZSTD, packing_in_order
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import WritableImage
from zeroseal.images.ova.descriptor import Appliance
from zeroseal.images.ova.manifest import Signer
from zeroseal.images.ova.write import OvaWriter
from zeroseal.images.qcow2 import layout as qcow2_layout
from zeroseal.images.qcow2.compression import WINDOW_BITS
from zeroseal.images.qcow2.write import WritableQcow2
from zeroseal.images.raw import RawImage
from zeroseal.images.vdi.write import WritableVdi
from zeroseal.images.vhd.write import WritableFixedVhd, WritableVhd
from zeroseal.images.vhdx.write import WritableVhdx
from zeroseal.images.vmdk.stream import StreamWriter
from zeroseal.images.vmdk.write import WritableVmdk
from zeroseal.messages import images as messages

FORMATS = ("raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi", "ova")
_COMPRESSED = ("qcow2", "vmdk", "ova")
_FIXED = ("vhdx", "vhd", "vdi")


@dataclass(frozen=True)
class ContainerSpec:
    """What a new image is to be.

    Attributes:
        format_name: one of ``FORMATS``.
        compress: how clusters are compressed in qcow2, grains in the stream-optimized form of
            VMDK: one of ``COMPRESSIONS``, or empty for not at all.
        fixed: every block in its place: VHDX, VHD, VDI.
        preallocate: take the room for the whole disk on the host before writing: raw, or fixed.
        appliance: the machine that an OVA describes, and ``signer`` who signs its manifest.

    Raises:
        UsageError: these do not go together.
    """

    format_name: str
    compress: str = ""
    fixed: bool = False
    preallocate: bool = False
    appliance: Appliance | None = None
    signer: Signer | None = None

    def __post_init__(self) -> None:
        name = self.format_name
        if name not in FORMATS:
            raise UsageError(
                messages.FORMAT_NOT_KNOWN.format(name=name, formats=", ".join(FORMATS))
            )
        if self.compress and self.compress not in COMPRESSIONS:
            raise UsageError(
                messages.COMPRESSION_NOT_KNOWN.format(
                    compress=self.compress, compressions=", ".join(COMPRESSIONS)
                )
            )
        if self.compress == ZSTD and name != "qcow2":
            raise UsageError(messages.ZSTD_NEEDS_QCOW2.format(name=name))
        if self.compress and name not in _COMPRESSED:
            raise UsageError(messages.IMAGE_CANNOT_BE_COMPRESSED.format(name=name))
        if self.fixed and name not in _FIXED:
            raise UsageError(messages.NO_FIXED_FORM.format(name=name, fixed=", ".join(_FIXED)))
        if self.preallocate and name != "raw" and not self.fixed:
            raise UsageError(messages.PREALLOCATE_NOT_SUPPORTED)


class ImageWriter(Protocol):
    """Takes the data of a new image in ascending order; what is not given reads as zeros."""

    granule_bytes: int

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        """Puts data; offsets are multiples of ``granule_bytes``, and only the last may be short."""

    def finish(self) -> None:
        """Completes the container."""


def create_image(
    file: ContainerFile, spec: ContainerSpec, size_bytes: int, name: str
) -> ImageWriter:
    """Begins a new image in an empty file; ``name`` is what the file will be called.

    Raises:
        UnsupportedError: the format cannot hold a disk of this size.
    """
    if spec.preallocate:
        file.reserve(size_bytes)
    match spec.format_name:
        case "raw":
            file.resize(size_bytes)
            return _Writer(RawImage(file, size_bytes))
        case "qcow2":
            if spec.compress:
                return _CompressingWriter(file, size_bytes, spec.compress)
            return _Writer(WritableQcow2.create(file, size_bytes))
        case "vmdk":
            if spec.compress:
                return StreamWriter(file, size_bytes, name, spec.compress)
            return _Writer(WritableVmdk.create(file, size_bytes, name))
        case "vhdx":
            return _Writer(WritableVhdx.create(file, size_bytes, spec.fixed))
        case "vhd":
            kind = WritableFixedVhd if spec.fixed else WritableVhd
            return _Writer(kind.create(file, size_bytes))
        case "vdi":
            return _Writer(WritableVdi.create(file, size_bytes, spec.fixed))
    appliance = spec.appliance or Appliance(Path(name).stem)
    return OvaWriter(file, size_bytes, appliance, spec.signer, spec.compress or SMALL)


class _Writer:
    granule_bytes = 65536

    def __init__(self, image: WritableImage) -> None:
        self._image = image

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        self._image.write(offset_bytes, data)

    def finish(self) -> None:
        self._image.flush()


class _CompressingWriter:
    """Compresses clusters on all processors; they are stored in order."""

    granule_bytes = 65536

    def __init__(self, file: ContainerFile, size_bytes: int, compression: str) -> None:
        kind = qcow2_layout.ZSTD if compression == ZSTD else qcow2_layout.ZLIB
        self._packing = packing_in_order(compression, WINDOW_BITS)
        self._image = WritableQcow2.create(file, size_bytes, compression=kind)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        size = self.granule_bytes
        for start in range(0, len(data), size):
            cluster = bytes(data[start : start + size]).ljust(size, b"\0")
            for due in self._packing.add((offset_bytes + start, cluster)):
                self._store(*due)

    def finish(self) -> None:
        for due in self._packing.finish():
            self._store(*due)
        self._packing.close()
        self._image.flush()

    def _store(self, offset: int, cluster: bytes, packed: bytes) -> None:
        if len(packed) < len(cluster):
            self._image.write_compressed(offset, packed)
        else:
            stored = min(len(cluster), self._image.size_bytes - offset)
            self._image.write(offset, cluster[:stored])
