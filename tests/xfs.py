"""XFS volumes for tests: made by mkfs.xfs, filled by the kernel, judged by xfs_repair."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.oracles import judge_by_kernel, kernel_mount, need, run
from zeroseal.blocks.store import Extent, Store

MIB = 1 << 20
SMALLEST_MIB = 320  # mkfs.xfs makes nothing smaller than 300 MB
UUID = "22222222-2222-4333-8444-555555555555"


class FileStore(Store):
    """A volume in a file, changed where it lies; holes stay holes."""

    def __init__(self, path: Path) -> None:
        self._descriptor = os.open(path, os.O_RDWR)
        self.size_bytes = os.fstat(self._descriptor).st_size

    def read(self, offset_bytes: int, length: int) -> bytes:
        self.check_range(offset_bytes, length)
        return os.pread(self._descriptor, length, offset_bytes)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        self.check_range(offset_bytes, len(data))
        os.pwrite(self._descriptor, data, offset_bytes)

    def zero(self, offset_bytes: int, length: int) -> None:
        for start in range(offset_bytes, offset_bytes + length, MIB):
            size = min(MIB, offset_bytes + length - start)
            if any(self.read(start, size)):
                self.write(start, bytes(size))

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:
        position, end = offset_bytes, offset_bytes + length
        while position < end:
            try:
                data = min(end, os.lseek(self._descriptor, position, os.SEEK_DATA))
            except OSError:
                data = end
            if data > position:
                yield Extent(position, data - position, is_zero=True)
            position = data
            if position < end:
                hole = min(end, os.lseek(self._descriptor, position, os.SEEK_HOLE))
                yield Extent(position, hole - position, is_zero=False)
                position = hole

    def close(self) -> None:
        os.close(self._descriptor)


def make_xfs(path: Path, *options: str, megabytes: int = SMALLEST_MIB) -> Path:
    """An empty volume."""
    path.unlink(missing_ok=True)
    with path.open("wb") as file:
        file.truncate(megabytes * MIB)
    words = list(options)
    if not any("uuid=" in word for word in words):
        place = next((n for n, word in enumerate(words) if word == "-m"), None)
        if place is None:
            words += ["-m", f"uuid={UUID}"]
        else:
            words[place + 1] += f",uuid={UUID}"
    run("mkfs.xfs", "-q", *words, path)
    return path


def judge_xfs(volume: Path) -> None:
    """xfs_repair finds nothing, and would change nothing."""
    need("xfs_repair")
    told = run("sh", "-c", 'xfs_repair -n -f "$0" 2>&1', volume)
    odd = [line for line in told.splitlines() if "would" in line or line.startswith("bad ")]
    assert odd == []
    version, features = run("xfs_db", "-r", "-c", "version", volume).strip().split(",", 1)
    if "V5" in version + features and "QUOTA" not in features:  # this kernel has neither
        judge_by_kernel(volume, "nouuid")


@contextmanager
def kernel(volume: Path, *options: str) -> Iterator[Path]:
    """Mounts a volume by the kernel's own driver; see ``kernel_mount``."""
    with kernel_mount(volume, "nouuid", *options) as point:
        yield point
