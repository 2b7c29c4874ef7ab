"""The commands around machines as an administrator types them: words, answers, JSON, refusals."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.conftest import DEMO_TIME, Command, build
from tests.oracles import need, run
from zeroseal.demo.scenario import BASE_DISK, SHEET, lay_out
from zeroseal.machines.yard import Yard

NAME = "gangway-ref"


def lay_out_yard(folder: Path) -> Path:
    """Puts the demo's sheet and a yard with its machine into a folder."""
    lay_out(folder / "sheets")
    build(folder / "sheets" / SHEET, Yard(folder / "yard"), DEMO_TIME)
    return folder


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A folder with a yard, for one test."""
    return lay_out_yard(tmp_path)


@pytest.fixture(scope="module")
def kept_folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with a yard that no test changes."""
    return lay_out_yard(tmp_path_factory.mktemp("kept"))


def test_every_machine_command_has_json_with_its_documented_schema(
    folder: Path, zeroseal: Command
) -> None:
    yard = ("--yard", folder / "yard", "--json")
    sealed = folder / "sealed.qcow2"
    disk = folder / "yard" / NAME / "disk.qcow2"
    assert zeroseal("seal", disk, "-o", sealed, "--quiet").status == 0
    documented = (Path(__file__).parents[2] / "docs/json.md").read_text()
    for words, schema, keys in (
        (("build", folder / "sheets" / SHEET, *yard), "builds", {"builds"}),
        (("yard", "list", *yard), "machines", {"machines"}),
        (("yard", "show", NAME, *yard), "snapshots", {"snapshots", "readiness", "definition"}),
        (("yard", "start", NAME, *yard), "run", {"messages", "running", "simulated"}),
        (("yard", "stop", NAME, *yard), "run", {"messages", "running", "simulated"}),
        (("yard", "snapshot", NAME, "ebb", *yard), "snapshots", {"snapshots"}),
        (("yard", "revert", NAME, "ebb", "--yes", *yard), "snapshots", {"snapshots"}),
        (("yard", "snapshot", NAME, "ebb", "--drop", *yard), "snapshots", {"snapshots"}),
        (("renew", NAME, "--shelf", folder / "shelf", *yard), "renewal", {"template", "changes"}),
        (("trial", sealed, "--host", "simulated", "--json"), "trial", {"good", "regrowth"}),
        (("yard", "adopt", sealed, "--name", "twin", *yard), "machine", {"definition", "disk"}),
        (("yard", "remove", "twin", "--yes", *yard), "removal", {"removed"}),
    ):
        answer = zeroseal(*words)
        assert answer.status == 0, (words, answer.err)
        value = json.loads(answer.out)
        assert value["schema"] == f"zeroseal.{schema}"
        assert keys <= value.keys()
        assert f"| `{schema}` |" in documented


@pytest.mark.parametrize(
    ("words", "status", "told"),
    [
        (("build", "none.toml"), 3, "cannot read the build sheet none.toml: no such file"),
        (("build", "{sheet}", "{sheet}"), 2, "two of the sheets or variants create the machine"),
        (("build", "{sheet}", "--set", "machine.cpus"), 2, "write --set KEY=VALUE"),
        (("build", "{sheet}", "--variant", "north"), 2, "has no variants: leave out --variant"),
        (("build", "{sheet}", "--secrets", "none"), 3, "cannot read the secrets in none"),
        (("build", "{sheet}", "--settings", "none"), 3, "cannot read the build sheet none"),
        (
            ("yard", "revert", NAME, "ebb", "--yes"),
            2,
            "has no snapshot 'ebb'",
        ),
        (
            ("yard", "snapshot", NAME, "ebb", "--drop"),
            2,
            "has no snapshot 'ebb'",
        ),
        (("yard", "show", "ghost"), 3, "has no machine 'ghost'; it contains gangway-ref"),
        (("yard", "console", NAME), 2, "is on the simulated host, which has no console"),
        (("yard", "adopt", "{base}"), 2, "give the machine a name with --name"),
        (("yard", "adopt", "{base}", "--name", "../up"), 2, "is not a valid machine name"),
        (
            ("yard", "adopt", "{base}", "--name", NAME),
            4,
            "already exists",
        ),
        (
            ("yard", "adopt", "none@1", "--name", "a"),
            3,
            "has no template none@1",
        ),
        (("yard", "adopt", "{base}", "--machine", "no.xml"), 3, "no.xml was not found"),
        (("yard", "remove", NAME), 4, "will be removed: gangway-ref. Confirm with --yes"),
        (("renew", "ghost"), 3, "has no machine 'ghost'"),
        (("renew", NAME, "--version", "no/slash"), 2, "is not a valid version"),
        (("renew", NAME, "--keep", "0"), 2, "--keep must be at least 1"),
        (("renew", NAME, "--set", "task=[]"), 2, "no task with patch = true"),
        (("yard", "start", NAME, "--host", "moon"), 2, "'moon' is not valid"),
    ],
)
def test_what_makes_no_sense_is_refused_in_a_sentence(
    kept_folder: Path, zeroseal: Command, words: tuple[str, ...], status: int, told: str
) -> None:
    folder = kept_folder
    places = {"sheet": folder / "sheets" / SHEET, "base": folder / "sheets" / BASE_DISK}
    line = [str(word).format(**places) for word in words]
    where = [] if line[0] == "trial" else ["--yard", str(folder / "yard")]
    before = Yard(folder / "yard").get(NAME)
    answer = zeroseal(*line, *where)
    assert answer.status == status, answer.err
    assert told in answer.err
    assert "Traceback" not in answer.err
    assert Yard(folder / "yard").get(NAME) == before


def test_a_machine_without_a_sheet_cannot_be_renewed(folder: Path, zeroseal: Command) -> None:
    yard = ("--yard", folder / "yard")
    base = folder / "sheets" / BASE_DISK
    assert zeroseal("yard", "adopt", base, "--name", "old", *yard).status == 0
    answer = zeroseal("renew", "old", *yard)
    assert (answer.status, "was not built from a sheet" in answer.err) == (2, True)
    with_sheet = zeroseal("renew", "old", "--sheet", folder / "sheets" / SHEET, *yard,
                          "--shelf", folder / "shelf")  # fmt: skip
    assert with_sheet.status == 0, with_sheet.err


def test_an_adopted_disk_may_stay_where_it_is(folder: Path, zeroseal: Command) -> None:
    base = folder / "sheets" / BASE_DISK
    words = ("--name", "stays", "--in-place", "--yard", folder / "yard")
    assert zeroseal("yard", "adopt", base, *words).status == 0
    machine = Yard(folder / "yard").get("stays")
    assert machine.disk == base.resolve()
    assert zeroseal("survey", machine.disk).status == 0
    removed = zeroseal("yard", "remove", "stays", "--yes", "--with-disk", "--yard", folder / "yard")
    assert removed.status == 0
    assert base.is_file()  # it was never the yard's


@pytest.mark.qemu
def test_a_console_is_shown_until_it_is_interrupted(tmp_path: Path, zeroseal: Command) -> None:
    need("qemu-system-x86_64")
    run("qemu-img", "create", "-q", "-f", "raw", tmp_path / "blank.img", "8M")
    yard = ("--yard", tmp_path / "yard")
    (tmp_path / "m.xml").write_text(
        "<domain><name>blank</name><memory unit='MiB'>64</memory><devices><disk>"
        "<source file='a'/></disk><serial/></devices></domain>"
    )
    adopted = zeroseal("yard", "adopt", tmp_path / "blank.img", "--machine", tmp_path / "m.xml",
                       "--host", "qemu", *yard)  # fmt: skip
    assert adopted.status == 0, adopted.err
    assert zeroseal("yard", "start", "blank", *yard).status == 0
    try:
        log = tmp_path / "yard/blank/console.log"
        with log.open("ab") as file:
            file.write(b"\x1b[32mtide is rising\x1b[0m\r\n")
        words = [sys.executable, "-m", "zeroseal", "yard", "console", "blank", *map(str, yard)]
        console = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
        assert console.stderr is not None
        shown = console.stderr.readline()
        time.sleep(0.5)
        console.send_signal(signal.SIGINT)
        console.communicate(timeout=30)
        assert (shown, console.returncode) == ("tide is rising\n", 130)
    finally:
        assert zeroseal("yard", "stop", "blank", "--within", "1", *yard).status == 0
