"""An NTFS volume: its geometry from the boot sector, and the records of its master file table.

Only the table's first clusters are known from there; ``nodes.open_volume`` finds the rest.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.layout import BootSector
from zeroseal.filesystems.ntfs.runs import HOLE, Run, RunError, count_clusters, parse_runs
from zeroseal.messages import ntfs as messages

_PIECE_RECORDS = 1024
_MOST_RECORDS = 1 << 32


class NtfsVolume:
    """A volume's geometry and records; knows nothing of files.

    Attributes:
        mft_runs: the clusters of the table.
        record_count: how many records the table has.

    Raises:
        DamagedError: the boot sector or the table's first record contradicts itself.
        UnsupportedError: a size is one that no NTFS has.
    """

    def __init__(self, store: Store, where: str = "the volume") -> None:
        self.store, self.where = store, where
        self.boot = BootSector.parse(store.read(0, BootSector.SIZE))
        boot = self.boot
        if boot.oem_id != layout.OEM_ID or boot.signature != 0xAA55:
            raise self.damaged(messages.NOT_AN_NTFS_BOOT_SECTOR)
        self.sector_bytes = boot.sector_bytes
        if self.sector_bytes not in (512, 1024, 2048, 4096):
            raise self.unsupported(
                messages.SECTOR_SIZE_NOT_SUPPORTED.format(sector_bytes=self.sector_bytes)
            )
        code = boot.cluster_sectors
        sectors = code if code <= 128 else 1 << (256 - code)
        self.cluster_bytes = self.sector_bytes * sectors
        if not sectors or sectors & (sectors - 1) or self.cluster_bytes > 2 << 20:
            raise self.unsupported(
                messages.CLUSTER_SIZE_NOT_SUPPORTED.format(cluster_bytes=self.cluster_bytes)
            )
        self.record_bytes = self._coded_size(boot.record_clusters, "records")
        self.index_bytes = self._coded_size(boot.index_clusters, "index blocks")
        self.size_bytes = boot.sectors * self.sector_bytes
        self.cluster_count = self.size_bytes // self.cluster_bytes
        if not 0 < self.size_bytes <= store.size_bytes:
            raise self.damaged(
                messages.VOLUME_SIZE_WRONG.format(
                    size_bytes=self.size_bytes, present_bytes=store.size_bytes
                )
            )
        self.mft_runs: list[Run] = [Run(boot.mft_cluster, 1)]
        self.record_count = max(1, self.cluster_bytes // self.record_bytes)
        if self.record_bytes > self.cluster_bytes:
            self.mft_runs = [Run(boot.mft_cluster, self.record_bytes // self.cluster_bytes)]
        self.check_runs(self.mft_runs, "the table")

    def damaged(self, what: str) -> DamagedError:
        """The error for something that contradicts the format; ``what`` is half a sentence."""
        return DamagedError(
            messages.DAMAGED.format(where=self.where, what=what),
            format="ntfs",
        )

    def unsupported(self, what: str) -> UnsupportedError:
        """The error for something that is not known here."""
        return UnsupportedError(
            messages.NOT_SUPPORTED.format(where=self.where, what=what), format="ntfs"
        )

    # -- clusters

    def read_clusters(self, lcn: int, count: int) -> bytes:
        """Reads whole clusters."""
        return self.store.read(lcn * self.cluster_bytes, count * self.cluster_bytes)

    def check_runs(self, runs: list[Run], what: str) -> None:
        """Raises DamagedError where a run lies outside of the volume."""
        for run in runs:
            if run.lcn != HOLE and run.lcn + run.clusters > self.cluster_count:
                raise self.damaged(messages.LIES_OUTSIDE_VOLUME.format(what=what))

    def parse_runs(self, raw: bytes | memoryview, what: str) -> list[Run]:
        """Unpacks a run list whose clusters all lie on the volume.

        Raises:
            DamagedError: they do not.
        """
        try:
            runs = parse_runs(raw)
        except RunError as error:
            raise self.damaged(f"{error} ({what})") from error
        self.check_runs(runs, what)
        return runs

    # -- records

    def record_offset(self, number: int) -> int:
        """Where a record lies on the volume, in bytes; whole where clusters hold whole ones.

        Raises:
            DamagedError: the table does not reach so far, or has a hole there.
        """
        return self.table_place(number * self.record_bytes)

    def table_place(self, position: int) -> int:
        """Where a byte of the table lies on the volume.

        Raises:
            DamagedError: the table does not reach so far, or has a hole there.
        """
        left = position
        for run in self.mft_runs:
            size = run.clusters * self.cluster_bytes
            if left < size:
                if run.lcn == HOLE:
                    break
                return run.lcn * self.cluster_bytes + left
            left -= size
        raise self.damaged(messages.RECORD_MISSING.format(position=position // self.record_bytes))

    def read_raw_record(self, number: int) -> bytes:
        """A record as it lies on the disk, update sequence and all."""
        if self.record_bytes <= self.cluster_bytes:
            return self.store.read(self.record_offset(number), self.record_bytes)
        per = self.record_bytes // self.cluster_bytes
        pieces: list[bytes] = []
        vcn = number * per
        for run in self.mft_runs:
            if vcn < run.clusters and run.lcn != HOLE:
                count = min(per - len(pieces), run.clusters - vcn)
                pieces += [self.read_clusters(run.lcn + vcn + n, 1) for n in range(count)]
                vcn += count
                if len(pieces) == per:
                    return b"".join(pieces)
            vcn -= run.clusters
        raise self.damaged(messages.RECORD_MISSING.format(position=number))

    def write_raw_record(self, number: int, raw: bytes) -> None:
        """Writes a record whose update sequence is in place."""
        step = min(self.record_bytes, self.cluster_bytes)
        for start in range(0, self.record_bytes, step):
            position = number * self.record_bytes + start
            for run in self.mft_runs:
                size = run.clusters * self.cluster_bytes
                if position < size:
                    self.store.write(
                        run.lcn * self.cluster_bytes + position, raw[start : start + step]
                    )
                    break
                position -= size

    def read_record(self, number: int) -> bytes:
        """A record with its last bytes of each sector put back.

        Raises:
            DamagedError: it is none, or was written in part.
        """
        if not 0 <= number < self.record_count:
            raise self.damaged(messages.RECORD_MISSING.format(position=number))
        return self.restore(self.read_raw_record(number), layout.FILE_MAGIC, f"record {number}")

    def restore(self, raw: bytes, magic: bytes, what: str) -> bytes:
        """Takes an update sequence away.

        Raises:
            DamagedError: the magic is another, or a sector does not bear the sequence's number.
        """
        if raw[:4] != magic:
            raise self.damaged(messages.MAGIC_MISSING.format(what=what, magic=magic.decode()))
        restored = take_fixups(raw)
        if restored is None:
            raise self.damaged(messages.ONLY_PARTLY_WRITTEN.format(what=what))
        return restored

    def iter_records(self) -> Iterator[tuple[int, bytes | None]]:
        """Yields (number, record) of the whole table; None for what is no sound record.

        A record that was never used is all zeros, or says that it is not in use.
        """
        for first, pieces in self.iter_table():
            yield from enumerate(pieces, first)

    def iter_table(self) -> Iterator[tuple[int, list[bytes | None]]]:
        """Yields (first number, records) in pieces of the table."""
        for first, raw in self.iter_raw_table():
            yield first, _restore_many(raw, self.record_bytes)

    def iter_raw_table(self) -> Iterator[tuple[int, bytes]]:
        """Yields (first number, records as they lie on the disk), up to a thousand at once."""
        held, first, left = b"", 0, self.record_count
        want = max(self.cluster_bytes, _PIECE_RECORDS * self.record_bytes)
        for run in self.mft_runs:
            if run.lcn == HOLE:
                raise self.damaged(messages.FILE_TABLE_HOLE)
            for start in range(0, run.clusters * self.cluster_bytes, want):
                size = min(want, run.clusters * self.cluster_bytes - start)
                held += self.store.read(run.lcn * self.cluster_bytes + start, size)
                whole = min(left, len(held) // self.record_bytes)
                if whole:
                    yield first, held[: whole * self.record_bytes]
                    held = held[whole * self.record_bytes :]
                    first, left = first + whole, left - whole
                if not left:
                    return

    # -- inside

    def _coded_size(self, code: int, what: str) -> int:
        size = code * self.cluster_bytes if code > 0 else 1 << -code
        if not 512 <= size <= 1 << 16 or size & (size - 1):
            raise self.unsupported(messages.SIZE_NOT_SUPPORTED.format(what=what, size=size))
        return size

    def take_table(self, runs: list[Run], size_bytes: int) -> None:
        """Sets where the table lies."""
        if size_bytes > count_clusters(runs) * self.cluster_bytes:
            raise self.damaged(messages.TABLE_EXCEEDS_CLUSTERS)
        self.mft_runs = runs
        self.record_count = size_bytes // self.record_bytes
        if not layout.FIRST_USER_RECORD <= self.record_count < _MOST_RECORDS:
            raise self.damaged(
                messages.IMPOSSIBLE_RECORD_COUNT.format(record_count=self.record_count)
            )


def take_fixups(raw: bytes) -> bytes | None:
    """A record as it was before its update sequence was put in; None if it was written in part."""
    offset, count = raw[4] | raw[5] << 8, raw[6] | raw[7] << 8
    if count != len(raw) // layout.FIXUP_STRIDE + 1 or offset + 2 * count > 510 or offset < 8:
        return None
    number = raw[offset : offset + 2]
    restored = bytearray(raw)
    for index in range(1, count):
        end = index * layout.FIXUP_STRIDE
        if raw[end - 2 : end] != number:
            return None
        restored[end - 2 : end] = raw[offset + 2 * index : offset + 2 * index + 2]
    return bytes(restored)


def put_fixups(plain: bytes | bytearray) -> bytes:
    """Puts an update sequence in, with the next number."""
    raw = bytearray(plain)
    offset = int.from_bytes(raw[4:6], "little")
    number = int.from_bytes(raw[offset : offset + 2], "little") + 1
    number = 1 if number >= 0xFFFF else number
    raw[offset : offset + 2] = number.to_bytes(2, "little")
    for index in range(1, len(raw) // layout.FIXUP_STRIDE + 1):
        end = index * layout.FIXUP_STRIDE
        raw[offset + 2 * index : offset + 2 * index + 2] = raw[end - 2 : end]
        raw[end - 2 : end] = raw[offset : offset + 2]
    return bytes(raw)


def _restore_many(raw: bytes, size: int) -> list[bytes | None]:
    """Many records at once; those whose head is as usual are restored together."""
    count = len(raw) // size
    words = np.frombuffer(raw, dtype="<u2").reshape(count, size // 2).copy()
    first = int(words[0, 2])
    sectors = size // layout.FIXUP_STRIDE
    usual = (words[:, 2] == first) & (words[:, 3] == sectors + 1)
    if first % 2 or first < 8 or first + 2 * (sectors + 1) > 510:
        usual[:] = False
    place = first // 2
    if usual.any():
        is_file = (words[:, 0] == 0x4946) & (words[:, 1] == 0x454C)  # FILE
        usual &= is_file
        ends = np.arange(1, sectors + 1) * (layout.FIXUP_STRIDE // 2) - 1
        usual &= (words[:, ends] == words[:, place : place + 1]).all(axis=1)
        restored = words[:, place + 1 : place + 1 + sectors]
        words[np.ix_(usual, ends)] = restored[usual]
    plain = words.tobytes()
    found: list[bytes | None] = []
    for number, sound in enumerate(usual.tolist()):
        record = plain[number * size : (number + 1) * size]
        if sound:
            found.append(record)
        else:
            found.append(take_fixups(record) if record[:4] == layout.FILE_MAGIC else None)
    return found
