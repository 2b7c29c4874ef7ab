"""Looking for values inside compressed files that stay: the bytes on the disk do not show them.

gzip, bzip2, xz, zstd, lz4 and zip are opened, the objects of git, and initramfs archives: one with
microcode as it is may stand before the packed one (kernel, ``driver-api/early-userspace``). What
packages brought is not opened, because it is the same on every machine; files of one content are
opened once. Everything is bounded: a small file can hold a very large one.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from blake3 import blake3

from zeroseal.blocks.search import Searcher
from zeroseal.errors import UnsupportedError
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.compressors import UNPACK_ERRORS, iter_unpacked
from zeroseal.guests.git_objects import is_object, iter_objects
from zeroseal.guests.linux.initramfs import skip_plain_archives
from zeroseal.guests.system import GuestSystem
from zeroseal.messages import sealing as messages
from zeroseal.progress import Progress, Step
from zeroseal.sealing.searched_value import ValueSet

_NAMES = (
    ".gz",
    ".tgz",
    ".bz2",
    ".xz",
    ".txz",
    ".lzma",
    ".zst",
    ".lz4",
    ".zip",
    ".jar",
    ".img",
    ".cpio",
)
_PIECE_BYTES = 16 << 20
_LONGEST_FILE = 512 << 20
_LONGEST_CONTENT = 1 << 30


@dataclass(frozen=True)
class PackedResult:
    """What was found inside compressed files.

    Attributes:
        found: (label of the value, path of the file), each once.
        opened: how many files were opened.
        not_opened: files that could not be, sentences.
    """

    found: tuple[tuple[str, str], ...]
    opened: int
    not_opened: tuple[str, ...]


def search_packed_files(system: GuestSystem, values: ValueSet, progress: Progress) -> PackedResult:
    """Searches inside the compressed files that packages did not bring."""
    searcher = Searcher(values.needles)
    found: dict[tuple[str, str], None] = {}
    not_opened, opened = [], 0
    known: dict[bytes, set[int]] = {}
    for path in iter_packed(system):
        if system.is_shipped(path) or not searcher.longest:
            continue
        progress(Step("decompressing files", opened, 0, "files", path))
        opened += 1
        try:
            raw = system.guest.read_file(path, _LONGEST_FILE)
            digest = blake3(raw).digest()
            if digest not in known:
                pieces = iter_objects(raw) if is_object(path) else _iter_content(raw)
                known[digest] = _find_inside(pieces, searcher, is_object(path))
            for number in known[digest]:
                found[values.values[number].label, path] = None
        except UnsupportedError as error:  # encrypted by the file system, or kept elsewhere
            not_opened.append(
                messages.COULD_NOT_READ_INSIDE.format(path=path, message=error.message)
            )
        except UNPACK_ERRORS as error:
            not_opened.append(messages.COULD_NOT_OPEN_INSIDE.format(path=path, error=error))
    return PackedResult(tuple(found), opened, tuple(not_opened))


def iter_packed(system: GuestSystem) -> Iterator[str]:
    """The compressed files that are looked into, by their names."""
    guest = system.guest
    for place in system.packed_places:
        if not guest.is_folder(place):
            continue
        for path, facts in guest.walk(place):
            name = path.rpartition("/")[2].lower()
            is_packed = name.endswith(_NAMES) or name.startswith(("initrd", "initramfs"))
            is_packed = is_packed or is_object(path)
            if facts.kind is Kind.FILE and is_packed and facts.size_bytes:
                yield path


def _iter_content(raw: bytes) -> Iterator[bytes]:
    return iter_unpacked(skip_plain_archives(raw))


def _find_inside(pieces: Iterator[bytes], searcher: Searcher, are_apart: bool) -> set[int]:
    """The numbers of the values that stand in what a file holds.

    Pieces follow one another, or are contents by themselves (``are_apart``).
    """
    found: set[int] = set()
    rest, total = b"", 0
    for piece in pieces:
        total += len(piece)
        if total > _LONGEST_CONTENT:
            raise ValueError(messages.LARGER_THAN_1_GIB)
        window = rest + piece
        found |= {number for _offset, number in searcher.find(window)}
        rest = b"" if are_apart else (rest + piece)[-searcher.longest :]
    return found
