"""The command line: answers, exit statuses, JSON, and one sentence for every kind of bad input."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import make_ext
from tests.oracles import run
from zeroseal.cli.main import COMMANDS, build_parser
from zeroseal.cli.options import spell_out
from zeroseal.sealing.record import record_path
from zeroseal.sentences import clean


def test_survey_answers_first_and_ends_with_what_to_do(zeroseal: Command, demo_disk: Path) -> None:
    answer = zeroseal("survey", demo_disk)
    assert answer.status == 0
    lines = answer.out.splitlines()
    assert lines[0].startswith("36 findings of 21 traces on Tideline Linux 4")
    assert lines[1] == "Ready to be sealed: nothing must be solved first."
    assert "keys.ssh-host" in answer.out
    assert lines[-1].strip().startswith(f"zeroseal seal {demo_disk} -o")
    assert answer.err == ""


def test_survey_names_every_place_and_shows_no_secret(zeroseal: Command, demo_disk: Path) -> None:
    answer = zeroseal("survey", demo_disk, "--places")
    assert "/etc/ssh/ssh_host_ed25519_key.pub  (SHA256:" in answer.out
    assert "$6$" not in answer.out
    assert "PRIVATE" not in answer.out


def test_survey_of_a_machine_that_is_not_ready_says_why(
    zeroseal: Command, bare_guest: Path
) -> None:
    answer = zeroseal("survey", bare_guest)
    assert answer.status == 1
    assert "Not ready to be sealed:" in answer.out
    assert "--retain-account" in " ".join(answer.out.split())
    assert (
        zeroseal("survey", bare_guest, "--as-if", "--expect-seed", "--plant-first-boot").status == 0
    )


def test_seal_check_and_check_again(zeroseal: Command, demo_disk: Path, tmp_path: Path) -> None:
    out = tmp_path / "gangway.sealed.qcow2"
    answer = zeroseal("seal", demo_disk, "-o", out)
    assert answer.status == 0
    assert answer.out.startswith("SEALED  ")
    assert "not changed, it still holds everything" in " ".join(answer.out.split())
    checked = zeroseal("check", out)
    assert checked.status == 0
    assert checked.out.startswith("SEALED  ")
    assert "(level full)" in checked.out.splitlines()[0]
    assert zeroseal("check", out, "--level", "quick").status == 0
    record_path(out).unlink()
    assert zeroseal("check", out).status == 0
    assert zeroseal("check", out, "--require-record").status == 1
    assert zeroseal("check", out, "--level", "quick").status == 1
    unsealed = zeroseal("check", demo_disk)
    assert unsealed.status == 1
    assert unsealed.out.startswith("UNSEALED  ")


def test_a_dry_run_writes_nothing_and_tells_a_refusal(
    zeroseal: Command, demo_disk: Path, bare_guest: Path, tmp_path: Path
) -> None:
    before = sorted(tmp_path.iterdir())
    answer = zeroseal("seal", demo_disk, "--dry-run", "--skip", "keys")
    assert answer.status == 0
    assert answer.out.startswith("Plan for ")
    assert "Skipped, and still there" in answer.out
    assert "A partial seal is not a seal" in answer.out
    refused = zeroseal("seal", bare_guest, "--dry-run")
    assert refused.status == 4
    assert refused.out.startswith("REFUSED")
    assert sorted(tmp_path.iterdir()) == before


def test_a_partial_seal_ends_with_one(zeroseal: Command, demo_disk: Path, tmp_path: Path) -> None:
    answer = zeroseal("seal", demo_disk, "-o", tmp_path / "o", "--only", "people,diary")
    assert answer.status == 1
    assert answer.out.startswith("UNSEALED  ")


def test_the_demo_tells_the_whole_story(zeroseal: Command, tmp_path: Path) -> None:
    folder = tmp_path / "demo"
    answer = zeroseal("demo", "--to", folder)
    assert answer.status == 0
    for words in (
        "UNSEALED: 36 findings",
        "SEALED: no trace was found",
        "UNIQUE: ",
        "BROKEN SEAL: ",
    ):
        assert words in answer.out
    assert "/etc/machine-id" in answer.out
    assert "the host is simulated" in " ".join(answer.out.split())
    assert len(answer.out.splitlines()) < 90
    again = zeroseal("demo", "--to", folder)
    assert again.status == 4
    assert "is not empty" in again.err


def test_the_line_of_work_by_hand(zeroseal: Command, tmp_path: Path, demo_disk: Path) -> None:
    yard, shelf, sealed = tmp_path / "yard", tmp_path / "shelf", tmp_path / "sealed.qcow2"
    assert "is empty" in zeroseal("shelf", "list", "--shelf", shelf).out
    assert zeroseal("seal", demo_disk, "-o", sealed, "--quiet").status == 0
    added = zeroseal(
        "shelf", "add", sealed, "--name", "gate", "--version", "1", "--notes", "n", "--shelf", shelf
    )
    assert added.status == 0
    assert "gate@1" in zeroseal("shelf", "list", "--shelf", shelf).out
    assert "gate@1" in zeroseal("shelf", "show", "gate", "--shelf", shelf).out
    words = ("clone", "gate@1", "--shelf", shelf, "--to", yard, "--name", "a", "--name", "b")
    made = zeroseal(*words)
    assert made.status == 0
    assert "2 full clones of gate@1" in made.out
    again = zeroseal(*words)
    assert (
        again.status,
        "already exists" in again.err,
    ) == (4, True)
    disks = [yard / name / "disk.qcow2" for name in ("a", "b")]
    assert zeroseal("compare", *disks).out.startswith("UNIQUE")
    for name in ("a", "b"):
        started = zeroseal("yard", "start", name, "--yard", yard)
        assert "on the simulated host: nothing was run" in " ".join(started.out.split())
    assert zeroseal("compare", *disks).status == 0
    listing = zeroseal("yard", "list", "--yard", yard).out
    assert "2 machines in" in listing
    assert listing.count("simulated") == 2
    assert zeroseal("yard", "show", "a", "--yard", yard).status == 0
    assert zeroseal("yard", "stop", "a", "--yard", yard).status == 0
    assert zeroseal("yard", "adopt", disks[0], "--name", "twin", "--yard", yard).status == 0
    assert zeroseal("yard", "start", "twin", "--yard", yard).status == 0
    shared = zeroseal("compare", disks[0], yard / "twin" / "disk.qcow2")
    assert shared.status == 1
    assert shared.out.startswith("SHARED: ")
    assert "SSH host key" in shared.out


@pytest.mark.parametrize(
    ("words", "status", "told"),
    [
        (["build", "none.toml"], 3, "cannot read the build sheet"),
        (["shelf", "add", "DISK", "--name", "x", "--version", "1"], 4, "is UNSEALED"),
        (["shelf", "show", "x"], 3, "has no template x; it contains no templates"),
        (["clone", "x", "--name", "a", "--to", "y"], 3, "has no template x"),
        (["clone", "DISK", "--name", "a", "--to", "y"], 4, "only a sealed template"),
        (["clone", "DISK", "--to", "y"], 2, "at least one clone"),
        (["clone", "DISK", "--name", "a", "--to", "y", "--public-key", "no"], 3, "public key"),
        (["compare", "DISK"], 2, "at least two images"),
        (["compare", "DISK", "DISK"], 2, "given twice"),
        (["yard", "adopt", "none", "--name", "a"], 3, "cannot open"),
        (["yard", "stop", "a"], 3, "no machine 'a'"),
    ],
    ids=lambda value: " ".join(value) if isinstance(value, list) else "",
)
def test_bad_input_to_machines_and_templates(
    zeroseal: Command,
    demo_disk: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    words: list[str],
    status: int,
    told: str,
) -> None:
    monkeypatch.chdir(tmp_path)
    answer = zeroseal(*(str(demo_disk) if word == "DISK" else word for word in words))
    assert (answer.status, answer.err.count("\n")) == (status, 1)
    assert told in answer.err
    assert list(tmp_path.iterdir()) == []


def test_traces_lists_all_and_explains_one(zeroseal: Command) -> None:
    assert zeroseal("traces").out.startswith("185 traces in eight families")
    some = zeroseal("traces", "--family", "keys", "--family", "wire").out
    assert "wire.clock-drift" in some
    assert "identity.machine-id" not in some
    wrong = zeroseal("traces", "--family", "kees")
    assert (wrong.status, "the families are identity, keys" in wrong.err) == (2, True)
    answer = zeroseal("traces", "keys.ssh-host")
    assert "whoever holds one clone's keys" in answer.out
    assert "/etc/ssh/ssh_host_*key" in answer.out
    assert "sshd-keygen.target" in answer.out


@pytest.mark.parametrize(
    ("words", "schema"),
    [
        (["survey", "DISK"], "zeroseal.survey"),
        (["seal", "DISK", "--dry-run"], "zeroseal.plan"),
        (["seal", "DISK", "-o", "OUT"], "zeroseal.seal"),
        (["check", "DISK"], "zeroseal.check"),
        (["traces"], "zeroseal.traces"),
        (["demo", "--to", "OUT"], "zeroseal.demo"),
        (["check", "NOTHING"], "zeroseal.error"),
    ],
    ids=" ".join,
)
def test_every_command_speaks_json(
    zeroseal: Command, demo_disk: Path, tmp_path: Path, words: list[str], schema: str
) -> None:
    real = {"DISK": str(demo_disk), "OUT": str(tmp_path / "out"), "NOTHING": str(tmp_path / "no")}
    answer = zeroseal(*(real.get(word, word) for word in words), "--json", "--quiet")
    value = json.loads(answer.out)
    assert (value["schema"], value["version"]) == (schema, 2)


def test_json_of_a_survey_carries_places_and_numbers(zeroseal: Command, demo_disk: Path) -> None:
    value = json.loads(zeroseal("survey", demo_disk, "--json").out)
    assert value["ready"] is True
    assert value["image"]["diskBytes"] == 32 << 20
    places = {item["trace"]: item["places"] for item in value["findings"]}
    assert places["identity.machine-id"][0]["place"] == "/etc/machine-id"
    assert value["volumes"][1]["content"] == "ext4"


@pytest.mark.parametrize(
    ("words", "status", "told"),
    [
        (["survey", "text"], 3, "no partition table and no file system"),
        (["survey", "empty"], 3, "is empty: it has no disk image"),
        (["survey", "truncated"], 3, "is truncated or damaged: the file ends at byte"),
        (["survey", "random"], 3, "is the disk image"),
        (["survey", "no-guest"], 3, "no supported operating system"),
        (["survey", "no-backing"], 3, "needs its backing file"),
        (["survey", "gone"], 3, "cannot open"),
        (["survey", "/"], 3, "has no disk image"),
        (["survey", "vmdk"], 3, "VMDK version 0"),
        (["survey", "vhd"], 3, "VHD with a footer that fails its checksum"),
        (["check", "text"], 3, ""),
        (["seal", "DISK"], 2, "name the new image with -o"),
        (
            ["seal", "DISK", "-o", "text"],
            4,
            "already exists",
        ),
        (["seal", "DISK", "-o", "nowhere/x"], 5, "the folder"),
        (["seal", "DISK", "-o", "/proc/x"], 5, "writing /proc/x failed"),
        (["seal", "DISK", "-o", "x", "--skip", "keys.nonsense"], 2, "the trace"),
        (["seal", "DISK", "-o", "x", "--retain-account", "bob"], 2, "no account 'bob'"),
        (["seal", "DISK", "-o", "x", "--compress", "--format", "raw"], 2, "cannot be compressed"),
        (["traces", "nonsense"], 2, "is not known"),
        (["seal", "no-guest", "-o", "x"], 3, "no supported operating system"),
    ],
    ids=lambda value: " ".join(value) if isinstance(value, list) else "",
)
def test_bad_input_gets_one_sentence_and_leaves_nothing(
    zeroseal: Command,
    demo_disk: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    words: list[str],
    status: int,
    told: str,
) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "text").write_text("hello\n")
    (tmp_path / "empty").touch()
    (tmp_path / "truncated").write_bytes(demo_disk.read_bytes()[:300_000])
    (tmp_path / "random").write_bytes(os.urandom(1 << 20))
    (tmp_path / "vmdk").write_bytes(b"KDMV".ljust(4096, b"\0"))
    (tmp_path / "vhd").write_bytes(bytes(4096) + b"conectix".ljust(512, b"\0"))
    make_ext(tmp_path / "no-guest", 4)
    run(
        "qemu-img", "create", "-f", "qcow2", "-u", "-b", "away.raw", "-F", "raw", "no-backing", "1M"
    )
    before = sorted(tmp_path.iterdir())
    answer = zeroseal(*(str(demo_disk) if word == "DISK" else word for word in words))
    assert answer.status == status
    assert told in answer.err
    if words[0] != "check":
        assert answer.err.count("\n") == 1
        assert answer.err.startswith("zeroseal: ")
        assert answer.out == ""
    assert "Traceback" not in answer.err
    assert sorted(tmp_path.iterdir()) == before


@pytest.mark.parametrize(
    "words", [[], ["nonsense"], ["survey", "x", "--jobs", "x"], ["check", "x", "--level", "abyss"]]
)
def test_words_that_make_no_sense_end_with_two(zeroseal: Command, words: list[str]) -> None:
    answer = zeroseal(*words)
    assert answer.status == 2
    assert re.search(r"See zeroseal( \w+)? --help\.", answer.err)


@pytest.mark.parametrize(
    ("words", "kind", "images"),
    [
        (["--compress", "a.qcow2", "-o", "b"], "small", ["a.qcow2"]),
        (["a.qcow2", "-o", "b", "--compress"], "small", ["a.qcow2"]),
        (["--compress", "fast", "a.qcow2", "-o", "b"], "fast", ["a.qcow2"]),
        (["a.qcow2", "-o", "b", "--compress=zstd"], "zstd", ["a.qcow2"]),
        (["a.qcow2", "-o", "b"], "", ["a.qcow2"]),
    ],
)
def test_an_image_may_follow_compress(words: list[str], kind: str, images: list[str]) -> None:
    args = build_parser().parse_args(spell_out(["seal", *words]))
    assert (args.compress, [str(path) for path in args.images]) == (kind, images)


def test_a_kind_of_compression_that_is_none_is_refused_by_name(zeroseal: Command) -> None:
    answer = zeroseal("seal", "a.qcow2", "-o", "b", "--compress", "best")
    assert answer.status == 2
    assert "'best' is not valid: choose from small, fast, zstd" in answer.err


ACTIONS = [
    *([name] for name in COMMANDS if name not in ("yard", "shelf")),
    *(["yard", action] for action in ("list", "show", "start", "stop", "adopt")),
    *(["shelf", action] for action in ("add", "list", "show")),
]


@pytest.mark.parametrize("words", ACTIONS, ids=" ".join)
def test_every_command_has_help(zeroseal: Command, words: list[str]) -> None:
    answer = zeroseal(*words, "--help")
    assert answer.status == 0
    assert "--json" in answer.out
    assert "--quiet" in answer.out


def test_help_imports_nothing_heavy() -> None:
    code = (
        "import sys, io, zeroseal.cli.main as m\n"
        "m.main(['--help'], io.StringIO(), io.StringIO(), {})\n"
        "print([n for n in ('numpy', 'rich', 'blake3', 'tomllib') if n in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


def test_output_goes_to_a_pipe_without_colour_and_survives_its_end(demo_disk: Path) -> None:
    command = [sys.executable, "-m", "zeroseal", "survey", str(demo_disk)]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    assert "\x1b" not in done.stdout
    shell = f"{' '.join(command)} --places | head -n 1"
    done = subprocess.run(["bash", "-c", shell], capture_output=True, text=True, check=True)
    assert done.stderr == ""


def test_names_from_a_guest_cannot_drive_the_terminal() -> None:
    assert clean("a\x1b[2Jb\nc\udcff") == "a?[2Jb?c\\udcff"


def test_debug_shows_where_an_error_came_from(zeroseal: Command, tmp_path: Path) -> None:
    answer = zeroseal("--debug", "survey", tmp_path / "gone")
    assert "Traceback" in answer.err
    assert answer.status == 3


@pytest.mark.parametrize("name", ["disk.qcow2", "disk", "disk.img"])
def test_what_survey_suggests_is_carried_out(
    zeroseal: Command, demo_disk: Path, tmp_path: Path, name: str
) -> None:
    disk = tmp_path / name
    disk.write_bytes(demo_disk.read_bytes())
    options = ["--source-format", "qcow2"] if name.endswith(".img") else []
    survey = zeroseal("survey", disk, *options).out
    suggested = [line.split()[1:] for line in survey.splitlines() if "zeroseal seal" in line]
    assert len(suggested) == 2
    for words in suggested:
        done = zeroseal(*words)
        assert done.status == 0, (words, done.err)


def test_survey_suggests_no_seal_that_would_be_refused(zeroseal: Command, bare_guest: Path) -> None:
    told = zeroseal("survey", bare_guest)
    assert told.status == 1
    assert "zeroseal seal" not in told.out
    assert f"zeroseal survey {bare_guest}" in told.out


def test_the_suffix_of_the_new_image_decides_its_format(
    tmp_path: Path, bare_guest: Path, zeroseal: Command
) -> None:
    words = ("seal", bare_guest, "--plant-first-boot", "--expect-seed", "--quiet", "--json", "-o")
    for name, options, expected in (
        ("a.qcow2", (), "qcow2"), ("b.VHDX", (), "vhdx"), ("c.raw", (), "raw"),
        ("d.qcow2", ("--format", "vdi"), "vdi"), ("e.image", (), "raw"),
    ):  # fmt: skip
        answer = zeroseal(*words, tmp_path / name, *options)
        assert json.loads(answer.out)["output"]["format"] == expected, answer.err
