"""Our checker of NTFS finds damage done on purpose; mutations raise only our errors."""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.ntfs import NOW, fuse, judge_ntfs, make_ntfs
from tests.patching import clean_part
from tests.xfs import FileStore
from zeroseal.blocks.staged import StagedStore
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.inventory import Part
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.check import check_volume
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.index import Index
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.volume import put_fixups, take_fixups
from zeroseal.filesystems.tree import Kind

LONGEST_SECONDS = 20
FOLDER, FILE = b"folder", b"many-streams"


@pytest.fixture(scope="module")
def sound(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Every form of file and folder: half made by ntfs-3g, half by us."""
    volume = make_ntfs(tmp_path_factory.mktemp("n") / "v")
    with fuse(volume) as point:
        (point / "by the driver").mkdir()
        for number in range(300):
            (point / "by the driver" / f"a name of a file {number}").write_bytes(b"d" * number)
        os.link(point / "by the driver" / "a name of a file 7", point / "again")
    store = FileStore(volume)
    editor = NtfsEditor(store, NOW)
    folder = editor.create_folder(editor.root, FOLDER, 0o755)
    for number in range(600):
        editor.create_file(folder, b"entry number %d" % number, b"e" * 10, 0o644)
    file = editor.create_file(editor.root, FILE, b"f" * 30_000, 0o644)
    for number in range(40):
        editor.write_stream(file, f"stream {number}", b"s" * 5000)
    editor.create_link(editor.root, b"link", b"folder/entry number 1")
    editor.set_security(file, b"\1\0\4\x80" + bytes(16) + b"made up for a test  ")
    editor.finish()
    store.close()
    judge_ntfs(volume)
    return volume


class Damage:
    """A copy of a sound volume, to be damaged."""

    def __init__(self, path: Path) -> None:
        self.store = FileStore(path)
        self.tree = NtfsTree(self.store)
        self.volume = self.tree.volume

    def number(self, name: bytes) -> int:
        entry = self.tree.find_child(self.tree.root, name)
        assert entry is not None
        return entry.node

    def patch_record(self, number: int, offset: int, content: bytes) -> None:
        """Changes a record beneath its update sequence."""
        record = bytearray(self.volume.read_record(number))
        record[offset : offset + len(content)] = content
        self.volume.write_raw_record(number, put_fixups(record))

    def attribute(self, number: int, kind: int, name: str = "") -> int:
        """The offset of an attribute in its record."""
        record = self.volume.read_record(number)
        position = int.from_bytes(record[20:22], "little")
        while True:
            found = int.from_bytes(record[position : position + 4], "little")
            assert found != layout.END
            size, start = record[position + 9], record[position + 10]
            raw = record[position + start : position + start + 2 * size]
            if found == kind and raw.decode("utf-16-le") == name:
                return position
            position += int.from_bytes(record[position + 4 : position + 8], "little")

    def block(self, name: bytes, index: str = "$I30") -> tuple[Index, int]:
        """The first leaf of a folder's index and its place on the volume."""
        found = Index(self.volume, self.tree.get_node(self.number(name)), index)
        assert found.allocation is not None
        return found, found.allocation.runs[0].lcn * self.volume.cluster_bytes

    def patch_block(self, name: bytes, change: Callable[[bytearray], None]) -> None:
        index, place = self.block(name)
        plain = take_fixups(self.store.read(place, index.block_bytes))
        assert plain is not None
        patched = bytearray(plain)
        change(patched)
        self.store.write(place, put_fixups(patched))


def bitmap_bit(damage: Damage, number: int, kind: int, bit: int, value: bool) -> None:
    attribute = damage.tree.get_node(number).find(kind)
    assert attribute is not None
    if attribute.value is not None:
        place = damage.attribute(number, kind) + 24 + bit // 8
        before = damage.volume.read_record(number)[place]
    else:
        place = attribute.runs[0].lcn * damage.volume.cluster_bytes + bit // 8
        before = damage.store.read(place, 1)[0]
    after = before | 1 << bit % 8 if value else before & ~(1 << bit % 8)
    if attribute.value is not None:
        damage.patch_record(number, place, bytes([after]))
    else:
        damage.store.write(place, bytes([after]))


def free_cluster(damage: Damage) -> None:
    run = damage.tree.get_node(damage.number(FILE)).attributes[2].runs[0]
    bitmap_bit(damage, layout.BITMAP, layout.DATA, run.lcn, value=False)


def lost_cluster(damage: Damage) -> None:
    bitmap_bit(damage, layout.BITMAP, layout.DATA, damage.volume.cluster_count - 9, value=True)


def shared_cluster(damage: Damage) -> None:
    """Two files with the same run list."""
    one, two = damage.number(b"one"), damage.number(b"two")
    at_one, at_two = (damage.attribute(number, layout.DATA) for number in (one, two))
    runs = damage.volume.read_record(one)[at_one + 64 : at_one + 72]
    damage.patch_record(two, at_two + 64, runs)


def free_record(damage: Damage) -> None:
    bitmap_bit(damage, layout.MFT, layout.BITMAP_ATTRIBUTE, damage.number(FILE), value=False)


def lost_record(damage: Damage) -> None:
    count = damage.volume.record_count
    bitmap_bit(damage, layout.MFT, layout.BITMAP_ATTRIBUTE, count - 1, value=True)


def swapped_entries(damage: Damage) -> None:
    def swap(block: bytearray) -> None:
        start = 24 + int.from_bytes(block[24:28], "little")
        length = int.from_bytes(block[start + 8 : start + 10], "little")
        second = start + length
        other = int.from_bytes(block[second + 8 : second + 10], "little")
        both = block[second : second + other] + block[start : start + length]
        block[start : start + length + other] = both

    damage.patch_block(FOLDER, swap)


def dropped_entry(damage: Damage) -> None:
    def drop(block: bytearray) -> None:
        start = 24 + int.from_bytes(block[24:28], "little")
        length = int.from_bytes(block[start + 8 : start + 10], "little")
        end = 24 + int.from_bytes(block[28:32], "little")
        block[start : end - length] = block[start + length : end]
        block[28:32] = (end - length - 24).to_bytes(4, "little")

    damage.patch_block(FOLDER, drop)


def renamed_entry(damage: Damage) -> None:
    def rename(block: bytearray) -> None:
        start = 24 + int.from_bytes(block[24:28], "little")
        block[start + 16 + 66 + 2 * 13] = ord("~")  # the last digit: still in order

    damage.patch_block(FOLDER, rename)


def stale_reference(damage: Damage) -> None:
    def age(block: bytearray) -> None:
        start = 24 + int.from_bytes(block[24:28], "little")
        block[start + 6] ^= 0x40

    damage.patch_block(FOLDER, age)


def torn_block(damage: Damage) -> None:
    _index, place = damage.block(FOLDER)
    damage.store.write(place + 510, b"\xee\xee")


def torn_record(damage: Damage) -> None:
    damage.store.write(damage.volume.record_offset(layout.ROOT) + 510, b"\xee\xee")


def missing_block(damage: Damage) -> None:
    number = damage.number(FOLDER)
    place = damage.attribute(number, layout.BITMAP_ATTRIBUTE, "$I30") + 32
    damage.patch_record(number, place, b"\xfe")


def extra_block(damage: Damage) -> None:
    number = damage.number(FOLDER)
    place = damage.attribute(number, layout.BITMAP_ATTRIBUTE, "$I30") + 32
    damage.patch_record(number, place + 7, b"\x80")


def link_count(damage: Damage) -> None:
    damage.patch_record(damage.number(b"again"), 18, b"\x03\0")


def sequence(damage: Damage) -> None:
    damage.patch_record(damage.number(FOLDER), 16, b"\x77\0")


def own_number(damage: Damage) -> None:
    damage.patch_record(damage.number(FOLDER), 44, b"\x01\0\0\0")


def allocated_size(damage: Damage) -> None:
    number = damage.number(b"one")
    damage.patch_record(number, damage.attribute(number, layout.DATA) + 40, b"\0\0\1")


def list_entry(damage: Damage) -> None:
    """The attribute list names an attribute by another instance."""
    node = damage.tree.get_node(damage.number(FILE))
    place = node.list_runs[0].lcn * damage.volume.cluster_bytes
    raw = bytearray(damage.store.read(place, 400))
    position = 0
    while int.from_bytes(raw[position + 16 : position + 20], "little") == node.number:
        position += raw[position + 4]
    damage.store.write(place + position + 24, b"\xfe\0")


def extension_base(damage: Damage) -> None:
    node = damage.tree.get_node(damage.number(FILE))
    damage.patch_record(node.extensions[0], 32, damage.number(FOLDER).to_bytes(4, "little"))


def mirror(damage: Damage) -> None:
    place = damage.volume.boot.mirror_cluster * damage.volume.cluster_bytes
    damage.store.write(place + 100, b"\xaa\xbb")


def boot_copy(damage: Damage) -> None:
    damage.store.write(damage.volume.size_bytes + 72, b"\x55" * 8)


def security_id(damage: Damage) -> None:
    number = damage.number(FOLDER)
    place = damage.attribute(number, layout.STANDARD_INFORMATION) + 24 + 52
    damage.patch_record(number, place, b"\x99\x77\0\0")


def secure_stream(damage: Damage, copy: bool) -> None:
    stream = damage.tree.get_node(layout.SECURE).find(layout.DATA, "$SDS")
    assert stream is not None
    place, size = 24 + copy * layout.SDS_BLOCK_BYTES, damage.volume.cluster_bytes
    for run in stream.runs:
        if place < run.clusters * size:
            damage.store.write(run.lcn * size + place, b"\x5a")
            return
        place -= run.clusters * size


def secure_hash(damage: Damage) -> None:
    secure_stream(damage, copy=False)


def secure_copy(damage: Damage) -> None:
    secure_stream(damage, copy=True)


def secure_index(damage: Damage) -> None:
    place = damage.attribute(layout.SECURE, layout.INDEX_ROOT, "$SII") + 32 + 32 + 20
    damage.patch_record(layout.SECURE, place, b"\x44")


def reparse_list(damage: Damage) -> None:
    entry = damage.tree.find_entry(layout.EXTEND, b"$Reparse")
    assert entry is not None
    number = entry.reference & layout.REFERENCE_MASK
    place = damage.attribute(number, layout.INDEX_ROOT, "$R") + 32 + 32 + 16
    damage.patch_record(number, place, b"\x03")


def dirty(damage: Damage) -> None:
    place = damage.attribute(layout.VOLUME, layout.VOLUME_INFORMATION) + 24 + 10
    damage.patch_record(layout.VOLUME, place, b"\x01")


def bad_clusters(damage: Damage) -> None:
    place = damage.attribute(layout.BAD_CLUSTERS, layout.DATA, "$Bad") + 48
    damage.patch_record(layout.BAD_CLUSTERS, place, b"\x11")


WAYS: dict[Callable[[Damage], None], str] = {
    free_cluster: "are in use but marked as free",
    lost_cluster: "are marked as in use but belong to no file",
    shared_cluster: "share cluster",
    free_record: "it is in use but marked as free",
    lost_record: "it is free but marked as in use",
    swapped_entries: "out of order",
    dropped_entry: "is missing from its index",
    renamed_entry: "is in its index but is not a name",
    stale_reference: "refers to an earlier file at record",
    torn_block: "was only partly written",
    torn_record: "it is invalid",
    missing_block: "a block in use is marked as free",
    extra_block: "cannot be reached is marked as in use",
    link_count: "it counts 3 names but has 2",
    sequence: "refers to an earlier",
    own_number: "it records that it is record 1",
    allocated_size: "but maps",
    list_entry: "lists an attribute that record",
    extension_base: "does not extend",
    mirror: "the copy of record",
    boot_copy: "the copy of the boot sector at the end of the volume differs",
    security_id: "does not exist",
    secure_hash: "the hash of the descriptor",
    secure_copy: "the copy of the descriptor",
    secure_index: "has a different entry",
    reparse_list: "is not listed",
    dirty: "marked dirty",
    bad_clusters: "an attribute of record 8",
}


def copied(sound: Path, path: Path) -> Path:
    shutil.copy(sound, path)
    return path


def test_a_sound_volume_has_no_problems(sound: Path) -> None:
    assert check_volume(FileStore(sound), "v") == []


@pytest.mark.parametrize("way", WAYS, ids=lambda way: way.__name__)
def test_damage_of_each_kind_is_found(
    sound: Path, tmp_path: Path, way: Callable[[Damage], None]
) -> None:
    volume = copied(sound, tmp_path / "v")
    store = FileStore(volume)
    editor = NtfsEditor(store, NOW)
    for name in (b"one", b"two"):
        editor.create_file(editor.root, name, b"c" * 4096, 0o644)
    editor.finish()
    assert check_volume(store, "v") == []
    way(Damage(volume))
    told = [f"{problem.where}: {problem.what}" for problem in check_volume(store, "v")]
    assert any(WAYS[way] in line for line in told), told


def visit(store: StagedStore) -> None:
    """Reads everything, then changes and cleans what can be."""
    tree = NtfsTree(store, "v")
    pending, seen = [tree.root], {tree.root}
    while pending:
        folder = pending.pop()
        for entry in tree.list_folder(folder):
            tree.get_facts(entry.node)
            tree.find_child(folder, entry.name)
            if entry.kind is Kind.FOLDER and entry.node not in seen:
                seen.add(entry.node)
                pending.append(entry.node)
            elif entry.kind is Kind.FILE:
                for stream in tree.stream_names(entry.node):
                    tree.read_named_stream(entry.node, stream, 1 << 20)
            elif entry.kind is Kind.LINK:
                tree.read_link(entry.node)
    editor = NtfsEditor(store, NOW)
    editor.create_file(editor.root, b"new", b"n" * 9000, 0o644)
    editor.remove_tree(editor.root, FOLDER)
    editor.finish()
    for part in Part:
        clean_part("ntfs", store, part)


def place_of_interest(tree: NtfsTree, chance: random.Random) -> int:
    """A byte of the boot sector, of a record, or of a block of an index."""
    volume = tree.volume
    what = chance.random()
    if what < 0.1:
        return chance.randrange(512)
    if what < 0.8:
        number = chance.choice([*range(12), *range(24, 80), chance.randrange(volume.record_count)])
        return volume.record_offset(number) + chance.randrange(volume.record_bytes)
    folder = tree.find_child(tree.root, FOLDER)
    assert folder is not None
    allocation = tree.get_node(folder.node).find(layout.INDEX_ALLOCATION, "$I30")
    assert allocation is not None
    run = chance.choice(allocation.runs)
    return run.lcn * volume.cluster_bytes + chance.randrange(run.clusters * volume.cluster_bytes)


@pytest.mark.parametrize("seed", range(int(os.environ.get("ZEROSEAL_NTFS_MUTATIONS", "1"))))
def test_mutated_volumes_raise_only_our_errors_soon(sound: Path, seed: int) -> None:
    chance = random.Random(seed)
    store = FileStore(sound)
    tree, opened = NtfsTree(store), 0
    for _ in range(25):
        staged = StagedStore(store)
        for _byte in range(chance.choice([1, 1, 4, 16])):
            place = place_of_interest(tree, chance)
            content = chance.choice([bytes([chance.randrange(256)]), b"\xff\xff", b"\0\0\0\0"])
            staged.write(place, content)
        began = time.monotonic()
        check_volume(staged, "v")
        with contextlib.suppress(ZeroSealError):
            NtfsTree(staged)
            opened += 1
            visit(staged)
        assert time.monotonic() - began < LONGEST_SECONDS
        staged.close()
    store.close()
    assert opened >= 8  # else nothing behind the first records was tried
