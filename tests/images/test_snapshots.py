"""Internal snapshots of qcow2: QEMU's are read, ours are judged and used by QEMU."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from tests.containers import SIZE, pattern
from tests.oracles import judge_qcow2, run, to_raw
from zeroseal.errors import UsageError
from zeroseal.images.detect import open_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.qcow2.snapshots import drop_snapshot, revert_to_snapshot, take_snapshot
from zeroseal.images.qcow2.write import WritableQcow2


def opened(path: Path) -> WritableQcow2:
    return WritableQcow2(HostFile(path, writable=True))


@pytest.mark.parametrize("options", ["compat=1.1", "compat=0.10", "extended_l2=on"])
def test_any_snapshot_of_qemu_is_read(tmp_path: Path, options: str) -> None:
    path, states = tmp_path / "a.qcow2", {}
    (tmp_path / "a.raw").write_bytes(pattern())
    run("qemu-img", "convert", "-O", "qcow2", "-o", options, tmp_path / "a.raw", path)
    for number in range(3):
        run("qemu-io", "-c", f"write -P {number + 1} {number * 300}k 500k", path)
        states[f"ebb {number}"] = to_raw(path, tmp_path / "b.raw").read_bytes()
        run("qemu-img", "snapshot", "-c", f"ebb {number}", path)
    run("qemu-io", "-c", "write -P 9 0 2M", path)
    assert open_image(path).snapshots == list(states)
    for number, (name, content) in enumerate(states.items(), 1):
        for key in (name, str(number)):
            assert open_image(path, key).read(0, SIZE) == content
    with pytest.raises(UsageError, match="it has ebb 0, ebb 1, ebb 2"):
        open_image(path, "flood")
    with pytest.raises(UsageError, match="not a qcow2"):
        open_image(tmp_path / "a.raw", "flood")


@pytest.mark.parametrize("options", ["compat=1.1", "cluster_size=4k", "extended_l2=on"])
def test_snapshots_are_taken_reverted_to_and_dropped(tmp_path: Path, options: str) -> None:
    path, chance = tmp_path / "a.qcow2", random.Random(5)
    (tmp_path / "a.raw").write_bytes(pattern())
    run("qemu-img", "convert", "-O", "qcow2", "-o", options, tmp_path / "a.raw", path)
    model, kept = bytearray(pattern()), {}
    for step in range(25):
        image = opened(path)
        start = chance.randrange(SIZE - 300_000)
        data = chance.randbytes(chance.randrange(1, 300_000))
        image.write(start, data)
        model[start : start + len(data)] = data
        kind = chance.choice(["take", "take", "revert", "drop", "zero"])
        if kind == "take":
            take_snapshot(image, f"s{step}", 1_795_000_000)
            kept[f"s{step}"] = bytes(model)
        elif kind == "revert" and kept:
            name = chance.choice(list(kept))
            revert_to_snapshot(image, name)
            model = bytearray(kept[name])
        elif kind == "drop" and kept:
            name = chance.choice(list(kept))
            drop_snapshot(image, name)
            del kept[name]
        else:
            image.zero(0, 3 << 20)
            model[: 3 << 20] = bytes(3 << 20)
        image.flush()
        image.close()
        judge_qcow2(path)
    image = opened(path)
    assert image.snapshots == list(kept)
    image.close()
    assert to_raw(path, tmp_path / "b.raw").read_bytes() == model
    for name, content in kept.items():
        run("qemu-img", "snapshot", "-a", name, path)
        judge_qcow2(path)
        assert to_raw(path, tmp_path / "b.raw").read_bytes() == content


def test_what_only_a_dropped_snapshot_held_is_gone_from_the_file(tmp_path: Path) -> None:
    path = tmp_path / "a.qcow2"
    run("qemu-img", "create", "-f", "qcow2", path, "4M")
    image = opened(path)
    image.write(0, b"canary!" * 100_000)
    take_snapshot(image, "before", 0)
    image.zero(0, 4 << 20)
    image.flush()
    assert b"canary!" in path.read_bytes()
    drop_snapshot(image, "before")
    image.flush()
    image.close()
    judge_qcow2(path)
    assert b"canary!" not in path.read_bytes()


def test_names_that_are_taken_or_unknown_are_told(tmp_path: Path) -> None:
    path = tmp_path / "a.qcow2"
    run("qemu-img", "create", "-f", "qcow2", path, "4M")
    image = opened(path)
    take_snapshot(image, "ebb", 0)
    with pytest.raises(UsageError, match="another snapshot"):
        take_snapshot(image, "ebb", 0)
    for call in (drop_snapshot, revert_to_snapshot):
        with pytest.raises(UsageError, match="no snapshot 'flood'"):
            call(image, "flood")
