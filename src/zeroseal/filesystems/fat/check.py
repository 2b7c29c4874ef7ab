"""A consistency checker for FAT, written apart from the editing code."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.fat import layout
from zeroseal.filesystems.fat.layout import Entry, short_name_checksum
from zeroseal.filesystems.fat.volume import FatVolume
from zeroseal.filesystems.tree import Problem
from zeroseal.messages import fat as messages

_SIZE = layout.ENTRY_BYTES
_MOST_PROBLEMS = 100


def check_volume(store: Store, where: str) -> list[Problem]:
    """Checks a whole volume: tables, chains, folders, names; hints may be wrong."""
    try:
        volume = FatVolume(store, where)
    except ZeroSealError as error:
        return [Problem(where, error.message)]
    return check_opened(volume)


def check_opened(volume: FatVolume) -> list[Problem]:
    """The same for one that is opened."""
    try:
        return [
            problem for problem, _number in zip(_check(volume), range(_MOST_PROBLEMS), strict=False)
        ]
    except ZeroSealError as error:
        return [Problem(volume.where, error.message)]


def _check(volume: FatVolume) -> Iterator[Problem]:
    copies = {volume.read_table_copy(number) for number in range(volume.boot.table_count)}
    if len(copies) > 1:
        yield Problem("the table", messages.COPIES_OF_ALLOCATION_TABLE_DIFFER)
    owners: dict[int, str] = {}
    pending: list[tuple[str, int]] = [("/", volume.boot.root_cluster if volume.bits == 32 else 0)]
    if volume.bits == 32:
        yield from _claim(volume, "/", volume.boot.root_cluster, owners)
    while pending:
        path, first = pending.pop()
        for name, entry in _entries(volume, first):
            if isinstance(entry, str):
                yield Problem(f"{path}{name}", entry)
                continue
            cluster = entry.cluster_hi << 16 | entry.cluster_lo
            is_folder = bool(entry.attributes & layout.ATTRIBUTE_FOLDER)
            before = len(owners)
            yield from _claim(volume, f"{path}{name}", cluster, owners)
            taken = len(owners) - before
            if is_folder:
                if not taken:
                    yield Problem(f"{path}{name}", messages.FOLDER_NO_CLUSTER)
                else:
                    pending.append((f"{path}{name}/", cluster))
            elif taken != -(-entry.size // volume.cluster_bytes):
                yield Problem(
                    f"{path}{name}",
                    messages.SIZE_DOES_NOT_MATCH_CLUSTERS.format(size=entry.size, taken=taken),
                )
    for number in range(2, volume.cluster_count + 2):
        if volume.table[number] and number not in owners and not _is_bad(volume, number):
            yield Problem("the table", messages.CLUSTER_WITHOUT_OWNER.format(number=number))


def _is_bad(volume: FatVolume, number: int) -> bool:
    return volume.table[number] == volume.end_mark - 1


def _claim(volume: FatVolume, name: str, first: int, owners: dict[int, str]) -> Iterator[Problem]:
    number = first
    while number and number < volume.end_mark:
        if not 2 <= number < volume.cluster_count + 2:
            yield Problem(name, messages.CLUSTER_DOES_NOT_EXIST.format(number=number))
            return
        if number in owners:
            yield Problem(
                name, messages.SHARES_CLUSTER.format(number=number, owners=owners[number])
            )
            return
        owners[number] = name
        following = volume.table[number]
        if following == 0:
            yield Problem(name, messages.CONTINUES_IN_FREE_CLUSTER.format(number=number))
        number = following


def _entries(volume: FatVolume, first: int) -> Iterator[tuple[str, Entry | str]]:
    """Yields (short name, entry or what is wrong) of a folder; 0 is the old kind of root."""
    if first == 0:
        content = volume.store.read(volume.root_offset, volume.root_bytes)
    else:
        content = b"".join(
            volume.store.read(volume.cluster_offset(number), volume.cluster_bytes)
            for number in volume.chain(first)
        )
    checksums: list[int] = []
    seen: set[bytes] = set()
    for start in range(0, len(content), _SIZE):
        raw = content[start : start + _SIZE]
        if raw[0] == layout.END:
            return
        if raw[0] == layout.DELETED:
            checksums = []
            continue
        if raw[11] & 0x3F == layout.ATTRIBUTE_LONG_NAME:
            checksums.append(raw[13])
            continue
        entry = Entry.parse(raw)
        shown = raw[:11].decode("latin-1").strip()
        if checksums and set(checksums) != {short_name_checksum(raw[:11])}:
            yield shown, "its long name belongs to another entry"
        checksums = []
        if raw[:11] in seen:
            yield shown, "its name occurs twice in the folder"
        seen.add(raw[:11])
        if not entry.attributes & layout.ATTRIBUTE_VOLUME and raw[:2] not in (b". ", b".."):
            yield shown, entry
