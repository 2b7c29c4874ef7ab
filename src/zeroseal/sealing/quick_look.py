"""A quick look at a sealed disk: only so much of it is read that a start would have shown.

Where data is stored at all is known from the container's tables. Read are the chunks that should
hold none, the beginning of the disk and of every volume (mounting a file system for writing changes
its superblock there), and a random choice of the others. A small change elsewhere may be missed,
and the answer says how much was read.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass

from blake3 import blake3

from zeroseal.blocks.digest import CHUNK_BYTES, iter_stored_chunks
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.drivers import read_disk
from zeroseal.images.image import Image
from zeroseal.sealing.record import HINT_BYTES, SealRecord

_SAMPLE_CHUNKS = 64


@dataclass(frozen=True)
class QuickLook:
    """What a quick look saw.

    Attributes:
        changed: numbers of chunks that differ from the sealed disk.
        read, stored: how many chunks were read, of how many that hold data.
        recorded: how many of the record's chunks were compared.
    """

    changed: tuple[int, ...]
    read: int
    stored: int
    recorded: int


def look_quickly(image: Image, record: SealRecord) -> QuickLook:
    """Compares a choice of chunks with the record."""
    stored = set(iter_stored_chunks(image))
    expected = record.leaf_hints.keys()
    lost = expected - stored
    must = (stored - expected) | ({0} & stored) | (_volume_starts(image) & stored)
    rest = sorted(stored - must)
    chosen = set(must)
    if len(rest) <= _SAMPLE_CHUNKS:
        chosen.update(rest)
    else:
        chosen.update(secrets.SystemRandom().sample(rest, _SAMPLE_CHUNKS))
    changed = [number for number in chosen if not _is_as_recorded(image, number, record)]
    recorded = len(expected & chosen) + len(lost)
    return QuickLook(tuple(sorted({*changed, *lost})), len(chosen), len(stored), recorded)


def _volume_starts(image: Image) -> set[int]:
    try:
        return {volume.offset_bytes // CHUNK_BYTES for volume in read_disk(image).volumes}
    except ZeroSealError:
        return set()  # the first chunk, with the partition table, is read in any case


def _is_as_recorded(image: Image, number: int, record: SealRecord) -> bool:
    start = number * CHUNK_BYTES
    chunk = image.read(start, min(CHUNK_BYTES, image.size_bytes - start))
    hint = blake3(chunk).digest()[:HINT_BYTES] if any(chunk) else b""
    return record.leaf_hints.get(number, b"") == hint
