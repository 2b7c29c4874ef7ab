"""Which container a file is, by its bytes; none of the containers' readers is needed for that."""

from __future__ import annotations

from pathlib import Path

from zeroseal.errors import UnsupportedError
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.qcow2 import layout as qcow2_layout
from zeroseal.images.vdi import layout as vdi_layout
from zeroseal.images.vhd import layout as vhd_layout
from zeroseal.images.vhdx import layout as vhdx_layout
from zeroseal.images.vmdk import layout as vmdk_layout
from zeroseal.messages import images as messages

_HEAD_BYTES, _SECTOR = 512, 512

# Containers that we recognise in order to name them; (offset from the start, signature, name).
_FOREIGN_SIGNATURES = (
    (0, b"COWD", "VMDK of the ESX sparse type"),
    (0, b"QFI\xfb\0\0\0\x01", "qcow version 1"),
    (0, b"QED\0", "QED"),
    (0, b"\x1f\x8b", "gzip"),
    (0, b"\xfd7zXZ\0", "xz"),
    (0, b"\x28\xb5\x2f\xfd", "zstd"),
    (0, b"PK\x03\x04", "zip"),
)


def detect_format(file: ContainerFile) -> str:
    """The name of the container that a file's bytes say it is, of ``SOURCE_FORMATS``.

    Raises:
        UnsupportedError: it is one that is known only by name.
    """
    head = _head_of(file)
    if head.startswith(qcow2_layout.MAGIC) and head[4:8] != b"\0\0\0\x01":
        return "qcow2"
    if head.startswith(vhdx_layout.FILE_SIGNATURE):
        return "vhdx"
    if head.startswith((vmdk_layout.MAGIC, vmdk_layout.DESCRIPTOR_MAGIC)):
        return "vmdk"
    if head[0x40:0x44] == vdi_layout.SIGNATURE.to_bytes(4, "little"):
        return "vdi"
    if is_ova(head) or is_ovf(file.path, head):
        return "ova"
    _refuse_foreign(file.path, head)
    return "vhd" if is_vhd(file) else "raw"


def is_ova(head: bytes) -> bool:
    """Whether a file begins like a tar archive."""
    return head[257:262] == b"ustar"


def is_ovf(path: Path, head: bytes) -> bool:
    """Whether a file is a descriptor with its files beside it."""
    return path.suffix.lower() == ".ovf" and head.lstrip(b"\xef\xbb\xbf \r\n\t").startswith(b"<")


def is_descriptor(file: ContainerFile) -> bool:
    """Whether a file only says where a disk's other files are."""
    head = _head_of(file)
    return head.startswith(vmdk_layout.DESCRIPTOR_MAGIC) or is_ova(head) or is_ovf(file.path, head)


def is_vhd(file: ContainerFile) -> bool:
    """Whether a footer, or a dynamic disk's copy of it, is there."""
    if file.size_bytes < _SECTOR:
        return False
    cookie = vhd_layout.FOOTER_COOKIE
    return file.read(0, 8) == cookie or file.read(file.size_bytes - _SECTOR, 8) == cookie


def _head_of(file: ContainerFile) -> bytes:
    return file.read(0, min(file.size_bytes, _HEAD_BYTES))


def _refuse_foreign(path: Path, head: bytes) -> None:
    for offset, signature, name in _FOREIGN_SIGNATURES:
        if head[offset : offset + len(signature)] == signature:
            raise UnsupportedError(
                messages.FILE_TYPE_NOT_SUPPORTED.format(path=path, name=name),
                format=name,
            )
