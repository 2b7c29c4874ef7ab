"""The consistency checker of NTFS volumes, written apart from the code that edits them.

It trusts nothing that the editor computed: every record of the table is read, every index walked
from its root, and what they say is held against each other and against the bitmaps. There is no
such program for NTFS elsewhere, so damage of each kind is made on purpose in its tests.
"""

from __future__ import annotations

from zeroseal.blocks.bitmaps import bit_is_set, find_runs
from zeroseal.blocks.store import Store
from zeroseal.errors import ImageError
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.check_indexes import check_views
from zeroseal.filesystems.ntfs.check_names import NamePass
from zeroseal.filesystems.ntfs.check_security import check_security
from zeroseal.filesystems.ntfs.check_table import TablePass
from zeroseal.filesystems.ntfs.layout import BootSector
from zeroseal.filesystems.ntfs.names import UPCASE_BYTES, Upcase
from zeroseal.filesystems.ntfs.nodes import load_node, open_volume
from zeroseal.filesystems.ntfs.state import LOG_OPEN, read_state
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume, take_fixups
from zeroseal.filesystems.tree import Problem
from zeroseal.messages import ntfs as messages

_MOST_PROBLEMS = 1000


def check_volume(store: Store, where: str = "the volume") -> list[Problem]:
    """Everything that is wrong with a volume; at most a thousand problems."""
    try:
        volume = open_volume(store, where)
    except ImageError as error:
        return [Problem("volume", error.message)]
    return check_opened(volume)


def check_opened(volume: NtfsVolume) -> list[Problem]:
    """The same for one that is opened."""
    try:
        return _check(volume)[:_MOST_PROBLEMS]
    except ImageError as error:
        return [Problem("volume", error.message)]


def _check(volume: NtfsVolume) -> list[Problem]:
    problems = _check_state(volume)
    problems += _check_boot(volume)
    problems += _check_mirror(volume)
    upcase_raw = _read_whole(volume, layout.UPCASE)
    if len(upcase_raw) != UPCASE_BYTES:
        return [*problems, Problem("$UpCase", messages.UPPER_CASE_TABLE_WRONG_LENGTH)]
    upcase = Upcase(upcase_raw)
    table = TablePass(volume)
    problems += table.check()
    problems += _check_records(volume, table)
    problems += _check_clusters(volume, table)
    problems += NamePass(volume, table, upcase).check()
    problems += check_views(volume, table)
    problems += check_security(volume, table)
    return problems


def _check_state(volume: NtfsVolume) -> list[Problem]:
    state = read_state(volume)
    problems = []
    if state.is_dirty:
        problems.append(Problem("$Volume", messages.MARKED_DIRTY))
    if state.log == LOG_OPEN:
        problems.append(Problem("$LogFile", messages.LOG_NOT_CLOSED))
    bad = load_node(volume, layout.BAD_CLUSTERS).find(layout.DATA, "$Bad")
    whole = volume.cluster_count * volume.cluster_bytes
    if bad is None or bad.size_bytes != whole:
        problems.append(Problem("$BadClus", messages.DOES_NOT_COVER_VOLUME))
    return problems


def _check_boot(volume: NtfsVolume) -> list[Problem]:
    size, end = BootSector.SIZE, volume.size_bytes
    if end + volume.sector_bytes > volume.store.size_bytes:
        return []  # the volume was cut out without the sector behind it
    if volume.store.read(end, size) != volume.store.read(0, size):
        return [Problem("boot sector", messages.BOOT_SECTOR_COPY_DIFFERS)]
    return []


def _check_mirror(volume: NtfsVolume) -> list[Problem]:
    mirror = load_node(volume, layout.MIRROR).find(layout.DATA)
    if mirror is None or not mirror.runs or mirror.runs[0].lcn != volume.boot.mirror_cluster:
        return [Problem("$MFTMirr", messages.BOOT_SECTOR_GIVES_ANOTHER_LOCATION)]
    count = mirror.size // volume.record_bytes
    if count < 4:
        return [Problem("$MFTMirr", messages.HOLDS_FEWER_THAN_FOUR_RECORDS)]
    copies = read_stream(volume, mirror)
    problems = []
    for number in range(count):
        copy = copies[number * volume.record_bytes :][: volume.record_bytes]
        if take_fixups(copy) != take_fixups(volume.read_raw_record(number)):
            problems.append(
                Problem("$MFTMirr", messages.COPY_OF_RECORD_DIFFERS.format(number=number))
            )
    return problems


def _check_records(volume: NtfsVolume, table: TablePass) -> list[Problem]:
    """The table's bitmap against its records."""
    bitmap = load_node(volume, layout.MFT).find(layout.BITMAP_ATTRIBUTE)
    raw = read_stream(volume, bitmap) if bitmap else b""
    if len(raw) * 8 < volume.record_count:
        # seen on volumes that ntfs-3g wrote: a few bits too few, all of free records
        raw = raw.ljust(-(-volume.record_count // 8), b"\0")
    problems = []
    for first, count in find_runs(raw, volume.record_count, value=True):
        for number in range(first, first + count):
            if number not in table.in_use and number not in table.blank_reserved:
                problems.append(Problem(f"record {number}", messages.FREE_BUT_MARKED_IN_USE))
    for number in table.in_use:
        if not bit_is_set(raw, number):
            problems.append(Problem(f"record {number}", messages.IN_USE_BUT_MARKED_FREE))
    return problems


def _check_clusters(volume: NtfsVolume, table: TablePass) -> list[Problem]:
    """The volume's bitmap against everything that lies in clusters."""
    problems: list[Problem] = []
    claims = sorted(table.claims)
    owned: list[tuple[int, int]] = []
    end, last = 0, 0
    for lcn, count, owner in claims:
        if lcn < end:
            what = f"records {last} and {owner} share cluster {lcn}"
            problems.append(Problem("clusters", what))
        if owned and owned[-1][1] >= lcn:
            owned[-1] = (owned[-1][0], max(owned[-1][1], lcn + count))
        else:
            owned.append((lcn, lcn + count))
        if lcn + count > end:
            end, last = lcn + count, owner
    raw = _read_whole(volume, layout.BITMAP)
    if len(raw) * 8 < volume.cluster_count:
        return [*problems, Problem("$Bitmap", messages.TOO_SMALL_FOR_VOLUME)]
    runs = find_runs(raw, volume.cluster_count, value=True)
    marked = [(first, first + count) for first, count in runs]
    for first, stop in _missing(owned, marked):
        what = f"clusters {first} to {stop - 1} are in use but marked as free"
        problems.append(Problem("$Bitmap", what))
    for first, stop in _missing(marked, owned):
        what = f"clusters {first} to {stop - 1} are marked as in use but belong to no file"
        problems.append(Problem("$Bitmap", what))
    return problems


def _missing(ranges: list[tuple[int, int]], others: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """What some ranges cover and others do not; both are sorted and do not overlap."""
    found, index = [], 0
    for start, end in ranges:
        position = start
        while index < len(others) and others[index][1] <= position:
            index += 1
        at = index
        while position < end:
            if at == len(others) or others[at][0] >= end:
                found.append((position, end))
                break
            if others[at][0] > position:
                found.append((position, others[at][0]))
            position = max(position, others[at][1])
            at += 1
    return found


def _read_whole(volume: NtfsVolume, number: int) -> bytes:
    attribute = load_node(volume, number).find(layout.DATA)
    return read_stream(volume, attribute) if attribute else b""
