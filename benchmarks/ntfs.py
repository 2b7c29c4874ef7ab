"""NTFS: a walk of the whole file table, slack, the checker and look-ups, against ntfs-3g.

Usage: ``python benchmarks/ntfs.py [FILES]`` (as root, FUSE is needed). The volume is made here,
with 200,000 files in 200 folders unless told otherwise, and a chain of folders for the look-ups.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from zeroseal.filesystems.ntfs.check import check_volume
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.nodes import parse_pieces
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.slack import iter_slack
from zeroseal.images.host_file import HostFile
from zeroseal.images.raw import RawImage

_FOLDERS, _DEPTHS = 200, (4, 16, 64)


def make(path: Path, files: int) -> None:
    """The volume: small files in folders, and folders in folders."""
    with path.open("wb") as file:
        file.truncate((256 << 20) + files * 6144)
    subprocess.run(["mkntfs", "-F", "-Q", "-q", path], check=True, stderr=subprocess.DEVNULL)
    editor = NtfsEditor(RawImage(HostFile(path, writable=True)), 1_795_000_000)
    for number in range(_FOLDERS):
        folder = editor.create_folder(editor.root, b"folder %d" % number, 0o755)
        for index in range(files // _FOLDERS):
            content = b"n" * (700 if index % 3 else 3000)
            editor.create_file(folder, b"a file of many, number %06d" % index, content, 0o644)
    folder = editor.root
    for depth in range(max(_DEPTHS)):
        folder = editor.create_folder(folder, b"deep %d" % depth, 0o755)
    editor.finish()


def took(action: Callable[[], object]) -> float:
    """Seconds of the quickest of three runs."""
    times = []
    for _ in range(3):
        began = time.perf_counter()
        action()
        times.append(time.perf_counter() - began)
    return min(times)


def walk(tree: NtfsTree) -> int:
    """Reads every record and all its attributes."""
    volume = tree.volume
    records = (item for item in volume.iter_records() if item[1] and item[1][22] & 1)
    return sum(len(parse_pieces(volume, number, record or b"")) for number, record in records)


def look_up(path: Path, depth: int) -> None:
    """Opens the volume and goes down a chain of folders."""
    tree = NtfsTree(RawImage(HostFile(path)))
    node = tree.root
    for number in range(depth):
        entry = tree.find_child(node, b"deep %d" % number)
        assert entry is not None
        node = entry.node


def find_by_driver(path: Path, point: Path) -> None:
    """Mounts by ntfs-3g, and walks all names with their sizes."""
    subprocess.run(["ntfs-3g", "-o", "ro", path, point], check=True)
    try:
        find = ["find", str(point), "-size", "+1000000c"]
        subprocess.run(find, check=True, stdout=subprocess.DEVNULL)
    finally:
        subprocess.run(["umount", point], check=True)


def main() -> None:
    """Prints ratios of one run."""
    files = int(sys.argv[1]) if len(sys.argv) > 1 else 200_000
    with tempfile.TemporaryDirectory() as folder:
        path, point = Path(folder) / "volume", Path(folder) / "mount"
        point.mkdir()
        make(path, files)
        tree = NtfsTree(RawImage(HostFile(path, writable=True)))
        driver = took(lambda: find_by_driver(path, point))
        walked = took(lambda: walk(tree))
        slack = took(lambda: len(list(iter_slack(tree.volume))))
        checked = took(lambda: check_volume(RawImage(HostFile(path, writable=True))))
        first, *rest = [took(partial(look_up, path, depth)) for depth in _DEPTHS]
    print(f"{files} files; mount by ntfs-3g and find: 1")
    print(f"walk of the table with all attributes / that: {walked / driver:.2f}")
    print(f"looking for slack / that: {slack / driver:.2f}")
    print(f"whole check / that: {checked / driver:.2f}")
    for depth, seconds in zip(_DEPTHS[1:], rest, strict=True):
        print(f"look-up at depth {depth} / at depth {_DEPTHS[0]}: {seconds / first:.2f}")


if __name__ == "__main__":
    main()
