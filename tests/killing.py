"""Changes that are killed at any of their calls to the host; a test runs this as a program.

``python -m tests.killing WAY FORMAT FIXED FOLDER`` prints at how many places it was killed.
"""

from __future__ import annotations

import os
import random
import signal
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.containers import copy_of, fix_identifiers, make_image, pattern
from tests.long import IS_LONG
from zeroseal.images import holes, host_file
from zeroseal.images.create import ContainerSpec, create_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.in_place import InPlaceChange
from zeroseal.images.output import OutputFile
from zeroseal.images.redo import finish_interrupted
from zeroseal.images.redo_head import journal_path

DISK = 3 << 20
_POINTS = int(os.environ.get("ZEROSEAL_KILL_PLACES", "150" if IS_LONG else "70"))  # more by hand


def change(
    path: Path, pieces: int = 170, companion: str = "", device_folder: Path | None = None
) -> bytes:
    """Scattered writes and zeros in place, the same each time; returns what the disk is then."""
    chance = random.Random(4)
    with InPlaceChange(path, device_folder=device_folder) as changing:
        for _ in range(pieces):
            start = chance.randrange(DISK // 8192) * 8192
            if chance.random() < 0.8:
                changing.image.write(start, chance.randbytes(100))
            else:
                changing.image.zero(start, 5000)
        content = changing.image.read(0, DISK)
        changing.commit(companion, "the record" if companion else "")
    return content


def count_calls(patched: pytest.MonkeyPatch, told: Callable[[], None]) -> None:
    """Has ``told`` called before everything that changes a file of the host."""

    def counted(real: Callable[..., Any]) -> Callable[..., Any]:
        def call(*words: Any, **more: Any) -> Any:
            told()
            return real(*words, **more)

        return call

    patched.setattr(HostFile, "_write_some", counted(HostFile._write_some))
    patched.setattr(host_file, "punch_hole", counted(holes.punch_hole))
    patched.setattr(os, "fsync", counted(lambda _descriptor: None))  # a kill loses no write
    patched.setattr(os, "ftruncate", counted(os.ftruncate))
    patched.setattr(os, "unlink", counted(os.unlink))


Counting = Callable[[pytest.MonkeyPatch, Callable[[], None]], None]


def die_at(number: int, action: Callable[[], object], counting: Counting = count_calls) -> bool:
    """Runs an action in a child that is killed at its n-th call to the host; False if it ends."""
    child = os.fork()
    if child == 0:
        left = [number]

        def die() -> None:
            left[0] -= 1
            if left[0] < 0:
                os.kill(os.getpid(), signal.SIGKILL)

        try:
            counting(pytest.MonkeyPatch(), die)
            action()
        finally:
            os._exit(0)
    _pid, status = os.waitpid(child, 0)
    return os.WIFSIGNALED(status)


def write_new(path: Path, spec: ContainerSpec) -> None:
    """A new image in pieces of a sector, so that there are many calls."""
    chance = random.Random(4)
    with OutputFile(path) as output:
        writer = create_image(output.file, spec, 32 << 20, "x.disk")
        for number in range(340):
            writer.write(number * 65536, chance.randbytes(512))
        writer.finish()
        output.commit()


def points_of(count: int) -> list[int]:
    """Which calls to be killed at, and one behind the last."""
    return sorted({number * count // _POINTS for number in range(_POINTS + 1)})


def kill_in_place(folder: Path, spec: ContainerSpec) -> int:
    """Afterwards the image is as before, or the next command makes it what it was to be."""
    first = make_image(folder / "first.disk", spec, pattern(size=DISK))
    done, path = copy_of(first, folder / "done.disk"), folder / "x.disk"
    calls: list[None] = []
    with pytest.MonkeyPatch.context() as patched:
        count_calls(patched, lambda: calls.append(None))
        (folder / "disk").write_bytes(change(done))
    before, after, outcomes = first.read_bytes(), done.read_bytes(), []
    for number in points_of(len(calls)):
        copy_of(first, path)
        was_killed = die_at(number, lambda: change(path))
        outcomes.append(finish_interrupted(path))
        content = path.read_bytes()
        wanted = {
            "dropped": (before,),
            "carried through": (after,),
            "": (before, after),
        }
        assert content in wanted[outcomes[-1]]
        assert not journal_path(path).exists()
        assert was_killed == (number < len(calls))
    assert content == after
    order = [outcome for outcome in outcomes if outcome]
    assert order == sorted(
        order,
        key=[
            "dropped",
            "carried through",
        ].index,
    )
    assert len(set(order)) == 2
    return len(outcomes)


def kill_new_file(folder: Path, spec: ContainerSpec) -> int:
    """Afterwards the name is not there, or stands for the whole file."""
    done, path = folder / "done.disk", folder / "new" / "x.disk"
    path.parent.mkdir()
    calls: list[None] = []
    with pytest.MonkeyPatch.context() as patched:
        count_calls(patched, lambda: calls.append(None))
        write_new(done, spec)
    chance, disk = random.Random(4), bytearray(32 << 20)
    for number in range(340):
        disk[number * 65536 : number * 65536 + 512] = chance.randbytes(512)
    (folder / "disk").write_bytes(disk)
    after, seen = done.read_bytes(), set()
    for number in points_of(len(calls)):
        was_killed = die_at(number, lambda: write_new(path, spec))
        assert was_killed == (number < len(calls))
        seen.add(path.exists())
        if path.exists():
            assert len(path.read_bytes()) == len(after)
            assert path.read_bytes() == after
        is_there = path.exists()
        for left in path.parent.iterdir():
            assert is_there or left.stat().st_mode & 0o077 == 0
            left.unlink()
    assert seen == {False, True}
    return len(points_of(len(calls)))


if __name__ == "__main__":
    way, name, fixed, place = sys.argv[1:]
    fix_identifiers(pytest.MonkeyPatch())
    pytest.MonkeyPatch().setattr(os, "fsync", lambda _descriptor: None)
    kill = {"in place": kill_in_place, "new file": kill_new_file}[way]
    sys.stdout.write(f"{kill(Path(place), ContainerSpec(name, fixed=fixed == 'True'))}\n")
