"""A root file system that is no disk: folders and archives, judged by tar, find and cmp."""

from __future__ import annotations

import io
import json
import os
import signal
import socket
import subprocess
import sys
import tarfile
import time
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, write_tree
from tests.oracles import find_texts, run

GUEST = BARE_GUEST | SEEDING
GONE = [b"host-private-key-canary", b"home-canary", b"log-canary", b"ada.brine", b"pier-ref"]


@pytest.fixture
def tree(tmp_path: Path) -> Path:
    """A root file system with what may not be followed, or touched."""
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "log").write_text("not the guest's\n")
    root = tmp_path / "root"
    write_tree(root, GUEST | {"/var/cache/": "", "/tmp/": ""})
    (root / "var/crash").symlink_to(outside)
    (root / "etc/machine-info").symlink_to(outside / "log")
    (root / "tmp/link").symlink_to(outside)
    os.link(root / "var/log/gate.log", root / "srv-link")
    os.mkfifo(root / "tmp/pipe")
    with socket.socket(socket.AF_UNIX) as listening:
        old = Path.cwd()
        os.chdir(root / "tmp")  # a socket's path must be short
        listening.bind("socket")
        os.chdir(old)
    (root / "opt").mkdir()
    os.setxattr(root / "opt", "user.tide", b"high\0low")
    return root


def names(root: Path) -> str:
    found = run("find", root, "-mindepth", "1", "-printf", "%P %y %m %l\n")
    return "".join(sorted(found.splitlines(keepends=True)))


def test_a_folder_is_sealed_into_an_archive_and_stays_as_it_was(
    tree: Path, tmp_path: Path, zeroseal: Command
) -> None:
    before = names(tree)
    found = json.loads(zeroseal("survey", "--root", tree, "--json").out)
    assert found["ready"]
    assert any("not visible here" in text for text in found["readiness"]["advice"])
    out = tmp_path / "o.tar"
    answer = zeroseal("seal", "--root", tree, "-o", out)
    assert answer.status == 0, answer.err
    assert names(tree) == before
    assert (tmp_path / "outside/log").read_text() == "not the guest's\n"
    assert find_texts(out, GONE) == set()
    run("tar", "-tf", out)
    unpacked = tmp_path / "unpacked"
    unpacked.mkdir()
    run("tar", "-C", unpacked, "--xattrs", "--xattrs-include=*", "-xpf", out)
    assert os.getxattr(unpacked / "opt", "user.tide") == b"high\0low"
    assert (unpacked / "etc/machine-id").read_text() == ""
    assert (unpacked / "srv-link").stat().st_ino == (unpacked / "var/log/gate.log").stat().st_ino
    assert not (unpacked / "home/ada.brine").exists()
    assert zeroseal("check", "--root", out).out.startswith("SEALED")
    again = tmp_path / "again.tar"
    assert zeroseal("seal", "--root", out, "-o", again).status == 0
    assert out.read_bytes() == again.read_bytes()
    with out.open("r+b") as file:
        file.seek(4096)
        file.write(b"changed")
    assert zeroseal("check", "--root", out).out.startswith("BROKEN SEAL")


@pytest.mark.parametrize("suffix", [".tar.gz", ".tar.xz", ".tar"])
def test_an_archive_is_sealed_into_another(
    tree: Path, tmp_path: Path, zeroseal: Command, suffix: str
) -> None:
    packed = tmp_path / f"in{suffix}"
    (tree / "tmp/socket").unlink()
    run("tar", "-C", tree, "-caf", packed, ".")
    digest = packed.read_bytes()
    out = tmp_path / f"out{suffix}"
    assert zeroseal("survey", "--root", packed).status == 0
    assert zeroseal("seal", "--root", packed, "-o", out).status == 0
    assert packed.read_bytes() == digest
    listing = run("tar", "-tvf", out)
    assert "./home/ada.brine" not in listing
    assert "./tmp/pipe" not in listing  # temporary files go, pipes among them
    assert zeroseal("check", "--root", out).out.startswith("SEALED")


def test_a_folder_is_sealed_where_it_lies_and_nothing_outside_is_touched(
    tree: Path, tmp_path: Path, zeroseal: Command
) -> None:
    assert zeroseal("seal", "--root", tree, "--in-place").status == 0
    assert zeroseal("check", "--root", tree).out.startswith("CLEAN")
    assert (tmp_path / "outside/log").read_text() == "not the guest's\n"
    assert (tree / "tmp/socket").is_socket()
    assert not (tree / "tmp/pipe").exists()
    assert not (tree / "home/ada.brine").exists()
    assert (tree / "etc/hostname").read_text() == "localhost\n"
    assert subprocess.run(["grep", "-r", "canary", tree], check=False).returncode == 1
    rest = names(tree)
    assert zeroseal("seal", "--root", tree, "--in-place").status == 0
    assert names(tree) == rest


def test_a_seal_in_place_that_was_killed_is_finished_by_the_next(
    tree: Path, zeroseal: Command
) -> None:
    for number in range(400):
        (tree / f"var/log/many-{number}.log").write_text(f"log-canary {number}\n" * 50)
    command = [sys.executable, "-m", "zeroseal", "seal", "--root", str(tree), "--in-place"]
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    while process.poll() is None and (tree / "home/ada.brine/.bash_history").exists():
        time.sleep(0.001)
    process.send_signal(signal.SIGKILL)
    process.wait()
    assert zeroseal("seal", "--root", tree, "--in-place").status == 0
    assert zeroseal("check", "--root", tree).out.startswith("CLEAN")
    assert subprocess.run(["grep", "-r", "canary", tree], check=False).returncode == 1


def hostile(path: Path, *members: tuple[str, bytes, str]) -> Path:
    with tarfile.open(path, "w") as archive:
        for name, kind, target in members:
            info = tarfile.TarInfo(name)
            info.type, info.linkname = kind, target
            archive.addfile(info, io.BytesIO())
    return path


@pytest.mark.parametrize(
    ("members", "told"),
    [
        ([("../etc/passwd", tarfile.REGTYPE, "")], "leads outside the archive"),
        ([("etc", tarfile.SYMTYPE, "/"), ("etc/x", tarfile.REGTYPE, "")], "which is not a folder"),
        ([("a", b"Z", "")], "is not supported"),
        ([("etc/x", tarfile.REGTYPE, "")], "is not the root file system"),
        ([], "is not the root file system"),
    ],
)
def test_hostile_archives_are_refused_in_a_sentence(
    tmp_path: Path, zeroseal: Command, members: list[tuple[str, bytes, str]], told: str
) -> None:
    answer = zeroseal("survey", "--root", hostile(tmp_path / "h.tar", *members))
    assert (answer.status, told in answer.err) == (3, True), answer.err


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("survey", "--root", "none"), "none was not found"),
        (("survey", "--root", "ROOT", "x.img"), "cannot be combined with IMAGE"),
        (("seal", "--root", "ROOT"), "-o OUT.tar"),
        (("seal", "--root", "ROOT/etc/hosts", "-o", "x.tar"), "not a readable tar archive"),
        (
            ("seal", "--root", "ROOT", "-o", "x.tar", "--format", "raw"),
            "cannot be combined with --format",
        ),
        (("check", "--root", "ROOT", "--deep"), "level full only"),
    ],
)
def test_what_does_not_go_with_a_tree_is_told(
    tree: Path, zeroseal: Command, words: tuple[str, ...], told: str
) -> None:
    answer = zeroseal(*(word.replace("ROOT", str(tree)) for word in words))
    assert (answer.status in (2, 3), told in answer.err) == (True, True), answer.err


def test_a_cut_archive_is_told_and_a_full_disk_leaves_nothing(
    tree: Path, tmp_path: Path, zeroseal: Command
) -> None:
    packed = tmp_path / "in.tar"
    run("tar", "-C", tree, "--exclude=socket", "-cf", packed, ".")
    cut = tmp_path / "cut.tar"
    cut.write_bytes(packed.read_bytes()[: packed.stat().st_size // 2 + 100])
    assert zeroseal("seal", "--root", cut, "-o", tmp_path / "o.tar").status in (3, 4)
    command = [sys.executable, "-m", "zeroseal", "seal", "--root", str(packed), "-o", "o.tar"]
    script = f"ulimit -f 16; cd {tmp_path}; exec {' '.join(command)}"
    full = subprocess.run(["bash", "-c", script], capture_output=True, check=False)
    assert full.returncode == 5, full.stderr
    assert b"Traceback" not in full.stderr
    assert not [path for path in tmp_path.iterdir() if path.name.startswith((".o", "o.tar"))]
