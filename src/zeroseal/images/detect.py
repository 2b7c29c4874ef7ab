"""Opening an image by its signature, with its backing chain."""

from __future__ import annotations

from pathlib import Path

from zeroseal.errors import MissingError, UnsupportedError
from zeroseal.images.host_file import HostFile
from zeroseal.images.image import Image
from zeroseal.images.qcow2 import layout as qcow2_layout
from zeroseal.images.qcow2.read import Qcow2Image, read_extensions, read_header
from zeroseal.images.qcow2.write import WritableQcow2
from zeroseal.images.raw import RawImage

MAX_CHAIN = 64

# Containers that we recognise in order to name them; (offset from the start, signature, name).
_FOREIGN_SIGNATURES = (
    (0, b"KDMV", "VMDK"),
    (0, b"# Disk DescriptorFile", "VMDK descriptor"),
    (0, b"vhdxfile", "VHDX"),
    (0, b"conectix", "VHD"),
    (0x40, b"\x7f\x10\xda\xbe", "VDI"),
    (0, b"QFI\xfb\0\0\0\x01", "qcow version 1"),
    (0, b"QED\0", "QED"),
    (0, b"\x1f\x8b", "gzip"),
    (0, b"\xfd7zXZ\0", "xz"),
    (0, b"\x28\xb5\x2f\xfd", "zstd"),
    (0, b"PK\x03\x04", "zip"),
)


def open_image(path: Path) -> Image:
    """Opens an image for reading; the format goes by signature, and raw is what has none.

    Raises:
        MissingError: the file or one of its backing files is not there.
        InUseError: another program is writing to one of them.
        DamagedError, UnsupportedError: the container cannot be read.
    """
    return _open_chain(path, None, [])


def open_writable_image(path: Path) -> RawImage | WritableQcow2:
    """Opens an image to be changed in place; its backing files are opened for reading.

    Raises:
        MissingError: it, or one of its backing files, is not there or cannot be written to.
        RefusedError: another program uses it, or a change would leave something in it wrong.
    """
    reading = open_image(path)
    reading.file.close()
    file = HostFile(path, writable=True)
    try:
        file.lock()
        if isinstance(reading, Qcow2Image):
            return WritableQcow2(file, reading.backing)
        return RawImage(file)
    except BaseException:
        file.close()
        raise


def _open_chain(path: Path, format_name: str | None, above: list[Path]) -> Image:
    resolved = path.resolve()
    if resolved in above:
        raise UnsupportedError(f"{path} is its own backing file: the chain is a loop")
    if len(above) >= MAX_CHAIN:
        raise UnsupportedError(f"{path} has a backing chain of more than {MAX_CHAIN} files")
    file = HostFile(path)
    try:
        file.lock()
        head = file.read(0, min(file.size_bytes, 512))
        if not head:
            raise UnsupportedError(f"{path} is empty: it holds no disk image", path=str(path))
        if format_name == "raw":
            return RawImage(file)
        if head.startswith(qcow2_layout.MAGIC) and head[4:8] != b"\0\0\0\x01":
            return _open_qcow2(file, [*above, resolved])
        _refuse_foreign(path, head, file)
        return RawImage(file)
    except BaseException:
        file.close()
        raise


def _open_qcow2(file: HostFile, above: list[Path]) -> Image:
    header = read_header(file)
    if not header.backing_file_offset:
        return Qcow2Image(file)
    name = file.read(header.backing_file_offset, header.backing_file_size)
    extensions = read_extensions(file, header)
    format_name = extensions.get(qcow2_layout.EXTENSION_BACKING_FORMAT, b"").decode(
        "ascii", "replace"
    )
    text = name.decode("utf-8", "surrogateescape")
    if text.startswith("json:") or ("\0" in text):
        raise UnsupportedError(
            f"{file.path} names its backing file in a form we do not know: {text!r}"
        )
    backing_path = file.path.parent / text.removeprefix("file:")
    if not backing_path.is_file():
        raise MissingError(
            f"{file.path} needs its backing file {backing_path}, which is not there: put it back, "
            "or correct the name with qemu-img rebase -u",
            path=str(backing_path),
        )
    return Qcow2Image(file, _open_chain(backing_path, format_name or None, above))


def _refuse_foreign(path: Path, head: bytes, file: HostFile) -> None:
    for offset, signature, name in _FOREIGN_SIGNATURES:
        if head[offset : offset + len(signature)] == signature:
            raise UnsupportedError(
                f"{path} is a {name} file, which is not supported: unpack or convert it to raw or "
                "qcow2 first",
                format=name,
            )
    if file.size_bytes >= 512 and file.read(file.size_bytes - 512, 8) == b"conectix":
        raise UnsupportedError(
            f"{path} is a fixed VHD file, which is not supported: convert it to raw or qcow2 first",
            format="VHD",
        )
