"""What a run over many images keeps: its state, metrics, SARIF; and the watch that goes on."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from prometheus_client.parser import text_string_to_metric_families

from tests.conftest import Command
from zeroseal.cli.image_arguments import find_images


@pytest.fixture(scope="module")
def sealed(demo_disk: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    from zeroseal import api

    path = tmp_path_factory.mktemp("sealed") / "sealed.qcow2"
    api.seal(demo_disk, api.NewFile(path), now=1_790_000_000)
    return path


@pytest.fixture
def images(tmp_path: Path, sealed: Path, demo_disk: Path) -> Path:
    folder = tmp_path / "images"
    folder.mkdir()
    shutil.copyfile(sealed, folder / "good.qcow2")
    shutil.copyfile(f"{sealed}.seal.json", folder / "good.qcow2.seal.json")
    shutil.copyfile(demo_disk, folder / "used.qcow2")
    (folder / "odd.qcow2").write_bytes(b"QFI\xfb" + b"no disk" * 100)
    return folder


def answers_of(zeroseal: Command, *words: object) -> dict[str, tuple[str, bool]]:
    """Of each image, the word and whether it is an answer of an earlier run."""
    found = json.loads(zeroseal("check", *words, "--json").out)["images"]
    return {Path(item["image"]).name: (item["word"], "unchangedSince" in item) for item in found}


def test_only_what_changed_is_looked_at_again(
    images: Path, tmp_path: Path, zeroseal: Command
) -> None:
    state = tmp_path / "state.json"
    words = (images, "--state", state, "--changed")
    new = {"good.qcow2": "SEALED", "odd.qcow2": "FAILED", "used.qcow2": "UNSEALED"}
    assert answers_of(zeroseal, *words) == {name: (word, False) for name, word in new.items()}
    assert state.stat().st_mode & 0o077 == 0
    again = {name: (word, word != "FAILED") for name, word in new.items()}  # errors are asked again
    assert answers_of(zeroseal, *words) == again
    shown = zeroseal("check", *words)
    assert "not changed since" in " ".join(shown.out.split())
    assert answers_of(zeroseal, images, "--state", state) == {
        name: (word, False) for name, word in new.items()
    }
    with (images / "good.qcow2").open("r+b") as file:  # in the middle, and the old time again
        facts = (images / "good.qcow2").stat()
        file.seek(facts.st_size // 64 * 40 + 8)
        file.write(b"tide" * 40)
    os.utime(images / "good.qcow2", ns=(facts.st_atime_ns, facts.st_mtime_ns))
    assert answers_of(zeroseal, *words)["good.qcow2"][1] is False
    (images / "used.qcow2.seal.json").write_text("{}")  # a record came
    assert answers_of(zeroseal, *words)["used.qcow2"] == ("UNKNOWN", False)
    texts = tmp_path / "texts"
    own = (*words, "--level", "deep", "--canaries", texts)
    for text, is_known in (
        ("Winter Timetable", False),
        ("Winter Timetable", True),
        ("Tide", False),
    ):
        texts.write_text(f"{text} draft\n")
        assert answers_of(zeroseal, *own)["good.qcow2"][1] is is_known
    # another question is not answered by an old answer
    assert answers_of(zeroseal, *words, "--strict")["good.qcow2"][1] is False
    state.write_text("[]")
    refused = zeroseal("check", *words)
    assert (refused.status, "not a state file" in refused.err) == (3, True)
    assert zeroseal("check", images, "--changed").status == 2


def test_images_are_chosen_by_the_time_of_their_seal(images: Path, zeroseal: Command) -> None:
    late = answers_of(zeroseal, images, "--since", "2026-09-22")  # the seal is of 2026-09-21
    assert sorted(late) == ["odd.qcow2", "used.qcow2"]
    assert sorted(answers_of(zeroseal, images, "--since", "2026-09-20T10:00")) == [
        "good.qcow2", "odd.qcow2", "used.qcow2",
    ]  # fmt: skip
    assert zeroseal("check", images, "--since", "yesterday").status == 2


def test_metrics_and_sarif_say_what_was_answered(
    images: Path, tmp_path: Path, zeroseal: Command
) -> None:
    odd = images / 'a "quoted"\nname.qcow2'
    (images / "odd.qcow2").rename(odd)
    metrics, sarif = tmp_path / "zeroseal.prom", tmp_path / "answers.sarif"
    assert zeroseal("check", images, "--metrics", metrics, "--sarif", sarif).status == 3
    families = {
        family.name: family for family in text_string_to_metric_families(metrics.read_text())
    }
    ok = {sample.labels["image"]: sample.value for sample in families["zeroseal_check_ok"].samples}
    assert ok == {str(odd): 0, str(images / "good.qcow2"): 1, str(images / "used.qcow2"): 0}
    sealed_at = families["zeroseal_check_sealed_timestamp_seconds"].samples
    assert [sample.value for sample in sealed_at] == [1_790_000_000]
    counts = {
        sample.labels["answer"]: sample.value
        for sample in families["zeroseal_check_images"].samples
    }
    assert counts == {"SEALED": 1, "UNSEALED": 1, "FAILED": 1}
    assert zeroseal("check", images, "--metrics", metrics).status == 3  # replaced
    value = json.loads(sarif.read_text())
    assert value["version"] == "2.1.0"
    (run,) = value["runs"]
    rules = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    assert not run["invocations"][0]["executionSuccessful"]
    assert len(run["artifacts"]) == 3
    for result in run["results"]:
        assert rules[result["ruleIndex"]] == result["ruleId"]
        assert result["level"] in ("none", "note", "warning", "error")
        assert result["message"]["text"]
        place = result["locations"][0]["physicalLocation"]["artifactLocation"]
        assert run["artifacts"][place["index"]]["location"]["uri"] == place["uri"]
        assert "good" not in place["uri"]
    assert {"answer/failed", "answer/unsealed", "trace/keys.ssh-host"} <= set(rules)
    assert zeroseal("check", images, "--sarif", sarif).status == 4


def wait_for(path: Path, text: str, seconds: float = 60.0) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if path.is_file() and text in path.read_text():
            return
        time.sleep(0.05)
    raise AssertionError(f"{text} is not in {path.read_text() if path.is_file() else path}")


@pytest.mark.parametrize("ending", [signal.SIGINT, signal.SIGTERM])
def test_a_watch_sees_what_appears_and_changes_and_ends_at_once(
    images: Path, tmp_path: Path, sealed: Path, ending: signal.Signals
) -> None:
    metrics, said = tmp_path / "zeroseal.prom", tmp_path / "said"
    command = [sys.executable, "-m", "zeroseal", "check", "--watch", str(images), "--every", "0.2",
               "--metrics", str(metrics), "--json-lines"]  # fmt: skip
    with said.open("wb") as out:
        process = subprocess.Popen(command, stdout=out, stderr=subprocess.PIPE)
        wait_for(metrics, 'answer="FAILED"} 1')
        first = said.read_text()
        assert first.count("\n") == 3
        shutil.copyfile(sealed, images / "new.qcow2")
        wait_for(said, "new.qcow2")
        os.link(images / "good.qcow2.seal.json", images / "new.qcow2.seal.json")
        wait_for(metrics, 'zeroseal_check_images{answer="SEALED"} 2')
        (images / "odd.qcow2").unlink()
        end = time.monotonic() + 60
        while "odd.qcow2" in metrics.read_text() and time.monotonic() < end:
            time.sleep(0.05)
        assert "odd.qcow2" not in metrics.read_text()
        began = time.monotonic()
        process.send_signal(ending)
        _out, err = process.communicate(timeout=30)
    assert time.monotonic() - began < 3
    assert process.returncode == 130
    assert b"Traceback" not in err
    lines = [json.loads(line) for line in said.read_text().splitlines()]
    words = [item["word"] for item in lines if item["image"].endswith("new.qcow2")]
    assert words == ["CLEAN", "SEALED"]
    assert len(lines) == 5  # what did not change was not looked at again


def test_a_watch_is_refused_with_what_has_an_end(images: Path, zeroseal: Command) -> None:
    for words in (("--json",), ("--junit", "x.xml"), ("--every", "0")):
        done = zeroseal("check", "--watch", images, *words)
        assert done.status == 2, done.err


def test_two_thousand_names_are_sorted_out_quickly(tmp_path: Path) -> None:
    for number in range(2000):
        (tmp_path / f"{number}.raw").touch()
    began = time.process_time()
    assert len(find_images([tmp_path])) == 2000
    assert time.process_time() - began < 5
