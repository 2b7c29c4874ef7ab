"""Damaged and hostile Windows disks: an answer or an error of ours, never a hang or a traceback."""

from __future__ import annotations

import os
import random
import time
from pathlib import Path

import pytest
from scripts.desk_machine import files, text

from tests.conftest import Command
from tests.windows import make_windows_disk
from tests.windows_judges import Judged

COUNT = int(os.environ.get("ZEROSEAL_WINDOWS_MUTATIONS", "6"))
CONFIG = "Windows/System32/config/"
STATUSES = (0, 1, 3, 4, 5)


@pytest.fixture(scope="module")
def disk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A sound machine."""
    return make_windows_disk(tmp_path_factory.mktemp("sound") / "purser.raw")


def _places(raw: bytes, dice: random.Random) -> list[int]:
    """Bytes to change: in hives, in records of the file table, in logs."""
    marks = [b"regf", b"hbin", b"nk", b"vk", b"sk", b"lh", b"FILE0", b"INDX", b"ElfChnk"]
    mark = dice.choice(marks)
    found: list[int] = []
    at = raw.find(mark)
    while at >= 0 and len(found) < 4000:
        found.append(at)
        at = raw.find(mark, at + 1)
    return [min(len(raw) - 8, dice.choice(found) + dice.randrange(96)) for _ in range(8)]


@pytest.mark.parametrize("seed", range(COUNT))
def test_mutated_disks_end_with_an_answer(
    tmp_path: Path, zeroseal: Command, disk: Path, seed: int
) -> None:
    dice, raw = random.Random(seed), bytearray(disk.read_bytes())
    for place in _places(bytes(raw), dice):
        raw[place : place + 4] = dice.choice([bytes(4), b"\xff" * 4, dice.randbytes(4)])
    damaged = tmp_path / "damaged.raw"
    damaged.write_bytes(raw)
    began = time.monotonic()
    for words in (("survey", damaged), ("seal", damaged, "-o", tmp_path / "x", "--reissue-sid"),
                  ("check", damaged), ("compare", damaged, disk)):  # fmt: skip
        answer = zeroseal(*words)
        assert answer.status in STATUSES, (words, answer)
        assert "Traceback" not in answer.err
    assert damaged.read_bytes() == raw
    assert time.monotonic() - began < 240


@pytest.mark.parametrize("name", ["SAM", "SOFTWARE", "SYSTEM", "SECURITY"])
def test_hives_that_are_cut_or_empty_are_told(tmp_path: Path, zeroseal: Command, name: str) -> None:
    sound = files()[CONFIG + name]
    for number, content in enumerate((b"", sound[:5000], b"regf" + bytes(8000))):
        disk = make_windows_disk(tmp_path / f"d{number}.raw", extra={CONFIG + name: content})
        for words in (("survey", disk), ("seal", disk, "-o", tmp_path / "x", "--reissue-sid")):
            answer = zeroseal(*words)
            assert answer.status in (1, 3, 4), answer
            assert "Traceback" not in answer.err


def test_a_profile_list_that_points_out_of_the_guest_reaches_nothing(
    tmp_path: Path, zeroseal: Command
) -> None:
    listed = "Microsoft\\Windows NT\\CurrentVersion\\ProfileList"
    rows = [
        ("SOFTWARE", text(f"{listed}\\S-1-5-21-1-2-3-{number}", "ProfileImagePath", folder))
        for number, folder in enumerate(
            (
                "C:\\",
                "C:\\Windows",
                "..\\..\\..",
                "C:\\Users\\Default",
                "\\\\host\\share",
                "C:\\Windows\\System32",
            )
        )
    ]
    disk = make_windows_disk(tmp_path / "d.raw", *rows)
    sealed = tmp_path / "x.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    after = Judged(sealed, tmp_path / "after")
    kept = ("/Windows/System32/ntoskrnl.exe", "/Program Files/Ticket desk/desk.exe",
            "/Users/Default/NTUSER.DAT", "/Users/Public/Documents/")  # fmt: skip
    assert set(kept) <= set(after.files)
    assert after.keys("SOFTWARE", listed) == ["S-1-5-18"]
