"""How often a seal opens a volume and reads a file: once to read, once anew for the proof."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from importlib import resources
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Command
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.filesystems.fat.volume import FatVolume
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.filesystems.xfs.read import XfsTree
from zeroseal.filesystems.xfs.volume import XfsVolume
from zeroseal.guests.registry.hive import Hive

MAGIC_BYTES = 4
MACHINE_HIVES = ("sam", "security", "software", "system")
LARGE_BYTES = 8 << 20  # an initramfs


class Counts:
    """What was opened and read.

    Attributes:
        openings: how often each volume was opened, by its name.
        readings: how often each file was read to its end, by the tree that it was read through
            and its node.
        large: those of them that are no text: the finders of the proof read them, and its search.
        hives: how often each hive was parsed, by its path.
    """

    def __init__(self) -> None:
        self.openings: Counter[str] = Counter()
        self.readings: Counter[tuple[str, int]] = Counter()
        self.large: set[tuple[str, int]] = set()
        self.hives: Counter[str] = Counter()


@pytest.fixture
def counts(monkeypatch: pytest.MonkeyPatch) -> Counts:
    """Counts from now on."""
    found = Counts()

    def opened(volume: Any, *args: Any, **more: Any) -> None:
        del args, more
        found.openings[volume.where] += 1

    def was_read(tree: Any, node: int, limit_bytes: int | None = None) -> None:
        if limit_bytes is None or limit_bytes > MAGIC_BYTES:
            found.readings[tree.where, node] += 1
            if tree.get_facts(node).size_bytes > LARGE_BYTES:
                found.large.add((tree.where, node))

    def parsed(hive: Hive, *args: Any, **more: Any) -> None:
        del args, more
        found.hives[hive.where.lower()] += 1

    for volume in (ExtVolume, XfsVolume, NtfsVolume, FatVolume):
        _watch(monkeypatch, volume, "__init__", opened)
    for tree in (ExtTree, XfsTree, NtfsTree, FatTree):
        _watch(monkeypatch, tree, "read_file", was_read)
    _watch(monkeypatch, Hive, "__init__", parsed)
    return found


def _watch(
    monkeypatch: pytest.MonkeyPatch, owner: type, name: str, seen: Callable[..., None]
) -> None:
    real = getattr(owner, name)

    def watched(self: object, *args: Any, **more: Any) -> object:
        result = real(self, *args, **more)
        seen(self, *args, **more)
        return result

    monkeypatch.setattr(owner, name, watched)


def _seal(zeroseal: Command, disk: Path, output: Path, counts: Counts, *options: str) -> None:
    done = zeroseal("seal", disk, "-o", output, *options)
    assert done.status == 0, done.err
    assert set(counts.openings.values()) == {2}, counts.openings
    often = [place for place, number in counts.readings.items() if number > 2]
    assert set(often) <= counts.large, counts.readings.most_common(5)
    assert max(counts.readings.values()) <= 3


def test_a_seal_opens_each_volume_twice_and_reads_no_file_more_often(
    tmp_path: Path, demo_disk: Path, zeroseal: Command, counts: Counts
) -> None:
    _seal(zeroseal, demo_disk, tmp_path / "sealed.qcow2", counts)
    assert len(counts.openings) == 2
    assert counts.hives == {}


def test_the_same_holds_for_a_debian_on_lvm_and_xfs(
    tmp_path: Path, debian_on_xfs: Path, zeroseal: Command, counts: Counts
) -> None:
    _seal(zeroseal, debian_on_xfs, tmp_path / "sealed.qcow2", counts)


def test_a_seal_of_a_windows_parses_each_hive_once_to_read_and_once_for_the_proof(
    tmp_path: Path, zeroseal: Command, counts: Counts
) -> None:
    disk = tmp_path / "desk.qcow2"
    disk.write_bytes(resources.files("zeroseal.demo").joinpath("purser-ref.qcow2").read_bytes())
    _seal(zeroseal, disk, tmp_path / "sealed.qcow2", counts, "--reissue-sid")
    changed = [path for path, number in counts.hives.items() if number > 2]
    assert set(changed) <= {f"/windows/system32/config/{name}" for name in MACHINE_HIVES}
    assert max(counts.hives.values()) <= 3  # a new identifier is looked at in what was changed


@pytest.mark.parametrize("command", ["survey", "check"])
def test_a_look_opens_each_volume_once(
    demo_disk: Path, zeroseal: Command, counts: Counts, command: str
) -> None:
    zeroseal(command, demo_disk)
    assert set(counts.openings.values()) == {1}, counts.openings
    assert max(counts.readings.values()) == 1, counts.readings.most_common(5)
