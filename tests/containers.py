"""Containers for tests: made by qemu-img or by us, judged by qemu-img."""

from __future__ import annotations

import random
import shutil
from pathlib import Path

import pytest

from tests.oracles import run
from zeroseal.images.create import ContainerSpec, create_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.in_place import InPlaceChange

SIZE = 9 * 1024 * 1024 + 512 * 7
# our name for a format to QEMU's
QEMU_NAMES = {"vhd": "vpc"}
SPECS = [
    ContainerSpec("raw"),
    ContainerSpec("qcow2"),
    ContainerSpec("vmdk"),
    ContainerSpec("vhdx"),
    ContainerSpec("vhdx", fixed=True),
    ContainerSpec("vhd"),
    ContainerSpec("vhd", fixed=True),
    ContainerSpec("vdi"),
    ContainerSpec("vdi", fixed=True),
]


def name_of(spec: ContainerSpec) -> str:
    """A short name for a test."""
    return spec.format_name + "-fixed" * spec.fixed + f"-{spec.compress}" * bool(spec.compress)


def pattern(seed: int = 1, size: int = SIZE) -> bytes:
    """A disk with some data here and there; a part of it lies in the disk's last sectors."""
    chance = random.Random(seed)
    content = bytearray(size)
    for number in range(12):
        length = chance.randrange(1, min(200_000, size // 4))
        start = size - length if number == 0 else chance.randrange(size - length)
        content[start : start + length] = (chance.randbytes(50) * (length // 50 + 1))[:length]
    return bytes(content)


def make_image(path: Path, spec: ContainerSpec, content: bytes) -> Path:
    """An image of ours; zeros are left out."""
    path.write_bytes(b"")
    file = HostFile(path, writable=True)
    writer = create_image(file, spec, len(content), path.name)
    for start in range(0, len(content), writer.granule_bytes):
        piece = content[start : start + writer.granule_bytes]
        if any(piece):
            writer.write(start, piece)
    writer.finish()
    file.close()
    return path


def judge_container(path: Path, format_name: str, content: bytes) -> None:
    """qemu-img finds no fault in a container, and this disk in it."""
    qemu_name = QEMU_NAMES.get(format_name, format_name)
    if qemu_name not in ("raw", "vpc"):  # it has no check for those
        run("qemu-img", "check", "-f", qemu_name, path)
    raw = path.with_name(path.name + ".judged")
    run("qemu-img", "convert", "-f", qemu_name, "-O", "raw", path, raw)
    assert raw.read_bytes() == content
    raw.unlink()


def change_at_random(path: Path, model: bytearray, seed: int, steps: int = 40) -> None:
    """Writes and zeroes at random, in place, in the image and in the model of its disk."""
    chance = random.Random(seed)
    with InPlaceChange(path) as change:
        for _ in range(steps):
            start = chance.randrange(len(model))
            length = min(len(model) - start, chance.choice([1, 100, 5000, 200_000, 3_000_000]))
            if chance.random() < 0.5:
                data = chance.randbytes(length)
                change.image.write(start, data)
                model[start : start + length] = data
            else:
                change.image.zero(start, length)
                model[start : start + length] = bytes(length)
        assert change.image.read(0, len(model)) == model
        change.image.flush()
        assert change.reopen().read(0, len(model)) == model
        change.commit()


def fix_identifiers(monkeypatch: pytest.MonkeyPatch) -> None:
    """Containers get new identifiers with every change; here always the same ones."""
    import secrets
    import uuid

    fixed = uuid.UUID(int=7)
    monkeypatch.setattr(uuid, "uuid4", lambda: fixed)
    monkeypatch.setattr(secrets, "token_hex", lambda count=4: "5a" * count)


def copy_of(path: Path, target: Path) -> Path:
    """A copy."""
    shutil.copyfile(path, target)
    return target
