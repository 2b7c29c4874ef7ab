"""The log of a VHDX: finding the sequence of entries that counts, and replaying it.

MS-VHDX 2.3.3: of all chains of valid entries with ascending sequence numbers, the one counts whose
newest entry has the highest number and names an entry of the chain as its tail.
"""

from __future__ import annotations

from typing import NamedTuple

from zeroseal.errors import DamagedError
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.vhdx import layout
from zeroseal.images.vhdx.layout import LogDescriptor, LogEntry
from zeroseal.messages import images as messages

_SECTOR = layout.LOG_SECTOR
_MAX_LOG_BYTES = 256 << 20


class _Found(NamedTuple):
    offset: int
    entry: LogEntry
    raw: bytes


def replay_log(file: ContainerFile, header: layout.Header) -> int:
    """Writes to the file what the log says; returns how many entries were replayed.

    Raises:
        DamagedError: the header names a log in which no valid sequence is found.
    """
    if header.log_bytes > _MAX_LOG_BYTES or header.log_bytes % layout.MIB:
        raise DamagedError(
            messages.IMPOSSIBLE_LOG_SIZE.format(path=file.path, log_bytes=header.log_bytes),
            format="vhdx",
        )
    log = file.read(header.log_offset, header.log_bytes)
    chain = _find_chain(log, header.log_id)
    if not chain:
        raise DamagedError(
            messages.LOG_NOT_REPLAYABLE.format(path=file.path),
            format="vhdx",
        )
    newest = chain[-1].entry
    if file.size_bytes < newest.flushed_file_bytes:
        raise DamagedError(messages.SHORTER_THAN_LOG_RECORDS.format(path=file.path), format="vhdx")
    for found in chain:
        _replay_entry(file, found)
    if file.size_bytes < newest.last_file_bytes <= file.size_bytes + (1 << 40):
        file.resize(newest.last_file_bytes)
    return len(chain)


def _find_chain(log: bytes, log_id: bytes) -> list[_Found]:
    """The entries to replay, oldest first."""
    entries = {}
    for offset in range(0, len(log), _SECTOR):
        if log[offset : offset + 4] == b"loge":
            found = _read_entry(log, offset, log_id)
            if found:
                entries[offset] = found
    heads = sorted(entries.values(), key=lambda found: found.entry.sequence, reverse=True)
    for head in heads:
        chain = _chain_to(entries, head, len(log))
        if chain:
            return chain
    return []


def _chain_to(entries: dict[int, _Found], head: _Found, log_bytes: int) -> list[_Found]:
    """Walks from the head's tail to the head; empty where the walk does not arrive."""
    found = entries.get(head.entry.tail)
    chain: list[_Found] = []
    while found is not None and len(chain) <= len(entries):
        if chain and found.entry.sequence != chain[-1].entry.sequence + 1:
            return []
        chain.append(found)
        if found is head:
            return chain
        found = entries.get((found.offset + found.entry.entry_bytes) % log_bytes)
    return []


def _read_entry(log: bytes, offset: int, log_id: bytes) -> _Found | None:
    entry = LogEntry.parse(log[offset : offset + LogEntry.SIZE])
    size = entry.entry_bytes
    if entry.log_id != log_id or not _SECTOR <= size <= len(log) or size % _SECTOR:
        return None
    raw = log[offset : offset + size] + log[: max(0, offset + size - len(log))]
    if layout.checksum_of(raw) != entry.checksum or entry.sequence == 0:
        return None
    if LogEntry.SIZE + entry.descriptors * LogDescriptor.SIZE > size:
        return None
    return _Found(offset, entry, raw)


def _replay_entry(file: ContainerFile, found: _Found) -> None:
    head_bytes = LogEntry.SIZE + found.entry.descriptors * LogDescriptor.SIZE
    data_at = -(-head_bytes // _SECTOR) * _SECTOR
    for number in range(found.entry.descriptors):
        start = LogEntry.SIZE + number * LogDescriptor.SIZE
        item = LogDescriptor.parse(found.raw[start : start + LogDescriptor.SIZE])
        if item.sequence != found.entry.sequence or item.file_offset % _SECTOR:
            raise DamagedError(messages.DAMAGED_LOG_ENTRY.format(path=file.path), format="vhdx")
        if item.signature == b"zero":
            length = int.from_bytes(item.leading, "little")
            file.zero(item.file_offset, min(length, max(0, file.size_bytes - item.file_offset)))
        else:
            sector = found.raw[data_at : data_at + _SECTOR]
            data_at += _SECTOR
            file.write(item.file_offset, _restore(file, item, sector))


def _restore(file: ContainerFile, item: LogDescriptor, sector: bytes) -> bytes:
    """A data sector's own bytes; its ends lie in the descriptor."""
    stated = sector[4:8][::-1] + sector[-4:][::-1] if len(sector) == _SECTOR else b""
    sequence = item.sequence.to_bytes(8, "big")
    if item.signature != b"desc" or sector[:4] != b"data" or stated != sequence:
        raise DamagedError(messages.DAMAGED_LOG_ENTRY.format(path=file.path), format="vhdx")
    if item.file_offset > file.size_bytes + (1 << 40):
        raise DamagedError(messages.LOG_OUTSIDE_FILE.format(path=file.path), format="vhdx")
    return item.leading + sector[8:-4] + item.trailing
