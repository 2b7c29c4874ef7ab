"""Copying a large file in pieces, so that a copy that was cut off goes on where it ended.

Beside the copy lies a list with the hash of each piece that was written: what a crash of the host
left of a piece is not believed. Pieces of zeros are holes.
"""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from blake3 import blake3

from zeroseal.errors import InUseError, environment_error
from zeroseal.images.copying import share_blocks
from zeroseal.images.host_file import HostFile
from zeroseal.images.locks import try_lock
from zeroseal.messages import images as messages
from zeroseal.progress import Progress, Step, quiet

_PIECE_BYTES = 8 << 20
_LIST = "pieces.jsonl"


def copy_resumed(source: Path, folder: Path, name: str, progress: Progress = quiet) -> Path:
    """Copies a file into a folder, which is kept when that is cut off; returns the copy.

    Args:
        source: the file; it must not change from one attempt to the next.
        folder: made where it is not there; nobody else may fill it at the same time.
        name: of the copy in it.
        progress: told of the bytes; raising from it ends the copy, to be resumed.

    Raises:
        MissingError: the source cannot be read.
        InUseError: another command fills the folder.
        UnfinishedError: no space, or another failure of the host; what was copied stays.
    """
    target = folder / name
    reading = HostFile(source)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with _held(folder) as listing:
            flags = os.O_RDWR | os.O_CREAT | getattr(os, "O_BINARY", 0)
            descriptor = os.open(target, flags, 0o600)
            with contextlib.closing(HostFile(target, descriptor, writable=True)) as writing:
                if writing.size_bytes or not share_blocks(reading, writing):
                    _copy(reading, writing, listing, _stamp(source), progress)
                writing.flush()
    except OSError as error:
        raise environment_error(error, target, "writing") from error
    finally:
        reading.close()
    return target


def _copy(
    source: HostFile, target: HostFile, listing: IO[bytes], stamp: str, progress: Progress
) -> None:
    size = source.size_bytes
    known = _read_list(listing, stamp)
    if not known:
        listing.truncate(0)
        listing.write(json.dumps({"source": stamp}).encode() + b"\n")
        target.resize(0)  # so that holes are holes
    if target.size_bytes != size:
        target.resize(size)
    for start in range(0, size, _PIECE_BYTES):
        length = min(_PIECE_BYTES, size - start)
        number = start // _PIECE_BYTES
        progress(Step("copying", start, size, "bytes"))
        if known.get(number) == blake3(target.read(start, length)).hexdigest():
            continue
        piece = source.read(start, length)
        if any(piece) or number in known:
            target.write(start, piece)
        line = {"piece": number, "blake3": blake3(piece).hexdigest()}
        listing.write(json.dumps(line).encode() + b"\n")
        listing.flush()
    progress(Step("copying", size, size, "bytes"))


def _read_list(listing: IO[bytes], stamp: str) -> dict[int, str]:
    """The pieces that were copied of this very file; a line that was cut off is none."""
    listing.seek(0)
    found: dict[int, str] = {}
    for number, line in enumerate(listing.read().split(b"\n")):
        try:
            value = json.loads(line)
            if number == 0:
                if value["source"] != stamp:
                    return {}
            else:
                found[int(value["piece"])] = str(value["blake3"])
        except (ValueError, KeyError, TypeError):
            if number == 0:
                return {}
    return found


def _stamp(source: Path) -> str:
    facts = source.stat()
    return f"{facts.st_size}:{facts.st_mtime_ns}"


@contextlib.contextmanager
def _held(folder: Path) -> Iterator[IO[bytes]]:
    """The list, whose lock keeps others away; the system lets go of it however we end."""
    with (folder / _LIST).open("a+b") as listing:
        if not try_lock(listing.fileno()):
            raise InUseError(messages.BEING_FILLED.format(folder=folder), path=str(folder))
        yield listing
