"""Opening an image by its signature, with everything it is made of: extents, parents, archives."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from zeroseal.errors import DamagedError, MissingError, UnsupportedError, UsageError
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.host_file import HostFile
from zeroseal.images.image import Image
from zeroseal.images.ova.read import is_ova, is_ovf, open_package
from zeroseal.images.parents import ParentOpener
from zeroseal.images.qcow2 import layout as qcow2_layout
from zeroseal.images.qcow2.read import Qcow2Image
from zeroseal.images.raw import RawImage
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.images.redo import check_no_journal
from zeroseal.images.vdi import layout as vdi_layout
from zeroseal.images.vdi.read import VdiImage
from zeroseal.images.vhd.read import is_vhd, open_vhd
from zeroseal.images.vhdx import layout as vhdx_layout
from zeroseal.images.vhdx.read import open_vhdx
from zeroseal.images.vmdk import layout as vmdk_layout
from zeroseal.images.vmdk.read import open_vmdk

MAX_CHAIN = 64
_HEAD_BYTES = 512

# Containers that we recognise in order to name them; (offset from the start, signature, name).
_FOREIGN_SIGNATURES = (
    (0, b"COWD", "VMDK of an ESX host's sparse kind"),
    (0, b"QFI\xfb\0\0\0\x01", "qcow version 1"),
    (0, b"QED\0", "QED"),
    (0, b"\x1f\x8b", "gzip"),
    (0, b"\xfd7zXZ\0", "xz"),
    (0, b"\x28\xb5\x2f\xfd", "zstd"),
    (0, b"PK\x03\x04", "zip"),
)


@contextmanager
def opened_image(path: Path, snapshot: str = "", reach: Reach = OWN_FOLDER) -> Iterator[Image]:
    """Opens an image, or one of its snapshots, for reading and closes it again."""
    image = open_image(path, snapshot, reach)
    try:
        yield image
    finally:
        image.close()


def open_image(path: Path, snapshot: str = "", reach: Reach = OWN_FOLDER) -> Image:
    """Opens an image for reading; the format goes by signature, and raw is what has none.

    Args:
        path: the image file.
        snapshot: name or id of an internal snapshot to show instead of the present state.
        reach: what the user said of it: its format, and the folders that may be read for it.

    Raises:
        UsageError: there is no such snapshot.
        MissingError: the file, or one that it needs, is not there.
        InUseError: another program is writing to one of them.
        RefusedError: a parent was changed since its child was made, or what the file is, or leads
            to, may be a guest's word.
        DamagedError, UnsupportedError: the container cannot be read.
    """
    image = _open_chain(path, [], reach)
    if snapshot:
        try:
            if not isinstance(image, Qcow2Image):
                raise UsageError(f"{path} is no qcow2 image, and so has no snapshots inside")
            image.at_snapshot(snapshot)
        except BaseException:
            image.close()
            raise
    return image


def _open_chain(path: Path, above: list[Path], reach: Reach) -> Image:
    resolved = path.resolve()
    if resolved in above:
        raise UnsupportedError(f"{path} is its own backing file: the chain is a loop")
    if len(above) >= MAX_CHAIN:
        raise UnsupportedError(f"{path} has a backing chain of more than {MAX_CHAIN} files")
    file = _open_file(path)
    try:
        if above:
            reach.check_followed(above[-1], file)
        check_no_journal(path)
        if not file.size_bytes:
            raise UnsupportedError(f"{path} is empty: it holds no disk image", path=str(path))
        if reach.format_name != "raw":
            reach.check_format(path, detect_format(file), above[-1] if above else None)
        return open_container(file, [*above, resolved], reach)
    except BaseException:
        file.close()
        raise


def _open_file(path: Path) -> HostFile:
    file = HostFile(path)
    try:
        file.lock()
    except BaseException:
        file.close()
        raise
    return file


def detect_format(file: ContainerFile) -> str:
    """The name of the container that a file's bytes say it is, of ``SOURCE_FORMATS``.

    Raises:
        UnsupportedError: it is one that is known only by name.
    """
    head = file.read(0, min(file.size_bytes, _HEAD_BYTES))
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


def open_container(
    file: ContainerFile, above: list[Path], reach: Reach = OWN_FOLDER, alone: bool = False
) -> Image:
    """Opens what lies in a file: by its signature, or as the user said.

    Args:
        file: the container.
        above: the paths of its children and of itself.
        reach: what it is, and what may be read for it.
        alone: refuse a parent.

    Raises:
        ZeroSealError: as ``open_image``.
    """
    if reach.format_name == "raw":
        return RawImage(file)
    found = detect_format(file)
    if reach.format_name not in ("", found):
        raise DamagedError(
            f"{file.path} is said to be {reach.format_name}, but its first bytes are those of "
            f"{found}: correct what says so (--source-format, or the image that names this file)",
            path=str(file.path),
            expected=reach.format_name,
            got=found,
        )
    return _open_as(found, file, above, reach, alone)


def _open_as(
    format_name: str, file: ContainerFile, above: list[Path], reach: Reach, alone: bool
) -> Image:
    def open_parent(path: Path, format_name: str | None) -> Image:
        if alone:
            raise UnsupportedError(f"{file.path} holds a disk that needs files outside it")
        return _open_chain(path, above, reach.of_parent(format_name or ""))

    def open_extent(path: Path) -> ContainerFile:
        extent = _open_file(path)
        try:
            reach.check_followed(file.path, extent)
        except BaseException:
            extent.close()
            raise
        return extent

    match format_name:
        case "qcow2":
            return _open_qcow2(file, open_extent, open_parent)
        case "vhdx":
            return open_vhdx(file, open_parent)
        case "vmdk":
            return open_vmdk(file, open_extent, open_parent)
        case "vdi":
            return VdiImage(file)
        case "ova":
            return open_package(file, _open_packaged, _open_file)
        case "vhd":
            return open_vhd(file, open_parent)
        case _:
            return RawImage(file)


def _open_packaged(file: ContainerFile) -> Image:
    """The disk of a package may not reach for files outside it."""
    head = file.read(0, min(file.size_bytes, _HEAD_BYTES))
    if head.startswith(vmdk_layout.DESCRIPTOR_MAGIC) or is_ova(head) or is_ovf(file.path, head):
        raise UnsupportedError(f"{file.path} holds no disk that is whole in one file")
    if head.startswith(qcow2_layout.MAGIC):
        image = Qcow2Image(file)
        if image.backing_name or image.data_file_name:
            raise UnsupportedError(f"{file.path} holds a disk that needs files outside it")
        return image
    return open_container(file, [file.path.resolve()], alone=True)


def _open_qcow2(
    file: ContainerFile,
    open_file: Callable[[Path], ContainerFile],
    open_parent: ParentOpener,
) -> Image:
    image = Qcow2Image(file)
    if image.data_file_name:
        image.data_file = open_file(_data_file_path(file.path, image.data_file_name))
    name, format_name = image.backing_name, image.backing_format
    if not name:
        return image
    if name.startswith("json:") or "\0" in name:
        raise UnsupportedError(
            f"{file.path} names its backing file in a form we do not know: {name!r}"
        )
    backing_path = file.path.parent / name.removeprefix("file:")
    if not backing_path.is_file() and not backing_path.is_block_device():
        raise MissingError(
            f"{file.path} needs its backing file {backing_path}, which is not there: put it back, "
            "or correct the name with qemu-img rebase -u",
            path=str(backing_path),
        )
    image.backing = open_parent(backing_path, format_name or None)
    return image


def _data_file_path(path: Path, name: str) -> Path:
    place = path.parent / name
    if not place.is_file():
        raise MissingError(
            f"{path} needs its external data file {place}, which is not there", path=str(place)
        )
    return place


def _refuse_foreign(path: Path, head: bytes) -> None:
    for offset, signature, name in _FOREIGN_SIGNATURES:
        if head[offset : offset + len(signature)] == signature:
            raise UnsupportedError(
                f"{path} is a {name} file, which is not supported: unpack or convert it first",
                format=name,
            )
