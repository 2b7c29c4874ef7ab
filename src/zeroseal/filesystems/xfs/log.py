"""The log: whether it is empty, and what an empty one looks like.

Changes are written around the log, never through it: that is safe only while nothing in it waits to
be played back. The log is a ring of 512-byte blocks; each begins with the number of the round
(*cycle*) in which it was written, so the head is where that number falls. An unmount leaves a
record with one operation, the unmount mark, at the head.

Source: ``xfs_log_format.h``; the kernel's ``xlog_find_head``, ``xlog_check_unmount_rec``.
"""

from __future__ import annotations

import numpy as np

from zeroseal.blocks.patches import zero_patches
from zeroseal.blocks.store import Store
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.layout import LogRecord, Superblock

_MOST_BACK = 1 << 10  # blocks: a record has at most 256 KiB and its headers


def log_range(superblock: Superblock) -> tuple[int, int]:
    """(offset, length) of the log on the volume."""
    group = superblock.log_start >> superblock.group_log
    agblock = superblock.log_start & ((1 << superblock.group_log) - 1)
    start = (group * superblock.group_blocks + agblock) * superblock.block_bytes
    return start, superblock.log_blocks * superblock.block_bytes


def is_clean_log(store: Store, superblock: Superblock) -> bool:
    """Whether nothing in the log waits to be played back."""
    ring = _Ring(store, superblock)
    if ring.count < 2:
        return False
    head = ring.find_head()
    found = ring.find_record_before(head)
    if found is None:
        return ring.is_blank()
    place, record = found
    header_blocks = max(1, -(-record.buffer_bytes // (32 << 10))) if record.version & 2 else 1
    length_blocks = -(-record.length // layout.SECTOR)
    behind = (place + header_blocks + length_blocks) % ring.count
    operation = ring.read((place + header_blocks) % ring.count)
    return (
        record.operations == 1
        and behind == head % ring.count
        and bool(operation[9] & layout.LOG_UNMOUNT_FLAG)
    )


def find_last_record(store: Store, superblock: Superblock) -> tuple[int, LogRecord] | None:
    """(block, header) of the record before the log's head; None where it was never written."""
    ring = _Ring(store, superblock)
    return ring.find_record_before(ring.find_head()) if ring.count >= 2 else None


def last_record(store: Store, superblock: Superblock) -> LogRecord | None:
    """The header of the record before the log's head; None where the log was never written."""
    found = find_last_record(store, superblock)
    return found[1] if found else None


def highest_cycle(store: Store, superblock: Superblock) -> int:
    """The round in which the log is."""
    ring = _Ring(store, superblock)
    return max(ring.cycle(0), ring.cycle(ring.count - 1))


def is_new_log(store: Store, superblock: Superblock) -> bool:
    """Whether the log is as mkfs.xfs leaves it: one record without content, and zeros behind it."""
    start, length = log_range(superblock)
    taken = _record_blocks(superblock) * layout.SECTOR
    head = store.read(start, taken)
    header, operation = LogRecord.parse(head[: LogRecord.SIZE]), head[layout.SECTOR :]
    if header.cycle != 1 or any(head[48:300]) or any(operation[24:].translate(None, b"\0\1")):
        return False
    return not zero_patches(store, [(start + taken, length - taken)], "log")


def _record_blocks(superblock: Superblock) -> int:
    """How many blocks a record without content takes: whole sectors of the log's."""
    return max(2, superblock.log_sector_bytes // layout.SECTOR)


class EmptyLog:
    """The whole body of a log that holds nothing, in a new round.

    Behind its one record every block bears the number of the round before, and zeros: without
    those numbers repair programs take the rest for a log that was never written. The record bears
    the superblock's own UUID, also where metadata blocks keep an earlier one (META_UUID): the
    kernel refuses to mount a volume whose log has another (``xlog_header_check_mount``).
    """

    def __init__(self, superblock: Superblock, cycle: int) -> None:
        self._cycle = cycle
        self.length = superblock.log_blocks * superblock.block_bytes
        self._head = _empty_head(superblock, cycle)

    def read(self, start: int, length: int) -> bytes:
        """A part of it; both in bytes, whole blocks of the log."""
        words = np.zeros((length // layout.SECTOR, layout.SECTOR // 4), dtype=">u4")
        words[:, 0] = self._cycle - 1
        piece = words.tobytes()
        if start < len(self._head):
            head = self._head[start : start + length]
            piece = head + piece[len(head) :]
        return piece


def _empty_head(superblock: Superblock, cycle: int) -> bytes:
    """The record of an empty log, as many blocks as it takes."""
    taken = _record_blocks(superblock)
    lsn = cycle << 32
    header = LogRecord.blank(
        magic=layout.LOG_RECORD_MAGIC,
        cycle=cycle,
        version=2 if superblock.version & 0x0400 else 1,
        length=(taken - 1) * layout.SECTOR,
        lsn=lsn,
        tail_lsn=lsn,
        previous=0xFFFFFFFF,
        operations=1,
        first_word=0xB0C0D0D0,
        form=layout.LOG_FORMAT_LINUX_LE,
        uuid=superblock.uuid,
        buffer_bytes=32 << 10,
    )
    operation = (
        cycle.to_bytes(4, "big")  # in the place of the transaction's number, see first_word
        + (8).to_bytes(4, "big")
        + bytes([layout.LOG_CLIENT, layout.LOG_UNMOUNT_FLAG, 0, 0])
        + layout.LOG_UNMOUNT_MAGIC.to_bytes(2, "little")
    )
    mark = cycle.to_bytes(4, "big").ljust(layout.SECTOR, b"\0")
    blocks = [header.build().ljust(layout.SECTOR, b"\0"), operation.ljust(layout.SECTOR, b"\0")]
    return b"".join(blocks + [mark] * (taken - 2))


class _Ring:
    """The log's blocks by number."""

    def __init__(self, store: Store, superblock: Superblock) -> None:
        self._store = store
        self._start, length = log_range(superblock)
        fits = self._start + length <= store.size_bytes
        self.count = length // layout.SECTOR if fits else 0

    def read(self, number: int) -> bytes:
        return self._store.read(self._start + number * layout.SECTOR, layout.SECTOR)

    def cycle(self, number: int) -> int:
        """The round in which a block was written; a record's header has it in its second word."""
        raw = self._store.read(self._start + number * layout.SECTOR, 8)
        first = int.from_bytes(raw[:4], "big")
        return int.from_bytes(raw[4:], "big") if first == layout.LOG_RECORD_MAGIC else first

    def find_head(self) -> int:
        """The block that is written next: the first of the round before."""
        newest = self.cycle(0)
        if self.cycle(self.count - 1) == newest:
            return self.count
        low, high = 0, self.count - 1
        while high - low > 1:
            middle = (low + high) // 2
            if self.cycle(middle) == newest:
                low = middle
            else:
                high = middle
        return high

    def find_record_before(self, head: int) -> tuple[int, LogRecord] | None:
        """(block, header) of the last record before the head."""
        for back in range(1, min(_MOST_BACK, self.count) + 1):
            place = (head - back) % self.count
            raw = self.read(place)
            if int.from_bytes(raw[:4], "big") == layout.LOG_RECORD_MAGIC:
                return place, LogRecord.parse(raw[: LogRecord.SIZE])
        return None

    def is_blank(self) -> bool:
        """Whether it was never written."""
        return self.cycle(0) == 0 and self.cycle(self.count - 1) == 0
