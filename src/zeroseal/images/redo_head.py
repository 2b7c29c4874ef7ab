"""The head of a redo journal: which image it is for, and where it lies.

The journal of a file lies beside it and knows it by its number (inode), so that it is found under
another name too. That of a block device lies in a folder that the user named, knows the device by
its path, and holds a digest of samples of what the change leaves alone: after a start of the host
another disk may have that path.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from pathlib import Path

from blake3 import blake3

from zeroseal.blocks.store import Extent, Store
from zeroseal.errors import RefusedError, ZeroSealError
from zeroseal.images.host_file import HostFile
from zeroseal.messages import images as messages

MAGIC = b"ZSREDO1\n"
_SUFFIX = ".redo"
_LENGTH = struct.Struct("<I")
_MAX_HEAD = 64 << 20
_SAMPLE_BYTES = 64 << 10
_MOST_SAMPLES = 256


@dataclass(frozen=True)
class Head:
    """What a journal is for.

    Attributes:
        inode: of the image, so that a journal is never laid over another file of its name.
        companion: name of a file beside the journal that comes with the change; empty for none.
        companion_text: its content.
        device: the path of a block device, whose inode says nothing; empty for a file.
        samples: digest of samples of what the change leaves alone on a device.
    """

    inode: int
    size_before: int
    size_after: int
    companion: str = ""
    companion_text: str = ""
    device: str = ""
    samples: str = ""

    def is_for(self, image: Path) -> bool:
        """Whether the image is this file, or a device of this path."""
        if not self.device:
            return not image.is_block_device() and image.stat().st_ino == self.inode
        given, own = image.absolute(), Path(self.device)
        return image.is_block_device() and (given == own or given.resolve() == own.resolve())


def journal_folder(image: Path, folder: Path | None = None) -> Path:
    """Where the journal of an image is made: beside a file, for a device where the user said.

    Without a word of the user it is looked for in the current folder, where records of devices lie.
    """
    if image.is_block_device():
        return folder or Path()
    return image.resolve().parent


def journal_path(image: Path, folder: Path | None = None) -> Path:
    """The name that the journal of a change to an image is given."""
    name = image.resolve().name
    if image.is_block_device():  # /dev/one/root and /dev/two/root are two
        name = "-".join(image.absolute().parts[1:])
    return journal_folder(image, folder) / f"{name}{_SUFFIX}"


def find_journal(image: Path, folder: Path | None = None) -> Path | None:
    """The journal of an image: by its name, or of the same image under another."""
    own = journal_path(image, folder)
    if own.is_file():
        return own
    try:
        journals = [path for path in own.parent.iterdir() if path.suffix == _SUFFIX]
        return next((path for path in journals if _is_for(path, image)), None)
    except OSError:
        return None


def pack_head(head: Head) -> bytes:
    """The journal's first bytes."""
    raw = json.dumps(asdict(head)).encode()
    return MAGIC + _LENGTH.pack(len(raw)) + raw


def read_head(journal: HostFile) -> tuple[Head, int]:
    """The head of a journal, and where its first entry begins.

    Raises:
        ValueError, TypeError: it is none.
    """
    start = len(MAGIC) + _LENGTH.size
    (length,) = _LENGTH.unpack(journal.read(len(MAGIC), _LENGTH.size))
    raw = journal.read(start, min(length, _MAX_HEAD))
    return Head(**json.loads(raw)), start + len(raw)


def samples_of(disk: Store, changes: Iterable[Extent]) -> str:
    """The digest of samples of what lies between changes, in hexadecimal.

    Args:
        disk: a device.
        changes: in order.
    """
    hasher, position, count = blake3(), 0, 0
    for extent in (*changes, Extent(disk.size_bytes, 0, is_zero=True)):
        length = min(extent.offset_bytes - position, _SAMPLE_BYTES)
        if length > 0:
            hasher.update(disk.read(position, length))
            count += 1
        if count == _MOST_SAMPLES:
            break
        position = extent.offset_bytes + extent.length
    return hasher.hexdigest()


def _is_for(path: Path, image: Path) -> bool:
    try:
        journal = HostFile(path)
    except ZeroSealError:
        return False
    try:
        is_whole = journal.size_bytes > len(MAGIC) + _LENGTH.size
        if not is_whole or journal.read(0, len(MAGIC)) != MAGIC:
            return False
        return read_head(journal)[0].is_for(image)
    except (ZeroSealError, ValueError, TypeError):
        return False
    finally:
        journal.close()


def check_no_journal(image: Path) -> None:
    """Raises RefusedError where an interrupted change waits to be finished."""
    path = find_journal(image)
    if path:
        raise RefusedError(messages.CHANGE_INTERRUPTED.format(image=image, path=path))
