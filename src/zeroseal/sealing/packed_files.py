"""Looking for values inside compressed files that stay: the bytes on the disk do not show them.

gzip, bzip2, xz, zstd and zip are opened, and so are initramfs archives: an uncompressed archive
with microcode may stand before the compressed one (kernel, ``driver-api/early-userspace``). What
packages brought is not opened, because it is the same on every machine. Everything is bounded: a
small file can hold a very large one.
"""

from __future__ import annotations

import bz2
import io
import lzma
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass

import zstandard

from zeroseal.blocks.search import Searcher
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest
from zeroseal.progress import Progress, Step
from zeroseal.sealing.common_words import ShippedFiles
from zeroseal.sealing.values import ValueSet

_NAMES = (".gz", ".tgz", ".bz2", ".xz", ".txz", ".lzma", ".zst", ".zip", ".jar", ".img", ".cpio")
_PLACES = ("/boot", "/etc", "/home", "/opt", "/root", "/srv", "/usr/local", "/var")
_PIECE_BYTES = 16 << 20
_LONGEST_FILE = 512 << 20
_LONGEST_CONTENT = 1 << 30
_CPIO_END = b"TRAILER!!!\0"
_CPIO_MAGICS = (b"070701", b"070702")


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


def search_packed_files(guest: Guest, values: ValueSet, progress: Progress) -> PackedResult:
    """Searches inside the compressed files that packages did not bring."""
    searcher = Searcher(values.needles)
    shipped = ShippedFiles(guest)
    found: dict[tuple[str, str], None] = {}
    not_opened, opened = [], 0
    for path in _iter_packed(guest):
        if shipped.holds(path) or not searcher.longest:
            continue
        progress(Step("opening compressed files", opened, 0, "files", path))
        opened += 1
        try:
            for number in _find_inside(guest.read_file(path, _LONGEST_FILE), searcher):
                found[values.values[number].label, path] = None
        except _ERRORS as error:
            not_opened.append(f"{path} could not be opened to search inside it ({error}).")
    return PackedResult(tuple(found), opened, tuple(not_opened))


_ERRORS = (OSError, EOFError, ValueError, zlib.error, lzma.LZMAError, zipfile.BadZipFile,
           zstandard.ZstdError, NotImplementedError, RuntimeError)  # fmt: skip


def _iter_packed(guest: Guest) -> Iterator[str]:
    for place in _PLACES:
        if not guest.is_folder(place):
            continue
        for path, facts in guest.walk(place):
            name = path.rpartition("/")[2]
            is_packed = name.endswith(_NAMES) or name.startswith(("initrd", "initramfs"))
            if facts.kind is Kind.FILE and is_packed and facts.size_bytes:
                yield path


def _find_inside(raw: bytes, searcher: Searcher) -> set[int]:
    """The numbers of the values that stand in what a file holds."""
    found: set[int] = set()
    rest, total = b"", 0
    for piece in _unpack(_after_archives(raw)):
        total += len(piece)
        if total > _LONGEST_CONTENT:
            raise ValueError("it holds more than 1 GiB")
        window = rest + piece
        found |= {number for _offset, number in searcher.find(window, len(window))}
        rest = window[-searcher.longest :]
    return found


def _after_archives(raw: bytes) -> bytes:
    """What stands behind uncompressed archives at the beginning of an initramfs."""
    while raw.startswith(_CPIO_MAGICS):
        end = raw.find(_CPIO_END)
        if end < 0:
            return b""
        raw = raw[end + len(_CPIO_END) :].lstrip(b"\0")
    return raw


def _unpack(raw: bytes) -> Iterator[bytes]:
    if raw.startswith(b"\x1f\x8b"):
        yield from _unpack_gzip(raw)
    elif raw.startswith(b"BZh"):
        with bz2.BZ2File(io.BytesIO(raw)) as file:
            yield from _read_pieces(file)
    elif raw.startswith((b"\xfd7zXZ\0", b"\x5d\0\0")):
        with lzma.LZMAFile(io.BytesIO(raw)) as file:
            yield from _read_pieces(file)
    elif raw.startswith(b"\x28\xb5\x2f\xfd"):
        reader = zstandard.ZstdDecompressor().stream_reader(raw, read_across_frames=True)
        yield from _read_pieces(reader)
    elif raw.startswith(b"PK\x03\x04"):
        with zipfile.ZipFile(io.BytesIO(raw)) as archive:
            for name in archive.namelist():
                with archive.open(name) as member:
                    yield from _read_pieces(member)
    elif raw.startswith((b"\x02!L\x18", b'\x04"M\x18')):
        raise ValueError("it is packed with lz4")


def _unpack_gzip(raw: bytes) -> Iterator[bytes]:
    """Members one after the other; what follows the last one is padding."""
    while raw.startswith(b"\x1f\x8b"):
        inflater = zlib.decompressobj(31)
        pending = raw
        while not inflater.eof:
            piece = inflater.decompress(pending, _PIECE_BYTES)
            pending = inflater.unconsumed_tail
            if piece:
                yield piece
            elif not pending and not inflater.eof:
                raise EOFError("it ends too early")
        raw = inflater.unused_data.lstrip(b"\0")


def _read_pieces(reader: object) -> Iterator[bytes]:
    while piece := reader.read(_PIECE_BYTES):  # type: ignore[attr-defined]
        yield piece
