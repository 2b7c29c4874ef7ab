"""Transaction logs of hives: pages that were to be written, replayed into a hive that is dirty.

Old logs (Windows 8 and before) hold one set of dirty 512-byte sectors behind a bitmap. New ones
hold entries, each with the pages it changes, a sequence number, and two Marvin32 hashes; they are
taken in the order of their numbers, from where the hive's last whole write ended.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from zeroseal.errors import DamagedError
from zeroseal.guests.registry import layout
from zeroseal.guests.registry.layout import BaseBlock
from zeroseal.messages import registry as messages

_SEED_LOW, _SEED_HIGH = 0x7A4E55C5, 0x82EF4D88
_ENTRY_HEADER = 40
_MOST_PAGES = 1 << 20
_MOST_GROWTH = 256 << 20  # bytes: a log says how large the hive becomes, in few bytes of its own


class LogEntry(NamedTuple):
    """A write that a log holds: its number, the size of all bins behind it, (offset, bytes)."""

    sequence: int
    data_bytes: int
    pages: list[tuple[int, bytes]]


def replay_logs(primary: bytes, logs: Sequence[bytes], where: str = "the hive") -> bytes:
    """A dirty hive, with what its logs hold written into it; clean afterwards.

    Args:
        primary: the hive.
        logs: its transaction logs, as far as they are there; empty ones are passed over.
        where: its name, for messages.

    Raises:
        DamagedError: no log goes on where the hive ends.
    """
    if len(primary) < layout.BASE_BYTES:
        raise DamagedError(messages.TOO_SHORT_TO_BE_REGISTRY_HIVE.format(where=where))
    base = BaseBlock.parse(primary[: BaseBlock.SIZE])
    is_whole = base.checksum == layout.checksum_of(primary[: BaseBlock.SIZE])
    headers = [BaseBlock.parse(log[: BaseBlock.SIZE]) for log in logs if is_log(log)]
    if not is_whole and not headers:
        raise DamagedError(messages.HEADER_DAMAGED_WITHOUT_LOG.format(where=where))
    entries: list[LogEntry] = []
    start = base.done_sequence if is_whole else min(header.sequence for header in headers)
    for log in logs:
        if is_log(log):
            entries += read_entries(log)
    body = bytearray(primary[layout.BASE_BYTES :])
    wanted, taken = start, 0
    for entry in sorted(entries, key=lambda item: item.sequence):
        if entry.sequence < wanted:
            continue
        if entry.sequence > wanted and taken:
            break  # a gap: what lies behind it belongs to a write that was lost
        _apply(body, entry, where)
        wanted, taken = entry.sequence + 1, taken + 1
        last = entry
    if not taken:
        raise DamagedError(messages.LOGS_DO_NOT_CONTINUE.format(where=where))
    if not is_whole:
        base = headers[0]
        base.kind = layout.PRIMARY
    base.data_bytes = last.data_bytes
    base.sequence = base.done_sequence = wanted
    base.checksum = layout.checksum_of(base.build())
    return base.build() + primary[BaseBlock.SIZE : layout.BASE_BYTES] + bytes(body)


def empty_log(length: int) -> bytes:
    """What a transaction log that holds nothing is: zeros; its length stays."""
    return bytes(length)


def is_log(raw: bytes) -> bool:
    """Whether a file is a transaction log that holds something."""
    if len(raw) <= BaseBlock.SIZE:
        return False
    base = BaseBlock.parse(raw[: BaseBlock.SIZE])
    known = base.kind == layout.NEW_LOG or base.kind in layout.OLD_LOG
    same = base.checksum == layout.checksum_of(raw[: BaseBlock.SIZE])
    return base.magic == layout.BASE_MAGIC and known and same


def read_entries(log: bytes) -> Iterator[LogEntry]:
    """Yields the whole writes of a log; what comes behind one that is torn is left out."""
    base = BaseBlock.parse(log[: BaseBlock.SIZE])
    if base.kind in layout.OLD_LOG:
        entry = _read_old(log, base)
        if entry:
            yield entry
        return
    place, expected = layout.LOG_SECTOR, None
    while entry_and_size := _read_new(log, place):
        entry, size = entry_and_size
        if expected is not None and entry.sequence != expected:
            return
        yield entry
        place, expected = place + size, entry.sequence + 1


def _read_old(log: bytes, base: BaseBlock) -> LogEntry | None:
    start = layout.LOG_SECTOR
    if log[start : start + 4] != layout.DIRTY_MAGIC or base.sequence != base.done_sequence:
        return None
    sectors = base.data_bytes // layout.LOG_SECTOR
    bitmap = log[start + 4 : start + 4 + (sectors + 7) // 8]
    place = start + 4 + len(bitmap)
    place = -(-place // layout.LOG_SECTOR) * layout.LOG_SECTOR
    pages = []
    for number in range(min(sectors, len(bitmap) * 8)):
        if bitmap[number >> 3] >> (number & 7) & 1:
            page = log[place : place + layout.LOG_SECTOR]
            if len(page) < layout.LOG_SECTOR:
                return None
            pages.append((number * layout.LOG_SECTOR, page))
            place += layout.LOG_SECTOR
    return LogEntry(base.sequence, base.data_bytes, pages)


def _read_new(log: bytes, place: int) -> tuple[LogEntry, int] | None:
    head = log[place : place + _ENTRY_HEADER]
    if len(head) < _ENTRY_HEADER or head[:4] != layout.ENTRY_MAGIC:
        return None
    size, sequence = int.from_bytes(head[4:8], "little"), int.from_bytes(head[12:16], "little")
    data_bytes, count = int.from_bytes(head[16:20], "little"), int.from_bytes(head[20:24], "little")
    body = log[place + _ENTRY_HEADER : place + size]
    sound = (
        size % layout.LOG_SECTOR == 0
        and _ENTRY_HEADER < size <= len(log) - place
        and count <= min(_MOST_PAGES, len(body) // 8)
        and marvin32(head[:32]) == head[32:40]
        and marvin32(body) == head[24:32]
    )
    if not sound:
        return None
    pages, data = [], count * 8
    for number in range(count):
        offset = int.from_bytes(body[number * 8 : number * 8 + 4], "little")
        length = int.from_bytes(body[number * 8 + 4 : number * 8 + 8], "little")
        page = body[data : data + length]
        if len(page) < length:
            return None
        pages.append((offset, page))
        data += length
    return LogEntry(sequence, data_bytes, pages), size


def _apply(body: bytearray, entry: LogEntry, where: str) -> None:
    most = min(layout.MOST_HIVE_BYTES, len(body) + _MOST_GROWTH)
    if entry.data_bytes > most or entry.data_bytes % layout.PAGE_BYTES:
        raise DamagedError(messages.LOG_MAKES_HIVE_TOO_LARGE.format(where=where))
    if entry.data_bytes > len(body):
        body += bytes(entry.data_bytes - len(body))
    for offset, page in entry.pages:
        if offset + len(page) > len(body):
            raise DamagedError(messages.LOG_WRITES_OUTSIDE_HIVE.format(where=where))
        body[offset : offset + len(page)] = page


def marvin32(data: bytes) -> bytes:
    """The hash of new logs' entries, with the seed that Windows uses for them; 8 bytes."""
    low, high = _SEED_LOW, _SEED_HIGH
    whole = len(data) & ~3
    rest = data[whole:] + b"\x80"
    words = [int.from_bytes(data[at : at + 4], "little") for at in range(0, whole, 4)]
    words += [int.from_bytes(rest, "little"), 0]
    for word in words:
        low = (low + word) & 0xFFFFFFFF
        high ^= low
        low = ((low << 20 | low >> 12) + high) & 0xFFFFFFFF
        high = (high << 9 | high >> 23) & 0xFFFFFFFF ^ low
        low = ((low << 27 | low >> 5) + high) & 0xFFFFFFFF
        high = (high << 19 | high >> 13) & 0xFFFFFFFF
    return low.to_bytes(4, "little") + high.to_bytes(4, "little")
