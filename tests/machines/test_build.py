"""Build sheets, the simulated host and the yard."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import DEMO_TIME, Command, build, start, stop
from tests.oracles import cut_partition, judge_ext, judge_qcow2, mounted, run, to_raw
from zeroseal.demo.scenario import BASE_DISK
from zeroseal.errors import (
    DamagedError,
    MissingError,
    NoSpaceError,
    OutputExistsError,
    RefusedError,
    UsageError,
)
from zeroseal.images.detect import open_image
from zeroseal.machines.adopt import adopt_image
from zeroseal.machines.definition import (
    MachineDefinition,
    NetworkCard,
    read_definition,
    write_definition,
)
from zeroseal.machines.yard import NETWORK_FILE, Yard
from zeroseal.sealing.check import check_image
from zeroseal.sealing.compare import compare_images, read_values
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.job import SealRequest, seal
from zeroseal.sealing.policy import DEFAULT_POLICY
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.sealing.verdict import Level, Verdict

NAME = "gangway-ref"


def edit(sheet: Path, before: str, after: str) -> None:
    text = sheet.read_text()
    assert before in text
    sheet.write_text(text.replace(before, after, 1))


def test_a_built_machine_has_a_real_identity_on_a_sound_disk(
    sheet: Path, yard: Yard, tmp_path: Path
) -> None:
    machine = build(sheet, yard)
    assert machine.definition.mac == "02:5a:17:00:00:01"
    judge_qcow2(machine.disk)
    raw = to_raw(machine.disk, tmp_path / "d.raw")
    run("sgdisk", "-v", raw)
    volume = cut_partition(raw, 2, tmp_path / "d.ext4")
    judge_ext(volume)
    for kind in ("ed25519", "ecdsa"):
        for suffix in ("", ".pub"):
            key = run("debugfs", "-R", f"cat /etc/ssh/ssh_host_{kind}_key{suffix}", volume)
            (tmp_path / f"key{suffix}").write_text(key)
            (tmp_path / f"key{suffix}").chmod(0o600)
        public = run("ssh-keygen", "-y", "-f", tmp_path / "key").split()[:2]
        assert (tmp_path / "key.pub").read_text().split()[:2] == public
    assert "Uid:  1000" in run("debugfs", "-R", "stat /home/ada.brine/notes.txt", volume) or (
        "User:  1000" in run("debugfs", "-R", "stat /home/ada.brine/notes.txt", volume)
    )
    assert b"not-a-real-password-17" in raw.read_bytes()  # deleted, and still there
    assert "old-login" not in run("debugfs", "-R", "ls /srv", volume)


def test_two_builds_of_one_sheet_are_two_machines(sheet: Path, tmp_path: Path) -> None:
    one = build(sheet, Yard(tmp_path / "a"))
    other = build(sheet, Yard(tmp_path / "b"))
    kinds = {item.value.kind for item in compare_images([one.disk, other.disk]).shared}
    assert not kinds & {"machine ID", "SSH host key", "random seed"}


@pytest.mark.parametrize(
    ("before", "after", "error", "told"),
    [
        ('sha256 = "', 'sha256 = "f', UsageError, "origin.sha256"),
        (f'"{BASE_DISK}"', '"missing.qcow2"', MissingError, "missing.qcow2 was not found"),
        (
            "cpus = 1",
            "cpu = 1",
            UsageError,
            "unknown key; did you mean",
        ),
        ("cpus = 1", "cpus = 0", UsageError, "machine.cpus"),
        ("version = 1", "version = 2", UsageError, "line 2: version is wrong"),
        ("[seed]", "[sead]", UsageError, "line 19: sead is wrong: unknown key"),
        ('name = "gangway-ref"', 'name = "../up"', UsageError, "machine.name"),
        ("[machine]", "[machine", UsageError, "not valid TOML"),
        (
            'mac = "02:5a:17:00:00:01"',
            'mac = "zz"',
            UsageError,
            "line 13: machine.network.mac is wrong",
        ),
    ],
)
def test_a_wrong_sheet_is_told_and_nothing_half_made_is_left(
    sheet: Path, yard: Yard, before: str, after: str, error: type[Exception], told: str
) -> None:
    edit(sheet, before, after)
    with pytest.raises(error, match=told):
        build(sheet, yard)
    assert yard.machines() == []
    assert not yard.folder.exists() or list(yard.folder.glob("*gangway*")) == []


def test_a_base_disk_with_another_checksum_is_refused(sheet: Path, yard: Yard) -> None:
    with (sheet.parent / BASE_DISK).open("ab") as disk:
        disk.write(b"\0")
    with pytest.raises(DamagedError, match="is not the disk that the sheet names"):
        build(sheet, yard)
    assert yard.machines() == []


def test_a_name_that_is_taken_is_refused(sheet: Path, yard: Yard) -> None:
    adopt_image(yard, sheet.parent / BASE_DISK, NAME)
    before = (yard.get(NAME).disk).read_bytes()
    with pytest.raises(OutputExistsError, match="was not built from this sheet"):
        build(sheet, yard)
    assert yard.get(NAME).disk.read_bytes() == before


@pytest.mark.parametrize(("size", "kept"), [("60k", 0), ("600k", 1)])
def test_a_full_disk_leaves_no_machine_or_an_unfinished_one(
    sheet: Path, tmp_path: Path, size: str, kept: int
) -> None:
    with mounted(tmp_path / "small", "-t", "tmpfs", "-o", f"size={size}", "none") as small:
        with pytest.raises(NoSpaceError):
            build(sheet, Yard(small / "yard"))
        left = Yard(small / "yard").machines()
        assert len(left) == kept
        assert all(machine.state.unfinished for machine in left)


def test_a_started_template_is_a_broken_seal_and_regrows_itself(
    sheet: Path, yard: Yard, tmp_path: Path
) -> None:
    machine = build(sheet, yard)
    sealed = tmp_path / "sealed.qcow2"
    seal(SealRequest(machine.disk, NewFile(sealed), DEFAULT_POLICY, DEMO_TIME + 100))
    adopted = adopt_image(yard, sealed, "twin")
    assert check_image(adopted.disk, Level.FULL).verdict is Verdict.SEALED
    told = start(yard, "twin", DEMO_TIME + 200).messages
    assert any("machine ID" in sentence for sentence in told)
    assert any("SSH host keys" in sentence for sentence in told)
    broken = check_image(adopted.disk, Level.FULL)
    assert broken.verdict is Verdict.BROKEN_SEAL
    assert broken.broken
    assert "/etc/machine-id" in broken.broken.files
    assert compare_images([machine.disk, adopted.disk]).are_unique
    judge_qcow2(adopted.disk)
    judge_ext(cut_partition(to_raw(adopted.disk, tmp_path / "t.raw"), 2, tmp_path / "t.ext4"))


def test_a_machine_keeps_its_identity_over_starts_and_stops(sheet: Path, yard: Yard) -> None:
    machine = build(sheet, yard)

    def identity() -> set[str]:
        image = open_image(machine.disk)
        values = read_values(Inspection.read(image))
        image.close()
        return {item.shown for item in values if item.kind != "random seed"}

    before = identity()
    assert start(yard, NAME, DEMO_TIME + 10).messages == ()
    with pytest.raises(RefusedError, match="is already running"):
        start(yard, NAME, DEMO_TIME + 20)
    assert yard.get(NAME).state.running
    stop(yard, NAME, DEMO_TIME + 30)
    with pytest.raises(RefusedError, match="not running"):
        stop(yard, NAME, DEMO_TIME + 40)
    assert identity() == before
    assert yard.get(NAME).state.boots == 2  # one of them in the build


def test_twins_get_one_address_and_are_told_apart_by_compare(sheet: Path, yard: Yard) -> None:
    machine = build(sheet, yard)
    adopt_image(yard, machine.disk, "twin")
    one, other = (start(yard, name, DEMO_TIME + 10).machine for name in (NAME, "twin"))
    assert one.state.address == other.state.address
    shared = compare_images([one.disk, other.disk])
    assert not shared.are_unique
    kinds = {item.value.kind for item in shared.shared}
    assert {"machine ID", "SSH host key", "host name", "leased address"} <= kinds


def test_an_empty_yard_is_an_ordinary_case(zeroseal: Command, tmp_path: Path) -> None:
    answer = zeroseal("yard", "list", "--yard", tmp_path / "none")
    assert answer.status == 0
    assert "has no machines yet" in answer.out
    assert json.loads(zeroseal("yard", "list", "--yard", tmp_path, "--json").out)["machines"] == []
    missing = zeroseal("yard", "start", "ghost", "--yard", tmp_path)
    assert missing.status == 3
    assert "has no machine 'ghost'; it contains no machines" in missing.err


@pytest.mark.parametrize(
    "text", ["", "version = 2\n", "version = 1\nname = 5\n", "version = 1\nx = 1\n", "["]
)
def test_a_damaged_machine_file_is_told(yard: Yard, text: str) -> None:
    folder = yard.folder / "m"
    folder.mkdir(parents=True)
    write_definition(
        folder, MachineDefinition("m", "u", 'disk "x".raw', (NetworkCard("02:"),), notes="ünïcode")
    )
    assert read_definition(folder).disk == 'disk "x".raw'
    (folder / "machine.toml").write_text(text)
    with pytest.raises(DamagedError, match="not a readable machine file"):
        yard.machines()


def test_the_network_runs_out_of_addresses_with_a_word(yard: Yard) -> None:
    yard.folder.mkdir()
    given = {yard.lease(f"client {number}") for number in range(214)}
    assert len(given) == 214
    assert yard.lease("client 3") in given
    with pytest.raises(NoSpaceError, match="no free address"):
        yard.lease("one more")
    (yard.folder / NETWORK_FILE).write_text("[]")
    with pytest.raises(DamagedError):
        yard.lease("again")
