"""How far an image may lead: what its file is taken for, and which other files are read for it.

What an image says of itself and of other files is the guest's word where the guest can write it. A
raw disk begins with whatever the guest put there, a header of another container included: so a file
that is named as raw disks are, or a device, is not taken for another container until somebody says
so. Files that a container names (backing files, extents, data files) are read where they lie in its
own folder, where they hold a disk themselves, or where the user named their folder.
"""

from __future__ import annotations

import stat
from dataclasses import dataclass, replace
from pathlib import Path

from zeroseal.errors import RefusedError, UsageError
from zeroseal.images.container_file import ContainerFile
from zeroseal.messages import images as messages

SOURCE_FORMATS = ("raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi", "ova")
_PARENT_FORMATS = {"vpc": "vhd", "host_device": "raw", "VHDX": "vhdx"}  # QEMU's names
RAW_SUFFIXES = (".raw", ".img", ".bin", ".dd")
_DISK_SIGNATURES = (
    (0, b"QFI\xfb"), (0, b"vhdxfile"), (0, b"KDMV"), (0, b"# Disk DescriptorFile"),
    (0x40, b"\x7f\x10\xda\xbe"), (0, b"conectix"), (510, b"\x55\xaa"), (512, b"EFI PART"),
    (4096, b"EFI PART"), (1080, b"\x53\xef"), (0, b"XFSB"), (512, b"LABELONE"),
)  # fmt: skip


@dataclass(frozen=True)
class Reach:
    """What the user said of an image.

    Attributes:
        format_name: the container that the file is, of ``SOURCE_FORMATS``; empty to go by its
            first bytes.
        folders: folders whose files may be read for it wherever it names them.
    """

    format_name: str = ""
    folders: tuple[Path, ...] = ()

    def and_also(self, more: Reach) -> Reach:
        """This, and what is said beside it; what is said last of the format counts."""
        return Reach(more.format_name or self.format_name, (*self.folders, *more.folders))

    def of_parent(self, format_name: str) -> Reach:
        """The same for a file that an image is made over; its child may say what it is."""
        known = _PARENT_FORMATS.get(format_name, format_name)
        return replace(self, format_name=known if known in SOURCE_FORMATS else "")

    def check_format(self, path: Path, found: str, child: Path | None = None) -> None:
        """Refuses a file that may be a raw disk into which a guest wrote another header.

        Args:
            path: the file.
            found: the container that its bytes say it is.
            child: the image that is made over it; None where the user named it.

        Raises:
            RefusedError: it is named as raw disks are, or a device, and nobody said what it is.
        """
        if self.format_name or found == "raw" or not is_named_as_raw(path):
            return
        if child:
            raise RefusedError(
                messages.BACKING_FORMAT_NOT_RECORDED.format(path=path, found=found, child=child),
                path=str(path),
                got=found,
            )
        raise RefusedError(
            messages.RAW_NAME_WITH_OTHER_FORMAT.format(path=path, found=found),
            path=str(path),
            got=found,
        )

    def check_followed(self, child: Path, file: ContainerFile) -> None:
        """Refuses a file that an image names, but that is no disk and lies elsewhere.

        Raises:
            RefusedError: its folder must be named first.
        """
        target = file.path.resolve()
        folders = (child.resolve().parent, *(folder.resolve() for folder in self.folders))
        if any(target.is_relative_to(folder) for folder in folders) or _holds_disk(file):
            return
        raise RefusedError(
            messages.FILE_OUTSIDE_FOLDER.format(child=child, target=target, parent=target.parent),
            path=str(target),
        )


OWN_FOLDER = Reach()


def is_named_as_raw(path: Path) -> bool:
    """Whether a file is one that people take for a raw disk: by its name, or as a device."""
    try:
        is_device = stat.S_ISBLK(path.stat().st_mode)
    except OSError:
        is_device = False
    return is_device or path.suffix.lower() in RAW_SUFFIXES


def check_output_name(path: Path, format_name: str) -> None:
    """Refuses to give another container the name of a raw disk.

    Raises:
        UsageError: no command would open the new file without being told what it is.
    """
    if format_name != "raw" and path.is_block_device():
        raise UsageError(messages.DEVICE_IS_RAW.format(path=path))
    if format_name != "raw" and path.suffix.lower() in RAW_SUFFIXES:
        raise UsageError(
            messages.NEW_FILE_WITH_RAW_NAME.format(
                path=path, format_name=format_name, with_suffix=path.with_suffix("." + format_name)
            )
        )


def _holds_disk(file: ContainerFile) -> bool:
    """Whether a file is a container of a disk, or begins as a raw disk does."""
    for offset, signature in _DISK_SIGNATURES:
        end = offset + len(signature)
        if end <= file.size_bytes and file.read(offset, len(signature)) == signature:
            return True
    return file.size_bytes >= 512 and file.read(file.size_bytes - 512, 8) == b"conectix"
