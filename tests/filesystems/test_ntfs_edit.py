"""Changing NTFS: random edits against a plain model; drivers, parsers and our checker judge."""

from __future__ import annotations

import os
import random
import shutil
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from tests.edit_model import SIZES, WAYS, Model, Path_, dump
from tests.long import IS_LONG
from tests.ntfs import (
    NOW,
    Streams,
    compare_with_mount,
    fuse,
    judge_ntfs,
    judge_security,
    make_ntfs,
    streams_by_dissect,
    streams_by_sleuthkit,
    streams_of,
)
from tests.xfs import FileStore
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.tree import Kind

MATRIX = [
    "",
    "-c 512",
    "-c 1024",
    "-c 2048",
    "-c 8192",
    "-c 65536",
    "-s 4096 -c 4096",
    "-s 1024 -c 4096",
    "-C",
    "-c 262144",
    "-c 2097152",
]


@dataclass
class NtfsModel(Model):
    """Also named streams, by the node that has them; all names of a file lead to the same."""

    streams: dict[int, dict[str, bytes]] = field(default_factory=dict)

    def _stream(self, _folder: Path_, _name: bytes) -> None:
        path = self.some(bytes, type(None))
        if path:
            node, stream = self.node(path), f"stream {self.chance.randrange(30)}"
            content = self.chance.randbytes(self.chance.choice(SIZES))
            self.ntfs.write_stream(node, stream, content)
            self.streams.setdefault(node, {})[stream] = content

    def _unstream(self, _folder: Path_, _name: bytes) -> None:
        alive = {self.node(path) for path in self.tree}
        self.streams = {node: held for node, held in self.streams.items() if node in alive and held}
        if self.streams:
            node = self.chance.choice(sorted(self.streams))
            stream = self.chance.choice(sorted(self.streams[node]))
            self.ntfs.remove_stream(node, stream)
            del self.streams[node][stream]

    def _create(self, folder: Path_, name: bytes) -> None:
        super()._create(folder, name)
        self.streams.pop(self.node((*folder, name)), None)  # the record was another's before

    def _folder(self, folder: Path_, name: bytes) -> None:
        super()._folder(folder, name)
        self.streams.pop(self.node((*folder, name)), None)

    def _many(self, folder: Path_, name: bytes) -> None:
        super()._many(folder, name)
        for path in self.tree:
            if path[:-1] == folder and path[-1].startswith(name):
                self.streams.pop(self.node(path), None)

    @property
    def ntfs(self) -> NtfsEditor:
        assert isinstance(self.editor, NtfsEditor)
        return self.editor

    def check_streams(self, tree: NtfsTree) -> None:
        """What the tree holds now has exactly these streams."""
        for path in self.tree:
            node = tree.root
            for name in path:
                entry = tree.find_child(node, name)
                assert entry is not None
                node = entry.node
            expected = self.streams.get(node, {})
            assert {name for name in tree.stream_names(node) if name} == set(expected)
            for stream, content in expected.items():
                assert tree.read_named_stream(node, stream) == content


def dump_streams(tree: NtfsTree) -> dict[int, dict[str, bytes]]:
    """{node: {stream: content}} of all named streams."""
    found: dict[int, dict[str, bytes]] = {}
    pending = [tree.root]
    while pending:
        for entry in tree.list_folder(pending.pop()):
            if entry.kind is Kind.FOLDER:
                pending.append(entry.node)
            names = [name for name in tree.stream_names(entry.node) if name]
            if names:
                node = entry.node
                found[node] = {name: tree.read_named_stream(node, name) for name in names}
    return found


def edit_at_random(volume: Path, seed: int, steps: int, rounds: int = 2) -> None:
    """Edits, and judges after each round."""
    store, chance = FileStore(volume), random.Random(seed)
    tree = dump(NtfsTree(store))
    streams = dump_streams(NtfsTree(store))
    ways = f"{WAYS} stream stream unstream"
    for _round in range(rounds):
        model = NtfsModel(NtfsEditor(store, NOW), chance, tree, ways, streams)
        for _ in range(steps):
            model.step()
        model.editor.finish()
        tree, streams = model.tree, model.streams
        assert dump(NtfsTree(store)) == tree
        model.check_streams(NtfsTree(store))
        judge_ntfs(volume)
    store.close()


@pytest.mark.parametrize("options", MATRIX if IS_LONG else MATRIX[::2])
def test_random_edits_leave_a_sound_volume(tmp_path: Path, options: str) -> None:
    seeds = range(int(os.environ.get("ZEROSEAL_NTFS_SEEDS", "1")))  # more by hand
    megabytes = 1024 if "2097152" in options else 48
    for seed in seeds:
        volume = make_ntfs(tmp_path / "v", *options.split(), megabytes=megabytes)
        edit_at_random(volume, seed, 35)
        judge_security(volume)
        ours = streams_of(NtfsTree(FileStore(volume)))
        if "-c 2" not in options or "-c 2048" in options:  # it knows clusters up to 64 KiB
            assert streams_by_sleuthkit(volume) == without_empty_streams(ours)
        assert streams_by_dissect(volume) == ours
        with fuse(volume) as point:
            compare_with_mount(NtfsTree(FileStore(volume)), point)
            for path in point.iterdir():
                shutil.rmtree(path) if path.is_dir() and not path.is_symlink() else path.unlink()
        judge_ntfs(volume)


def without_empty_streams(found: Streams) -> Streams:
    """What the Sleuth Kit shows: no named stream that is empty, whoever made it."""
    return {key: content for key, content in found.items() if content or not key[1]}


def fill(point: Path) -> None:
    """What the driver makes: folders of many names, links, holes, streams, compressed files."""
    chance = random.Random(3)
    for number in range(500):
        (point / f"f{number:04}").write_bytes(chance.randbytes(chance.randrange(20_000)))
    for number in range(0, 500, 2):
        (point / f"f{number:04}").unlink()
    (point / "many").mkdir()
    for number in range(800):
        (point / "many" / f"entry-number-{number}").touch()
    with (point / "holes").open("wb") as file:
        for number in range(60):
            file.seek(number * 65536)
            file.write(b"h" * 4096)
    for number in range(60):
        (point / f"many:stream {number}").write_bytes(b"z" * 100 * number)
    os.link(point / "holes", point / "many" / "again")
    (point / "packed").mkdir()
    os.setxattr(point / "packed", "system.ntfs_attrib_be", b"\0\0\x08\x10")
    (point / "packed" / "words").write_bytes(b"packed in units " * 20_000)


@pytest.mark.parametrize("options", ["", "-c 512"])
def test_what_the_driver_made_is_read_changed_and_given_back_to_it(
    tmp_path: Path, options: str
) -> None:
    volume = make_ntfs(tmp_path / "v", *options.split(), megabytes=64)
    with fuse(volume, "compression") as point:
        fill(point)
    judge_ntfs(volume)
    with fuse(volume) as point:
        compare_with_mount(NtfsTree(FileStore(volume)), point)
    edit_at_random(volume, 5, 50)
    with fuse(volume) as point:
        compare_with_mount(NtfsTree(FileStore(volume)), point)
        shutil.rmtree(point / "many")
        for number in range(300):
            (point / f"new-{number}").write_bytes(b"new" * number)
    judge_ntfs(volume)
