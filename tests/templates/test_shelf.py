"""The shelf as one administrator, or eight at once, use it; and what it says when it cannot."""

from __future__ import annotations

import json
import shutil
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import DEMO_TIME, Answer, Command
from tests.oracles import judge_qcow2, mounted, run, to_raw
from tests.templates.conftest import add, make, sealed_file
from zeroseal.errors import RefusedError
from zeroseal.machines.yard import Yard
from zeroseal.sealing.record import record_path
from zeroseal.templates.shelf.clone_links import Hold, clones_of
from zeroseal.templates.shelf.entry import Template
from zeroseal.templates.shelf.shelf import Shelf

ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="session")
def later(demo_disk: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same machine, sealed at another time: another disk."""
    return sealed_file(demo_disk, tmp_path_factory.mktemp("later") / "l.qcow2", DEMO_TIME + 9000)


def states(shelf: Shelf) -> dict[str, str]:
    return {item.entry.title: item.state for item in shelf.templates()}


def words(answer: Answer) -> str:
    return " ".join((answer.out + answer.err).split())


# -- states, notes and tags


def test_the_last_version_that_is_not_retired_is_the_current_one(
    shelf: Shelf, template: Template, later: Path
) -> None:
    second = add(shelf, later, "gangway", "2026-12")
    assert second.entry.previous == "2026-11"
    assert states(shelf) == {"gangway@2026-11": "previous", "gangway@2026-12": "current"}
    shelf.retire(second, (), DEMO_TIME)
    assert states(shelf) == {"gangway@2026-11": "current", "gangway@2026-12": "retired"}
    assert shelf.get("gangway").entry.title == "gangway@2026-11"
    shelf.change(shelf.get("gangway@2026-12"), retired_at=0)
    assert shelf.get("gangway").entry.title == "gangway@2026-12"


def test_notes_and_tags_are_part_of_no_digest(
    shelf: Shelf, template: Template, zeroseal: Command
) -> None:
    at = ("--shelf", shelf.folder)
    before = record_path(template.disk).read_bytes()
    assert zeroseal("shelf", "note", "gangway", "pier 3", *at).status == 0
    assert zeroseal("shelf", "tag", "gangway", "os=tideline", "gate", *at).status == 0
    assert zeroseal("shelf", "tag", "gangway", "gate", "--drop", *at).status == 0
    entry = shelf.get("gangway").entry
    assert (entry.notes, entry.tags) == ("pier 3", ("os=tideline",))
    assert record_path(template.disk).read_bytes() == before
    assert zeroseal("shelf", "verify", *at).status == 0
    refused = zeroseal("shelf", "tag", "gangway", "Two Words", *at)
    assert (refused.status, "is not a valid tag" in refused.err) == (2, True)


def test_the_list_is_filtered_and_sorted(
    shelf: Shelf, template: Template, later: Path, zeroseal: Command
) -> None:
    shelf.change(add(shelf, later, "books", "1.4.0"), tags=("ledger",))

    def titles(*more: str) -> list[str]:
        answer = json.loads(zeroseal("shelf", "list", "--json", "--shelf", shelf.folder, *more).out)
        return [item["entry"]["name"] for item in answer["templates"]]

    assert titles() == ["books", "gangway"]
    assert titles("--tag", "ledger") == ["books"]
    assert titles("--name", "gangway") == ["gangway"]
    assert titles("--state", "retired") == []
    assert titles("--sort", "date") == ["books", "gangway"]
    shown = zeroseal("shelf", "list", "--shelf", shelf.folder, "--state", "retired")
    assert shown.status == 0


def test_two_versions_are_told_apart_by_what_an_administrator_changed(
    shelf: Shelf, template: Template, demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    raw = to_raw(demo_disk, tmp_path / "r.raw")
    number, offset = 2, int(run("sgdisk", "-i", "2", raw).split("First sector:")[1].split()[0])
    assert number
    status = tmp_path / "status"
    status.write_text("Package: rope\nStatus: install ok installed\nVersion: 2.1\n\n")
    motd = tmp_path / "motd"
    motd.write_text("High water at six.\n")
    volume = f"{raw}?offset={offset * 512}"
    for source, target in ((status, "/var/lib/dpkg/status"), (motd, "/etc/motd")):
        run("debugfs", "-w", "-R", f"rm {target}", volume)
        run("debugfs", "-w", "-R", f"write {source} {target}", volume)
    add(shelf, sealed_file(raw, tmp_path / "s.qcow2", DEMO_TIME + 5000), "gangway", "2026-12")
    answer = zeroseal(
        "shelf", "diff", "gangway@2026-11", "gangway@2026-12", "--shelf", shelf.folder
    )
    assert answer.status == 1
    assert "+ rope 2.1" in words(answer)
    assert "/etc/motd" in answer.out
    same = zeroseal("shelf", "diff", "gangway@2026-12", "gangway@2026-12", "--shelf", shelf.folder)
    assert (same.status, same.out[:13]) == (0, "No difference")


# -- letting go


def test_a_template_is_kept_while_linked_clones_hang_on_it(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    yard = Yard(tmp_path / "yard")
    make(template, yard, "north", "south", linked=True)
    make(template, yard, "whole")
    at = ("--shelf", shelf.folder)
    for action in (["retire"], ["remove", "--yes"]):
        refused = zeroseal("shelf", action[0], "gangway@2026-11", *action[1:], *at)
        assert refused.status == 4
        assert "needed by 2 linked clones: north, south" in refused.err
    refused = zeroseal("shelf", "rename", "gangway", "gate", *at)
    assert (
        refused.status,
        "is needed by" in refused.err,
    ) == (4, True)
    assert zeroseal("shelf", "remove", "gangway@2026-11", "--yes", "--despite", "north", *at).status
    # one is made whole, one is removed: nothing hangs on it any more
    full = zeroseal("clone", "--make-full", "north", "--to", yard.folder)
    assert full.status == 0, full.err
    judge_qcow2(yard.folder / "north/disk.qcow2")
    removed = zeroseal("yard", "remove", "south", "--with-disk", "--yes", "--yard", yard.folder)
    assert removed.status == 0
    assert {item.noted.name: item.hold for item in clones_of(template)} == {
        "north": Hold.FULL, "whole": Hold.FULL,
    }  # fmt: skip
    assert zeroseal("shelf", "remove", "gangway@2026-11", "--yes", *at).status == 0
    assert shelf.templates() == []
    assert not (shelf.folder / "gangway").exists()


def test_clones_that_went_without_a_word_are_noticed_and_those_elsewhere_are_not_assumed_gone(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    here, away = Yard(tmp_path / "here"), Yard(tmp_path / "away")
    make(template, here, "deleted", linked=True)
    make(template, away, "remote", linked=True)
    shutil.rmtree(here.folder / "deleted")
    away.folder.rename(tmp_path / "on another host")
    holds = {item.noted.name: item.hold for item in clones_of(template)}
    assert holds == {"deleted": Hold.GONE, "remote": Hold.ELSEWHERE}
    with pytest.raises(RefusedError, match=r"1 linked clone: remote \(not found from here\)"):
        shelf.remove(template)
    assert zeroseal("shelf", "forget", "remote", "--shelf", shelf.folder).status == 0
    shelf.remove(template)
    unknown = zeroseal("shelf", "forget", "remote", "--shelf", shelf.folder)
    assert (unknown.status, "knows no clone 'remote'" in unknown.err) == (3, True)


def test_a_batch_is_removed_by_one_command_and_the_shelf_knows(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    yard = Yard(tmp_path / "yard")
    clones = make(template, yard, "north", "south", linked=True)
    batch = clones[0].definition.batch
    gone = zeroseal(
        "yard", "remove", "--batch", batch, "--with-disk", "--yes", "--yard", yard.folder
    )
    assert gone.status == 0, gone.err
    assert (yard.machines(), clones_of(template)) == ([], [])


# -- elsewhere and back


def test_a_bundle_brings_a_template_to_another_shelf(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    shelf.change(template, tags=("gate",))
    bundle, other = tmp_path / "gangway.bundle", Shelf(tmp_path / "other")
    at = ("--shelf", shelf.folder)
    assert zeroseal("shelf", "export", "gangway", "-o", bundle, "--compress", *at).status == 0
    assert run("tar", "tf", bundle).split() == [
        "entry.json", "disk.qcow2.seal.json", "disk.qcow2",
    ]  # fmt: skip
    brought = zeroseal("shelf", "import", bundle, "--shelf", other.folder)
    assert brought.status == 0, brought.err
    entry = other.get("gangway@2026-11").entry
    assert (entry.digest, entry.notes, entry.tags) == (
        template.entry.digest, "ticket gate", ("gate",),
    )  # fmt: skip
    renamed = zeroseal(
        "shelf", "import", bundle, "--as", "gate@7", "--shelf", tmp_path / "third", "--json"
    )
    assert json.loads(renamed.out)["entry"]["version"] == "7"
    again = zeroseal("shelf", "import", bundle, "--shelf", other.folder)
    assert (again.status, "already has gangway@2026-11" in again.err) == (4, True), again
    whole, refusals = bundle.read_bytes(), 0
    written = [place for place, byte in enumerate(whole) if byte]
    for place in written[:: len(written) // 8]:
        bundle.write_bytes(whole[:place] + bytes([whole[place] ^ 1]) + whole[place + 1 :])
        fourth = tmp_path / f"fourth-{place}"
        damaged = zeroseal("shelf", "import", bundle, "--shelf", fourth)
        if damaged.status:  # else it was a byte that holds nothing, and the disk is the same
            assert (damaged.status in (2, 3, 4), damaged.err.count("\n")) == (True, 1), damaged
            assert Shelf(fourth).templates() == []
            refusals += 1
    assert refusals > 3


@pytest.mark.parametrize("name", ["raw", "ova", "vhdx"])
def test_an_exported_template_stays_sealed_and_can_come_back(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command, name: str
) -> None:
    out = tmp_path / f"out.{name}"
    done = zeroseal(
        "shelf", "export", "gangway", "--format", name, "-o", out, "--shelf", shelf.folder
    )
    assert done.status == 0, done.err
    assert zeroseal("check", out).out.startswith("SEALED")
    refused = zeroseal("shelf", "import", out, "--shelf", tmp_path / "b")
    assert (refused.status, "--as NAME@VERSION" in refused.err) == (2, True)
    if name != "ova":
        back = zeroseal("shelf", "import", out, "--as", "gate@1", "--shelf", tmp_path / "b")
        assert back.status == 0, back.err


def test_an_export_in_no_format_names_those_that_there_are(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    words = ("shelf", "export", "gangway", "-o", tmp_path / "x", "--shelf", shelf.folder)
    refused = zeroseal(*words, "--format", "parcel")
    assert refused.status == 2
    assert "choose from bundle, raw, qcow2" in refused.err


# -- when it cannot go on


def test_every_kind_of_damage_on_a_shelf_is_one_sentence(
    shelf: Shelf, template: Template, later: Path, tmp_path: Path, zeroseal: Command
) -> None:
    at = ("--shelf", shelf.folder)
    disk, record = template.disk, record_path(template.disk)
    kept = record.read_bytes()

    def verify() -> tuple[int, str]:
        answer = zeroseal("shelf", "verify", *at)
        return answer.status, words(answer)

    assert verify()[0] == 0
    record.unlink()
    assert (verify()[0], "the image has no seal record beside it" in verify()[1]) == (1, True)
    record.write_bytes(kept.replace(template.entry.digest.encode(), b"0" * 64))
    assert (verify()[0], "BROKEN SEAL" in verify()[1]) == (1, True)
    record.write_bytes(record_path(later).read_bytes())
    assert verify()[0] == 1
    record.write_bytes(kept)
    shutil.move(disk, tmp_path / "away.qcow2")
    status, told = verify()
    assert (status, "disk.qcow2 was not found" in told or "no such file" in told.lower()) == (
        1,
        True,
    )
    cloned = zeroseal("clone", "gangway", "--name", "north", "--to", tmp_path / "yard", *at)
    assert (cloned.status, cloned.err.count("\n")) == (3, 1)
    # another container than the record says is no damage: the disk in it is the same
    run("qemu-img", "convert", "-O", "raw", tmp_path / "away.qcow2", disk)
    disk.chmod(0o444)
    assert verify()[0] == 0
    other = zeroseal("check", disk)
    assert "sealed as qcow2 but is raw now" in words(other)


def test_the_catalogue_can_be_lost_damaged_or_too_new(
    shelf: Shelf, template: Template, zeroseal: Command
) -> None:
    path, at = shelf.folder / "catalogue.sqlite", ("--shelf", shelf.folder)
    path.unlink()
    assert list(states(shelf)) == ["gangway@2026-11"]
    path.write_bytes(b"not a catalogue at all" * 99)
    damaged = zeroseal("shelf", "list", *at)
    assert (damaged.status, "build it again with zeroseal shelf rebuild" in damaged.err) == (
        3,
        True,
    )
    assert zeroseal("shelf", "rebuild", *at).status == 0
    with sqlite3.connect(path) as database:
        database.execute("PRAGMA user_version = 99")
    database.close()
    newer = zeroseal("shelf", "list", *at)
    assert (newer.status, "was written by a newer version: update zeroseal" in newer.err) == (
        3,
        True,
    )
    assert zeroseal("shelf", "rebuild", *at).status == 0
    assert list(states(shelf)) == ["gangway@2026-11"]


def test_a_folder_that_was_copied_onto_the_shelf_by_hand_is_on_it(
    shelf: Shelf, template: Template, zeroseal: Command
) -> None:
    shutil.copytree(template.folder, shelf.folder / "copy" / "1")
    assert list(states(shelf)) == ["copy@1", "gangway@2026-11"]
    shutil.rmtree(shelf.folder / "copy")
    assert list(states(shelf)) == ["gangway@2026-11"]


def test_a_shelf_that_may_only_be_read_is_read_and_full_clones_are_made_of_it(
    shelf: Shelf, template: Template, later: Path, tmp_path: Path, zeroseal: Command
) -> None:
    with mounted(tmp_path / "fixed", "-o", "bind,ro", shelf.folder) as fixed:
        at = ("--shelf", fixed)
        assert zeroseal("shelf", "list", *at).status == 0
        assert zeroseal("shelf", "verify", *at).status == 0
        full = zeroseal("clone", "gangway", "--name", "north", "--to", tmp_path / "yard", *at)
        assert full.status == 0, full.err
        for refused in (
            zeroseal("clone", "gangway", "--name", "a", "--linked", "--to", tmp_path / "yard", *at),
            zeroseal("shelf", "add", later, "--name", "gangway", "--version", "2", *at),
            zeroseal("shelf", "note", "gangway", "x", *at),
            zeroseal("shelf", "remove", "gangway@2026-11", "--yes", *at),
        ):
            assert (refused.status, refused.err.count("\n")) == (5, 1), refused.err
    assert [item.definition.name for item in Yard(tmp_path / "yard").machines()] == ["north"]


# -- many at once


def start_command(*words: str | Path) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [sys.executable, "-m", "zeroseal", *map(str, words)],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )


def test_eight_commands_at_once_share_a_shelf_and_a_yard(
    shelf: Shelf, sealed: Path, later: Path, template: Template, tmp_path: Path
) -> None:
    sheet, yard, at = tmp_path / "s.toml", tmp_path / "yard", ("--shelf", shelf.folder)
    sheet.write_text(
        'version = 1\ntemplate = "gangway@2026-11"\n[[clone]]\ncount = 3\nlinked = true\n'
        'numbers = { prefix = "gate-", first = 1, last = 99, digits = 2 }\n'
    )
    running = [
        start_command("shelf", "add", later, "--name", "gangway", "--version", "1", *at),
        start_command("shelf", "add", later, "--name", "gate", "--version", "2", *at),
        start_command("shelf", "note", "gangway@2026-11", "eight", *at),
        start_command("shelf", "list", *at),
        start_command("shelf", "verify", *at),
        *(start_command("clone", "--sheet", sheet, "--to", yard, *at) for _ in range(3)),
    ]
    answers = [(*process.communicate(), process.returncode) for process in running]
    statuses = [answer[2] for answer in answers]
    assert sorted(statuses[:2]) == [0, 4], answers[:2]  # one disk has one name
    assert statuses[2:] == [0] * 6, answers[2:]
    machines = Yard(yard).machines()
    assert [item.definition.name for item in machines] == [f"gate-0{n}" for n in range(1, 10)]
    assert len({item.definition.mac for item in machines}) == 9
    assert len({item.definition.batch for item in machines}) == 3
    assert len(clones_of(template)) == 9
    rows = shelf.index.rows()
    assert shelf.index.rebuild() == rows
    assert shelf.get("gangway@2026-11").entry.notes == "eight"
    assert [path for path in shelf.folder.rglob(".*") if path.is_dir()] == []


@pytest.mark.parametrize("what", ["adding", "cloning", "renaming"])
def test_killed_anywhere_a_shelf_and_a_yard_are_before_or_after(
    sealed: Path, tmp_path: Path, what: str
) -> None:
    words = (sys.executable, "-m", "tests.templates.killing", what, sealed, tmp_path)
    done = subprocess.run(
        [str(word) for word in words], cwd=ROOT, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout + done.stderr
    assert int(done.stdout) >= 5
