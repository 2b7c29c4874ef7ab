"""Images on a Dask cluster: the answers of one computer, with workers that die in the middle."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.fleet_lab import Cluster, cluster
from tests.long import IS_LONG
from tests.oracles import judge_qcow2

MANY = 1000 if IS_LONG else 24


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Cluster]:
    with cluster(tmp_path_factory.mktemp("dask") / "lab", workers=2) as made:
        yield made


@pytest.fixture(scope="module")
def sealed(demo_disk: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    from zeroseal import api

    path = tmp_path_factory.mktemp("sealed") / "sealed.qcow2"
    api.seal(demo_disk, api.NewFile(path), now=2_000_000_000)
    return path


def fill(folder: Path, sealed: Path, unsealed: Path, count: int) -> dict[str, str]:
    """Images of three kinds; the answer that is right for each."""
    folder.mkdir()
    right = {}
    for number in range(count):
        path = folder / f"i{number:04}.qcow2"
        match number % 3:
            case 0:
                os.link(sealed, path)
                os.link(f"{sealed}.seal.json", f"{path}.seal.json")
                right[path.name] = "SEALED"
            case 1:
                os.link(unsealed, path)
                right[path.name] = "UNSEALED"
            case _:
                path.write_bytes(b"QFI\xfb" + b"no image" * 20)
                right[path.name] = "FAILED"
    return right


def words_of(out: str) -> dict[str, str]:
    images = json.loads(out)["images"]
    return {Path(item["image"]).name: item["word"] for item in images}


def test_every_answer_is_right_though_a_worker_is_killed_in_the_middle(
    lab: Cluster, sealed: Path, demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    folder = tmp_path / "images"
    right = fill(folder, sealed, demo_disk, MANY)
    victim = lab.add_worker()
    lab.wait_for(3)
    words = ["check", str(folder), "--on", str(lab.file), "--json-lines"]
    command = [sys.executable, "-m", "zeroseal", *words]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout
        lines = [process.stdout.readline() for _ in range(5)]
        victim.kill()
        lines += process.stdout.readlines()
    assert process.returncode == 3  # some are no images
    answers = [json.loads(line) for line in lines]
    assert {Path(item["image"]).name: item["word"] for item in answers} == right
    assert len(answers) == MANY  # each once
    assert all(item["worker"] for item in answers)


def test_seals_are_whole_or_not_there_and_an_interrupt_leaves_nothing_running(
    lab: Cluster, demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    folder, out = tmp_path / "images", tmp_path / "out"
    folder.mkdir()
    out.mkdir()
    for number in range(6):
        os.link(demo_disk, folder / f"gate{number}.qcow2")
    words = ("seal", folder, "--to", out, "--on", lab.file)
    command = [sys.executable, "-m", "zeroseal", *map(str, words)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    end = time.monotonic() + 60
    while not list(out.iterdir()) and time.monotonic() < end:
        time.sleep(0.05)
    process.send_signal(signal.SIGINT)
    _out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err
    assert b"Traceback" not in err
    left = [path for path in out.iterdir() if path.name.startswith(".")]
    for _ in range(200):  # programs on workers end in their own way
        left = [path for path in out.iterdir() if path.name.startswith(".")]
        if not left:
            break
        time.sleep(0.1)
    assert left == []
    done = {path.name for path in out.glob("*.qcow2")}
    assert len(done) < 6
    shutil.rmtree(out)
    out.mkdir()
    finished = zeroseal(*words)
    assert finished.status == 0, finished.out
    for path in sorted(out.glob("*.qcow2")):
        judge_qcow2(path)
    assert zeroseal("check", out, "--on", lab.file).status == 0


def test_a_seal_whose_worker_is_killed_is_done_again(
    lab: Cluster, demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    folder, out = tmp_path / "images", tmp_path / "out"
    folder.mkdir()
    out.mkdir()
    for number in range(9):
        os.link(demo_disk, folder / f"gate{number}.qcow2")
    victim = lab.add_worker()
    lab.wait_for(3)
    words = ["seal", str(folder), "--to", str(out), "--on", str(lab.file), "--json-lines"]
    command = [sys.executable, "-m", "zeroseal", *words]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout
        lines = [process.stdout.readline()]
        victim.kill()
        lines += process.stdout.readlines()
    assert process.returncode == 0, lines
    assert {json.loads(line)["word"] for line in lines} == {"SEALED"}
    assert len(lines) == 9
    for _ in range(200):  # what the dead worker ran ends in its own way
        left = [path.name for path in out.iterdir() if path.name.startswith(".")]
        if not left:
            break
        time.sleep(0.1)
    assert left == []
    checked = json.loads(zeroseal("check", out, "--json").out)["images"]
    assert [item["word"] for item in checked] == ["SEALED"] * 9


def test_what_a_dead_worker_finished_counts(lab: Cluster, demo_disk: Path, tmp_path: Path) -> None:
    from zeroseal import __version__
    from zeroseal.fleet.task import Task
    from zeroseal.fleet.worker import run_task

    output = tmp_path / "sealed.qcow2"
    words = ("seal", str(demo_disk), "-o", str(output), "--json", "--quiet")
    task = Task(words, output=str(output), asked_at=time.time())
    assert run_task(task, __version__, "one").status == 0
    again = run_task(task, __version__, "one")  # as another worker would after the first died
    assert (again.status, again.value["verdict"]) == (0, "SEALED")
    late = Task(words, output=str(output), asked_at=time.time() + 3600)  # somebody else's file
    assert run_task(late, __version__, "one").status == 4
    assert "0.0.0" in run_task(task, "0.0.0", "one").value["message"]


def test_a_worker_that_sees_another_file_says_so(
    sealed: Path, tmp_path: Path, zeroseal: Command
) -> None:
    folder = tmp_path / "images"
    folder.mkdir()
    shutil.copyfile(sealed, folder / "a.qcow2")
    hidden = f'mount -t tmpfs none {folder} && exec "$@"'
    with cluster(tmp_path / "dask", workers=0) as lab:
        stated = ("--resources", "memory=8e9")
        lab.add_worker(*stated, inside=("unshare", "--mount", "sh", "-c", hidden, "sh"))
        lab.wait_for(1)
        done = zeroseal("check", folder, "--on", lab.file)
        assert done.status == 5
        assert "must lie where all workers see them" in " ".join(done.out.split())
        compared = zeroseal("compare", folder / "a.qcow2", sealed, "--on", lab.file)
        assert compared.status == 5
        assert "cannot read" in " ".join(compared.err.split())


def test_workers_with_too_little_memory_are_refused(
    sealed: Path, tmp_path: Path, zeroseal: Command
) -> None:
    with cluster(tmp_path / "dask", workers=0) as lab:
        lab.add_worker("--resources", "memory=1e8")
        lab.wait_for(1)
        done = zeroseal("check", sealed, "--on", lab.file)
        assert (done.status, "an image needs 768 MiB" in done.err) == (5, True), done.err
        lab.add_worker("--resources", "memory=8e9")
        lab.wait_for(2)
        assert zeroseal("check", sealed, "--on", lab.file).status == 0


def test_comparison_and_verification_are_the_same_on_a_cluster(
    lab: Cluster, sealed: Path, demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    other = tmp_path / "other.qcow2"
    shutil.copyfile(demo_disk, other)
    words = ("compare", demo_disk, other, sealed, "--json")
    assert json.loads(zeroseal(*words).out) == json.loads(zeroseal(*words, "--on", lab.file).out)
    own = ("--shelf", tmp_path / "shelf")
    added = zeroseal("shelf", "add", sealed, "--name", "gate", "--version", "1", *own)
    assert added.status == 0, added.err
    good = zeroseal("shelf", "verify", "--on", lab.file, *own)
    assert (good.status, "as sealed" in good.out) == (0, True), good.err
    disk = tmp_path / "shelf/gate/1/disk.qcow2"
    disk.chmod(0o644)
    with disk.open("r+b") as file:
        file.seek(-4096, 2)
        file.write(b"tide")
    bad = zeroseal("shelf", "verify", "--on", lab.file, *own)
    assert (bad.status, "DIFFERS" in bad.out) == (1, True)


@pytest.mark.parametrize(
    ("scheduler", "told"),
    [("tcp://127.0.0.1:9", "does not answer"), ("no-such-file", "there is no scheduler file")],
)
def test_no_cluster_is_one_sentence(
    sealed: Path, zeroseal: Command, scheduler: str, told: str
) -> None:
    done = zeroseal("check", sealed, "--on", scheduler)
    assert done.status == 5
    assert told in done.err
    assert "leave out --on" in done.err or "tcp://" in done.err


def test_a_cluster_without_workers_is_one_sentence(
    sealed: Path, tmp_path: Path, zeroseal: Command
) -> None:
    with cluster(tmp_path / "dask", workers=0) as lab:
        done = zeroseal("check", sealed, "--on", lab.file)
        assert (done.status, "has no workers" in done.err) == (5, True)
