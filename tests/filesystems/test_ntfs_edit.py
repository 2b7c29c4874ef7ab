"""Changing NTFS: random edits against a plain model; drivers, parsers and our checker judge."""

from __future__ import annotations

import os
import random
import shutil
from pathlib import Path

import pytest

from tests.edit_model import Model, dump
from tests.ntfs import (
    NOW,
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


def edit_at_random(volume: Path, seed: int, steps: int, rounds: int = 2) -> None:
    """Edits, and judges after each round."""
    store, chance = FileStore(volume), random.Random(seed)
    tree = dump(NtfsTree(store))
    for _round in range(rounds):
        model = Model(NtfsEditor(store, NOW), chance, tree)
        for _ in range(steps):
            model.step()
        model.editor.finish()
        tree = model.tree
        assert dump(NtfsTree(store)) == tree
        judge_ntfs(volume)
    store.close()


@pytest.mark.parametrize("options", MATRIX)
def test_random_edits_leave_a_sound_volume(tmp_path: Path, options: str) -> None:
    seeds = range(int(os.environ.get("ZEROSEAL_NTFS_SEEDS", "2")))  # more by hand
    megabytes = 1024 if "2097152" in options else 48
    for seed in seeds:
        volume = make_ntfs(tmp_path / "v", *options.split(), megabytes=megabytes)
        edit_at_random(volume, seed, 35)
        judge_security(volume)
        ours = streams_of(NtfsTree(FileStore(volume)))
        if "-c 2" not in options or "-c 2048" in options:  # it knows clusters up to 64 KiB
            assert streams_by_sleuthkit(volume) == ours
        if not seed:
            assert streams_by_dissect(volume) == ours
        with fuse(volume) as point:
            compare_with_mount(NtfsTree(FileStore(volume)), point)
            for path in point.iterdir():
                shutil.rmtree(path) if path.is_dir() and not path.is_symlink() else path.unlink()
        judge_ntfs(volume)
