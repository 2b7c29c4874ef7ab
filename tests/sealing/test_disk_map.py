"""The map of a disk: what debugfs left in free blocks is counted exactly where debugfs put it."""

from __future__ import annotations

from pathlib import Path

from tests.disks import BARE_GUEST, make_guest_volume
from tests.oracles import run
from zeroseal.images.detect import open_image
from zeroseal.sealing.disk_map import DiskMap, read_disk_map
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import DEFAULT_POLICY

BLOCK = 1024
CELLS = 64


def map_of(path: Path) -> DiskMap:
    image = open_image(path)
    try:
        inspection = Inspection.read(image)
        return read_disk_map(image, inspection, inspection.find_all(DEFAULT_POLICY), CELLS)
    finally:
        image.close()


def test_content_in_free_blocks_is_counted_where_it_lies(tmp_path: Path) -> None:
    image = make_guest_volume(tmp_path, BARE_GUEST)
    before = map_of(image)
    assert sum(before.left) == 0
    assert before.size_bytes == image.stat().st_size
    (tmp_path / "gone").write_bytes(b"tide table of a pier that is no more\n" * 9000)
    run("debugfs", "-w", "-R", f"write {tmp_path}/gone /gone", image)
    blocks = [int(word) for word in run("debugfs", "-R", "blocks /gone", image).split()]
    held = map_of(image)
    assert sum(held.left) == 0  # a file is where it belongs
    run("debugfs", "-w", "-f", "-", image, feed="kill_file /gone\nunlink /gone\n")
    after = map_of(image)
    size = int(next(
        line.split()[-1] for line in run("dumpe2fs", "-h", image).splitlines()
        if line.startswith("Block size")
    ))  # fmt: skip
    cells = {block * size // after.part_bytes for block in blocks}
    cells.add(0)  # the inode that debugfs killed lies in the table at the beginning
    assert {number for number, count in enumerate(after.left) if count} <= cells
    content = (tmp_path / "gone").stat().st_size
    assert content - 64 * BLOCK <= sum(after.left) <= content + 64 * BLOCK
    assert all(left <= stored for stored, left in zip(after.stored, after.left, strict=True))


def test_the_map_names_the_volumes_by_their_place(demo_disk: Path) -> None:
    found = map_of(demo_disk)
    kinds = {volume.name: volume.kind for volume in found.volumes}
    assert kinds == {"partition 1": "vfat", "partition 2": "ext4", "partition 3": "swap"}
    for volume in found.volumes:
        assert volume.offset_bytes + volume.size_bytes <= found.size_bytes
    swap = next(volume for volume in found.volumes if volume.kind == "swap")
    first = swap.offset_bytes // found.part_bytes
    assert any(found.left[first : first + 4])  # the demo's swap holds a key
