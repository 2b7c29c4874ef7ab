"""The checker's look at ``$Secure``: hashes, copies, both indexes, and the numbers in use."""

from __future__ import annotations

from zeroseal.errors import ImageError
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.check_indexes import check_index
from zeroseal.filesystems.ntfs.check_table import TablePass
from zeroseal.filesystems.ntfs.layout import DescriptorHeader
from zeroseal.filesystems.ntfs.nodes import load_node
from zeroseal.filesystems.ntfs.security import (
    BY_HASH_INDEX,
    BY_ID_INDEX,
    STREAM,
    iter_descriptors,
)
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.filesystems.tree import Problem
from zeroseal.messages import ntfs as messages

_WHERE = "$Secure"


def check_security(volume: NtfsVolume, table: TablePass) -> list[Problem]:
    """What is wrong with the store of security descriptors."""
    try:
        return _check(volume, table)
    except ImageError as error:
        return [Problem(_WHERE, error.message)]


def _check(volume: NtfsVolume, table: TablePass) -> list[Problem]:
    node = load_node(volume, layout.SECURE)
    attribute = node.find(layout.DATA, STREAM)
    if attribute is None:
        return [Problem(_WHERE, messages.NO_STREAM_OF_DESCRIPTORS)]
    stream = read_stream(volume, attribute)
    stated: dict[int, bytes] = {}
    problems: list[Problem] = []
    position = 0
    for item in iter_descriptors(stream):
        header = item.header
        shown = f"the descriptor {header.id}"
        if not item.hash_fits:
            problems.append(Problem(_WHERE, messages.HASH_WRONG.format(shown=shown)))
        whole = stream[header.offset : header.offset + header.length]
        if header.offset < position or whole != header.raw + item.content:
            problems.append(Problem(_WHERE, messages.RECORDS_ANOTHER_LOCATION.format(shown=shown)))
            continue
        position = header.offset + header.length
        copy = header.offset + layout.SDS_BLOCK_BYTES
        if stream[copy : copy + header.length] != whole:
            problems.append(Problem(_WHERE, messages.COPY_DIFFERS.format(shown=shown)))
        if header.id in stated:
            problems.append(Problem(_WHERE, messages.OCCURS_TWICE.format(shown=shown)))
        stated[header.id] = header.raw
    problems += _check_by_id(volume, stated)
    problems += _check_by_hash(volume, stated)
    for number, item_ in table.nodes.items():
        if item_.security_id and item_.security_id not in stated:
            what = f"its security descriptor {item_.security_id} does not exist"
            problems.append(Problem(f"record {number}", what))
    return problems


def _check_by_id(volume: NtfsVolume, headers: dict[int, bytes]) -> list[Problem]:
    entries, problems = check_index(volume, load_node(volume, layout.SECURE), BY_ID_INDEX)
    found = {int.from_bytes(entry.key, "little"): entry.data[:20] for entry in entries}
    return problems + _compare(BY_ID_INDEX, found, headers)


def _check_by_hash(volume: NtfsVolume, headers: dict[int, bytes]) -> list[Problem]:
    entries, problems = check_index(volume, load_node(volume, layout.SECURE), BY_HASH_INDEX)
    found = {}
    for entry in entries:
        header = DescriptorHeader.parse(entry.data[:20].ljust(20, b"\0"))
        key = int.from_bytes(entry.key[:4], "little"), int.from_bytes(entry.key[4:8], "little")
        if key != (header.hash, header.id):
            problems.append(
                Problem(BY_HASH_INDEX, messages.ENTRY_OF_ANOTHER_DESCRIPTOR.format(key=key[1]))
            )
        found[key[1]] = entry.data[:20]
    return problems + _compare(BY_HASH_INDEX, found, headers)


def _compare(where: str, found: dict[int, bytes], headers: dict[int, bytes]) -> list[Problem]:
    problems = []
    for number, header in headers.items():
        if found.get(number) != header:
            what = "has no entry" if number not in found else "has a different entry"
            problems.append(
                Problem(where, messages.DESCRIPTOR_ENTRY_WRONG.format(number=number, what=what))
            )
    for number in found.keys() - headers.keys():
        problems.append(Problem(where, messages.LISTED_DESCRIPTOR_MISSING.format(number=number)))
    return problems
