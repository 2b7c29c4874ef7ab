"""Opening an image by its signature, with everything it is made of: extents, parents, archives."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from zeroseal.errors import DamagedError, MissingError, UnsupportedError
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.host_file import HostFile
from zeroseal.images.image import Image
from zeroseal.images.parents import ParentOpener
from zeroseal.images.raw import RawImage
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.images.recognise import detect_format, is_descriptor
from zeroseal.images.redo_head import check_no_journal
from zeroseal.messages import images as messages

MAX_CHAIN = 64


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
            image.at_snapshot(snapshot)
        except BaseException:
            image.close()
            raise
    return image


def _open_chain(path: Path, above: list[Path], reach: Reach) -> Image:
    resolved = path.resolve()
    if resolved in above:
        raise UnsupportedError(messages.BACKING_CHAIN_CONTAINS_LOOP.format(path=path))
    if len(above) >= MAX_CHAIN:
        raise UnsupportedError(
            messages.BACKING_CHAIN_TOO_LONG.format(path=path, max_chain=MAX_CHAIN)
        )
    file = _open_file(path)
    try:
        if above:
            reach.check_followed(above[-1], file)
        check_no_journal(path)
        if not file.size_bytes:
            raise UnsupportedError(messages.EMPTY_NO_DISK_IMAGE.format(path=path), path=str(path))
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
            messages.FORMAT_DIFFERS.format(
                path=file.path, format_name=reach.format_name, found=found
            ),
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
            raise UnsupportedError(messages.DISK_NEEDS_FILES_OUTSIDE.format(path=file.path))
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
        # few images need more than one of these
        case "qcow2":
            return _open_qcow2(file, open_extent, open_parent)
        case "vhdx":
            from zeroseal.images.vhdx.read import open_vhdx

            return open_vhdx(file, open_parent)
        case "vmdk":
            from zeroseal.images.vmdk.read import open_vmdk

            return open_vmdk(file, open_extent, open_parent)
        case "vdi":
            from zeroseal.images.vdi.read import VdiImage

            return VdiImage(file)
        case "ova":
            from zeroseal.images.ova.read import open_package

            return open_package(file, _open_packaged, _open_file)
        case "vhd":
            from zeroseal.images.vhd.read import open_vhd

            return open_vhd(file, open_parent)
        case _:
            return RawImage(file)


def _open_packaged(file: ContainerFile) -> Image:
    """The disk of a package may not reach for files outside it."""
    if is_descriptor(file):
        raise UnsupportedError(messages.NOT_COMPLETE_DISK_IN_ONE_FILE.format(path=file.path))
    if detect_format(file) == "qcow2":
        from zeroseal.images.qcow2.read import Qcow2Image

        image = Qcow2Image(file)
        if image.backing_name or image.data_file_name:
            raise UnsupportedError(messages.DISK_NEEDS_FILES_OUTSIDE.format(path=file.path))
        return image
    return open_container(file, [file.path.resolve()], alone=True)


def _open_qcow2(
    file: ContainerFile,
    open_file: Callable[[Path], ContainerFile],
    open_parent: ParentOpener,
) -> Image:
    from zeroseal.images.qcow2.read import Qcow2Image

    image = Qcow2Image(file)
    if image.data_file_name:
        image.data_file = open_file(_data_file_path(file.path, image.data_file_name))
    name, format_name = image.backing_name, image.backing_format
    if not name:
        return image
    if name.startswith("json:") or "\0" in name:
        raise UnsupportedError(
            messages.BACKING_NAME_NOT_SUPPORTED.format(path=file.path, name=name)
        )
    backing_path = file.path.parent / name.removeprefix("file:")
    if not backing_path.is_file() and not backing_path.is_block_device():
        raise MissingError(
            messages.BACKING_FILE_NOT_FOUND.format(path=file.path, backing_path=backing_path),
            path=str(backing_path),
        )
    image.backing = open_parent(backing_path, format_name or None)
    return image


def _data_file_path(path: Path, name: str) -> Path:
    place = path.parent / name
    if not place.is_file():
        raise MissingError(
            messages.EXTERNAL_DATA_FILE_NOT_FOUND.format(path=path, place=place), path=str(place)
        )
    return place
