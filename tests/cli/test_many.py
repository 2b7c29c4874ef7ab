"""One command over many images: answers in their order, the worst status, files for CI."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from xml.etree import ElementTree

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_guest_volume


@pytest.fixture
def images(tmp_path: Path, demo_disk: Path) -> Path:
    """A folder with a disk that can be sealed, one that may not, and one that is none."""
    folder = tmp_path / "images"
    folder.mkdir()
    shutil.copy(demo_disk, folder / "a.qcow2")
    make_guest_volume(tmp_path, BARE_GUEST).rename(folder / "b.img")
    (folder / "c.raw").write_bytes(b"no disk" * 1000)
    (folder / "notes.txt").write_text("no image")
    return folder


def test_each_image_has_its_line_and_the_worst_status_counts(
    images: Path, tmp_path: Path, zeroseal: Command
) -> None:
    junit = tmp_path / "answers.xml"
    found = zeroseal("survey", images, "--junit", junit, "--jobs", "2")
    assert found.status == 3
    lines = [line for line in found.out.splitlines() if line[:1].isalpha()]
    for line, (word, name) in zip(
        lines, [("ready", "a.qcow2"), ("NOT READY", "b.img"), ("FAILED", "c.raw")], strict=False
    ):
        assert line.startswith(word)
        assert name in line
    assert found.out.rstrip().endswith("3 images: 1 ready, 1 NOT READY, 1 FAILED")
    suite = ElementTree.parse(junit).getroot()
    assert {key: suite.get(key) for key in ("tests", "failures", "errors", "skipped")} == {
        "tests": "3", "failures": "1", "errors": "1", "skipped": "0",
    }  # fmt: skip
    again = zeroseal("survey", images, "--junit", junit)
    assert (
        again.status,
        "already exists" in again.err,
    ) == (4, True)


def test_sealed_into_a_folder_and_checked_line_by_line(
    images: Path, tmp_path: Path, zeroseal: Command
) -> None:
    out = tmp_path / "out"
    out.mkdir()
    answer = zeroseal("seal", images, "--to", out, "--format", "qcow2", "--plant-first-boot")
    assert answer.status == 3
    assert sorted(path.name for path in out.glob("*.qcow2")) == ["a.qcow2", "b.qcow2"]
    checked = zeroseal("check", out, "--json-lines")
    assert checked.status == 0
    lines = [json.loads(line) for line in checked.out.splitlines()]
    assert [(item["word"], Path(item["image"]).name) for item in lines] == [
        ("SEALED", "a.qcow2"), ("SEALED", "b.qcow2"),
    ]  # fmt: skip
    whole = json.loads(zeroseal("check", out, "--json").out)
    assert whole["schema"] == "zeroseal.many"
    assert [item["answer"]["schema"] for item in whole["images"]] == ["zeroseal.check"] * 2


def test_none_is_begun_after_the_first_that_failed_on_request(
    images: Path, zeroseal: Command
) -> None:
    (images / "a.qcow2").rename(images / "d.qcow2")
    (images / "c.raw").rename(images / "a.raw")
    found = zeroseal("survey", images, "--stop-at-first", "--jobs", "1", "--json")
    words = [item["word"] for item in json.loads(found.out)["images"]]
    assert words == ["FAILED", "not begun", "not begun"]


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("survey",), "name at least one image"),
        (("survey", "IMAGES/a.qcow2", "IMAGES/a.qcow2"), "is given twice"),
        (("survey", "EMPTY"), "has no disk image"),
        (("seal", "IMAGES"), "with --to DIR"),
        (("seal", "IMAGES", "-o", "x"), "-o names one file"),
        (("seal", "IMAGES", "--to", "/no/such"), "the folder"),
        (("check", "IMAGES", "--against", "x"), "--against needs --deep"),
    ],
)
def test_what_does_not_go_together_fails_before_any_work(
    images: Path, tmp_path: Path, zeroseal: Command, words: tuple[str, ...], told: str
) -> None:
    (tmp_path / "empty").mkdir()
    places = {"IMAGES": str(images), "EMPTY": str(tmp_path / "empty")}
    found = []
    for word in words:
        for name, place in places.items():
            word = word.replace(name, place)
        found.append(word)
    answer = zeroseal(*found)
    assert (answer.status in (2, 3), told in answer.err) == (True, True), answer.err


def test_an_interrupt_ends_all_of_them(images: Path) -> None:
    command = [sys.executable, "-m", "zeroseal", "survey", str(images)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    time.sleep(1.0)
    process.send_signal(signal.SIGINT)
    _out, err = process.communicate(timeout=60)
    assert process.returncode in (130, 3)
    assert b"Traceback" not in err
