"""Builds, tasks, snapshots, renewals and trials on the simulated host, and what goes wrong."""

from __future__ import annotations

import json
import threading
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from tests.conftest import DEMO_TIME, Command, build
from tests.oracles import cut_partition, find_texts, judge_ext, judge_qcow2, run, to_raw
from zeroseal.cli.time_window import TimeWindow, parse_window
from zeroseal.errors import (
    GuestError,
    HostError,
    InUseError,
    OutputExistsError,
    RefusedError,
    UnsupportedError,
    UsageError,
)
from zeroseal.machines import snapshots
from zeroseal.machines.adopt import adopt_image
from zeroseal.machines.build import BuildWish, build_machine
from zeroseal.machines.definition import write_definition
from zeroseal.machines.readiness import assess_machine
from zeroseal.machines.sheet.load import Wishes, load_sheet
from zeroseal.machines.sheet.secret_values import Secrets
from zeroseal.machines.snapshots import list_snapshots
from zeroseal.machines.yard import Yard, YardMachine

NAME = "gangway-ref"


def built(sheet: Path, yard: Yard, *sets: str, **secrets: str) -> YardMachine:
    loaded = load_sheet(sheet, Wishes(sets=sets, secrets=Secrets(secrets)))
    return build_machine(loaded, yard, BuildWish(DEMO_TIME)).machine


def log_of(machine: YardMachine, folder: Path, path: str = "/var/log/syslog") -> str:
    raw = to_raw(machine.disk, folder / "log.raw")
    volume = cut_partition(raw, 2, folder / "log.ext4")
    return run("debugfs", "-R", f"cat {path}", volume)


@pytest.mark.parametrize(
    ("words", "error", "told"),
    [
        (("simulated.faults=['never-up']",), GuestError, r"in the phase 'reach': SSH did not come"),
        (("simulated.faults=['dies']",), HostError, "the simulated host died while gangway-ref"),
        (("task=[{name='n', run='gate-update', until={output='never', at_most=3}}]",), GuestError,
         "runs there is still work left"),
        (("simulated.answers=[{run='gate', status=7, output=['broken key ${secret:k}']}]",
          "task=[{name='n', run='gate'}]"), GuestError, "'n' failed: it ended with status 7"),
        (("leave.must=['false']", "simulated.answers=[{run='false', status=1}]",
          "task=[]"), GuestError, "what must be true: 'false' ended with status 1"),
    ],
)  # fmt: skip
def test_a_phase_that_fails_is_told_and_the_machine_kept_off(
    sheet: Path, yard: Yard, words: tuple[str, ...], error: type[Exception], told: str
) -> None:
    with pytest.raises(error, match=told) as caught:
        built(sheet, yard, *words, k="not-a-real-secret")
    assert "is kept, switched off, for inspection" in str(caught.value)
    assert "not-a-real-secret" not in str(caught.value.facts) + str(caught.value)  # type: ignore[attr-defined]
    machine = yard.get(NAME)
    assert not machine.state.running
    assert machine.state.unfinished
    assert any("did not succeed" in text for text in assess_machine(machine).blockers)
    assert not built(sheet, yard).state.unfinished  # the next build takes its place
    assert [item.definition.name for item in yard.machines()] == [NAME]


def test_the_output_of_a_failed_task_is_shown_without_secrets(
    sheet: Path, yard: Yard, zeroseal: Command, tmp_path: Path
) -> None:
    (tmp_path / "s.toml").write_text('k = "not-a-real-secret"\n')
    (tmp_path / "s.toml").chmod(0o600)
    flood = "x" * 50 + "\\n"
    words = (
        "--set", f"simulated.answers=[{{run='gate', status=7, output=['''{flood * 40}a\nkey "
        "${secret:k} \x1b[31m''']}]", "--set", "task=[{name='n', run='gate'}]",
    )  # fmt: skip
    sets = [word.replace("\x1b", "\\u001b").replace("'''", '"""') for word in words]
    answer = zeroseal(
        "build", sheet, "--yard", yard.folder, "--secrets", tmp_path / "s.toml", *sets
    )
    assert answer.status == 5
    assert "its output ended with:" in answer.err
    assert "key [secret]" in answer.err
    assert "not-a-real-secret" not in answer.err
    assert "\x1b" not in answer.err
    assert len(answer.err.splitlines()) < 20


def test_a_machine_is_built_again_only_when_its_sheet_changed(
    sheet: Path, yard: Yard, zeroseal: Command
) -> None:
    first = built(sheet, yard)
    assert zeroseal("build", sheet, "--yard", yard.folder).out.startswith("Up to date")
    changed = zeroseal("build", sheet, "--yard", yard.folder, "--set", "machine.cpus=2")
    assert "complete and switched off; remove it when you no longer need it" in " ".join(
        changed.out.split()
    )
    names = [machine.definition.name for machine in yard.machines()]
    assert len(names) == 2
    aside = yard.get(next(name for name in names if name.startswith(f"{NAME}-until-")))
    assert aside.definition.uuid == first.definition.uuid
    assert yard.get(NAME).definition.cpus == 2
    yard.set_state(NAME, yard.get(NAME).state.__class__(running=True))
    with pytest.raises(OutputExistsError, match="stop it first"):
        built(sheet, yard, "machine.cpus=3")


def test_numbers_are_taken_from_a_range_also_in_an_empty_yard(sheet: Path, yard: Yard) -> None:
    text = sheet.read_text().replace(
        f'name = "{NAME}"', 'numbers = { prefix = "gate-", first = 7, last = 8, digits = 3 }', 1
    )
    sheet.write_text(text.replace('mac = "02:5a:17:00:00:01"', ""))
    assert build(sheet, yard).definition.name == "gate-007"
    assert build(sheet, yard).definition.name == "gate-007"  # up to date
    loaded = load_sheet(sheet)
    again = build_machine(loaded, yard, BuildWish(DEMO_TIME, again=True)).machine
    assert again.definition.name == "gate-008"
    with pytest.raises(Exception, match="a machine for every number from 7 to 8 of gate-"):
        build_machine(loaded, yard, BuildWish(DEMO_TIME, again=True))


def test_two_builds_of_one_machine_at_once_are_one_too_many(sheet: Path, yard: Yard) -> None:
    seen: list[Exception | None] = []
    with yard.claimed(NAME):

        def other() -> None:
            try:
                build(sheet, yard)
            except InUseError as error:
                seen.append(error)

        thread = threading.Thread(target=other)
        thread.start()
        thread.join()
    assert len(seen) == 1
    assert "another command is working on" in str(seen[0])
    assert build(sheet, yard).definition.name == NAME


def test_a_host_that_starts_it_again_or_never_stops_is_noticed(
    sheet: Path, yard: Yard, zeroseal: Command
) -> None:
    for words, told in (
        (("--set", "machine.restart='after-shutdown'"), "started it again after its shutdown, and"),
        (("--set", "simulated.faults=['never-off']"), "its power was cut"),
    ):
        answer = zeroseal("build", sheet, "--yard", yard.folder, *words)
        assert answer.status == 0, answer.err
        assert told in " ".join(answer.out.split())
        assert not yard.get(NAME).state.running


def test_tasks_and_files_reach_the_disk(sheet: Path, yard: Yard, tmp_path: Path) -> None:
    (sheet.parent / "a.conf").write_text("pier = 3\n")
    (sheet.parent / "go.sh").write_text("#!/bin/sh\ntide-setup --north\n")
    machine = built(
        sheet, yard,
        "task=[{name='f', copy={source='a.conf', target='/etc/pier/a.conf', mode='0600'}}, "
        "{name='s', script='go.sh'}, {name='r', reboot=true}, {name='w', wait_seconds=600}]",
    )  # fmt: skip
    assert "pier = 3" in log_of(machine, tmp_path, "/etc/pier/a.conf")
    assert "COMMAND=tide-setup --north" in log_of(machine, tmp_path)
    judge_ext(tmp_path / "log.ext4")
    with pytest.raises(Exception, match="was not found: correct"):
        built(sheet, yard, "task=[{name='f', copy={source='b.conf', target='/etc/b'}}]")
    assert yard.get(NAME).state.unfinished == ""  # refused before anything was touched


def test_snapshots_are_a_way_back_with_a_purpose(sheet: Path, yard: Yard, tmp_path: Path) -> None:
    machine = build(sheet, yard)
    before = to_raw(machine.disk, tmp_path / "before.raw").read_bytes()
    snapshots.take(machine, "ebb", "a way back", DEMO_TIME)
    with pytest.raises(UsageError, match="another snapshot named 'ebb'"):
        snapshots.take(machine, "ebb", "", DEMO_TIME)
    from tests.conftest import start, stop

    start(yard, NAME, DEMO_TIME + 10)
    with pytest.raises(RefusedError, match="is running: stop it first"):
        snapshots.take(yard.get(NAME), "flood", "", DEMO_TIME)
    stop(yard, NAME, DEMO_TIME + 20)
    judge_qcow2(machine.disk)
    machine = yard.get(NAME)
    snapshots.take(machine, "flood", "after it", DEMO_TIME + 30)
    assert [(item.name, item.purpose) for item in snapshots.list_snapshots(machine)] == [
        ("ebb", "a way back"), ("flood", "after it"),
    ]  # fmt: skip
    snapshots.revert(machine, "ebb")
    assert to_raw(machine.disk, tmp_path / "after.raw").read_bytes() == before
    snapshots.drop(machine, "flood")
    judge_qcow2(machine.disk)
    assert "ebb" in run("qemu-img", "snapshot", "-l", machine.disk)
    with pytest.raises(UsageError, match="has no snapshot"):
        snapshots.revert(machine, "flood")
    raw = adopt_image(yard, to_raw(machine.disk, tmp_path / "r.raw"), "raw-one")
    with pytest.raises(UnsupportedError, match="a raw disk cannot keep snapshots"):
        snapshots.take(raw, "ebb", "", DEMO_TIME)


def test_removing_wants_the_name_again_and_leaves_the_disk(
    sheet: Path, yard: Yard, zeroseal: Command
) -> None:
    build(sheet, yard)
    words = ("yard", "remove", NAME, "--yard", yard.folder)
    refused = zeroseal(*words)
    assert (refused.status, "Confirm with --yes" in refused.err) == (4, True)
    removed = zeroseal(*words, "--yes")
    assert "its disk stays" in " ".join(removed.out.split())
    assert [path.name for path in (yard.folder / NAME).iterdir()] == ["disk.qcow2"]
    assert yard.machines() == []
    adopt_image(yard, yard.folder / NAME / "disk.qcow2", "again")
    assert (
        zeroseal("yard", "remove", "again", "--yard", yard.folder, "--yes", "--with-disk").status
        == 0
    )
    assert not (yard.folder / "again").exists()


def test_a_renewal_puts_a_sealed_copy_on_the_shelf_and_leaves_the_machine(
    sheet: Path, yard: Yard, tmp_path: Path, zeroseal: Command
) -> None:
    machine, shelf = build(sheet, yard), tmp_path / "shelf"
    identity = log_of(machine, tmp_path, "/etc/machine-id").strip().encode()
    update = (
        "simulated.answers=[{{run='gate-update', output=['nothing more to do'], "
        "installs={{gate='{}'}}}}]"
    )
    copied = "on_copy=[{name='generalize', run='tide-generalize'}]"
    for month in range(5):
        answer = zeroseal(
            "renew", NAME, "--yard", yard.folder, "--shelf", shelf, "--version", f"2027-{month}",
            "--template", "gate", "--keep", "2", "--set", update.format(f"5.{month}"),
            "--set", copied, "--json",
        )  # fmt: skip
        assert answer.status == 0, answer.err
    renewal = json.loads(answer.out)
    assert renewal["changes"] == ["gate 5.3 -> 5.4"]
    assert renewal["dropped"] == ["renewed-2027-2"]
    assert [task["name"] for task in renewal["copyTasks"]] == ["generalize"]
    template = shelf / "gate/2027-4"
    assert "gate 5.3 -> 5.4" in (template / "patches.txt").read_text()
    raw = to_raw(template / "disk.qcow2", tmp_path / "t.raw")
    assert find_texts(raw, [identity, b"gangway-ref", b"tide-generalize"]) == set()
    machine = yard.get(NAME)
    assert log_of(machine, tmp_path, "/etc/machine-id").strip().encode() == identity
    assert "tide-generalize" not in log_of(machine, tmp_path)  # only the copy was touched
    assert (machine.state.running, sorted(p.name for p in yard.folder.iterdir())) == (
        False, [NAME, "network.json"],
    )  # fmt: skip
    judge_qcow2(machine.disk)
    taken = zeroseal("renew", NAME, "--yard", yard.folder, "--shelf", shelf, "--version", "2027-4",
                     "--template", "gate")  # fmt: skip
    assert (taken.status, "the shelf already has" in taken.err) == (2, True)
    failed = zeroseal(
        "renew", NAME, "--yard", yard.folder, "--shelf", shelf, "--version", "2027-6",
        "--set", "simulated.faults=['never-up']",
    )  # fmt: skip
    assert failed.status == 5
    assert not yard.get(NAME).state.running
    adopted = zeroseal("yard", "adopt", "gate@2027-4", "--shelf", shelf, "--name", "anew",
                       "--yard", yard.folder)  # fmt: skip
    assert adopted.status == 0
    assert yard.get("anew").definition.template == "gate@2027-4"


def test_several_machines_are_renewed_and_one_that_fails_is_left_as_it_was(
    sheet: Path, yard: Yard, tmp_path: Path, zeroseal: Command
) -> None:
    shelf = tmp_path / "shelf"
    folder = ("--yard", yard.folder, "--shelf", shelf)
    for number, name in enumerate(("north", "south", "west")):
        own = (f"machine.name={name}", f"machine.network.mac=02:5a:17:00:00:0{number}")
        # what stays of a machine: two that are sealed in one second would be one disk otherwise
        built(sheet, yard, *own, f"use.files=[{{path='/etc/pier', text='{name}'}}]")
    # on one of them the patches have done something when a later one fails
    broken = yard.get("south")
    settings = (
        "simulated.answers=[{run='gate-update', output=['nothing more to do'], "
        "installs={gate='9'}}, {run='tide-late', status=3}]"
    )
    tasks = (
        "task=[{name='p', run='gate-update', patch=true}, {name='l', run='tide-late', patch=true}]"
    )
    definition = replace(broken.definition, settings=(*broken.definition.settings, settings, tasks))
    write_definition(broken.folder, definition)
    before = to_raw(broken.disk, tmp_path / "before.raw").read_bytes()
    answer = zeroseal("renew", "--all", "--jobs", "2", "--version", "2027-1", *folder)
    assert answer.status == 5, answer.err
    lines = {line.split()[1]: line for line in answer.out.splitlines() if line[:1] in ("R", "F")}
    assert lines["north"].startswith("RENEWED") and lines["west"].startswith("RENEWED")
    assert lines["south"].startswith("FAILED") and "tide-late" not in lines["north"]
    assert "3 machines: 2 RENEWED, 1 FAILED" in answer.out
    assert "(the disk of south is as it was before)" in " ".join(answer.out.split())
    titles = {path.parent.name for path in shelf.glob("*/2027-1")}
    assert titles == {"north", "west"}
    assert not yard.get("south").state.running
    assert to_raw(broken.disk, tmp_path / "after.raw").read_bytes() == before
    judge_qcow2(broken.disk)
    assert "before-renewal" not in [item.name for item in list_snapshots(yard.get("south"))]
    value = json.loads(
        zeroseal("renew", "north", "west", "--json", "--version", "2027-2", *folder).out
    )
    assert [item["machine"] for item in value["machines"]] == ["north", "west"]
    late = zeroseal("renew", "north", "--until", "2027-01-01 00:00", "--not-before", "2027-01-02",
                    *folder)  # fmt: skip
    assert (late.status, "--until" in late.err) == (2, True)
    for words, wanted in (
        (("--all", "north"), "either names"),
        (("north", "south", "--template", "x"), "for one machine"),
        (("north", "north"), "given twice"),
        (("--not-before", "tonight", "north"), "is not a time"),
        ((), "no machine was named"),
    ):
        refused = zeroseal("renew", *words, *folder)
        assert (refused.status, wanted in refused.err) == (2, True), refused.err


def test_a_machine_is_not_renewed_when_its_time_is_over(
    sheet: Path, yard: Yard, tmp_path: Path, zeroseal: Command
) -> None:
    build(sheet, yard)
    window = TimeWindow(until=datetime(2026, 1, 1))
    assert not window.wait()
    waiting = TimeWindow(not_before=datetime.now() + timedelta(seconds=0.3))
    assert waiting.wait()
    waiting.close()
    assert not waiting.wait()
    for hour, day in ((12, 5), (23, 5), (3, 4)):  # before the night, and in it
        night = parse_window("22:00", "05:00", datetime(2026, 12, 5, hour, 30))
        assert night is not None
        begins, ends = datetime(2026, 12, day, 22), datetime(2026, 12, day + 1, 5)
        assert (night.not_before, night.until) == (begins, ends)


def test_a_trial_tells_what_does_not_regrow(
    sheet: Path, yard: Yard, tmp_path: Path, zeroseal: Command
) -> None:
    machine, sealed = build(sheet, yard), tmp_path / "sealed.qcow2"
    unsealed = zeroseal("trial", machine.disk, "--host", "simulated")
    assert (unsealed.status, "only sealed images can be tried" in unsealed.err) == (4, True)
    assert zeroseal("seal", machine.disk, "-o", sealed, "--quiet").status == 0
    before = sealed.read_bytes()
    good = zeroseal("trial", sealed, "--host", "simulated", "--json")
    assert good.status == 0
    assert json.loads(good.out)["simulated"]
    assert sealed.read_bytes() == before
    without = zeroseal("trial", sealed, "--host", "simulated", "--no-seed")
    assert without.status == 0, without.out
    kept = tmp_path / "kept.qcow2"
    words = ("--skip", "keys.ssh-host", "--quiet")
    assert zeroseal("seal", machine.disk, "-o", kept, *words).status == 1
    shared = zeroseal("trial", kept, "--host", "simulated")
    assert shared.status in (1, 4)
    assert list(tmp_path.glob("zeroseal-trial-*")) == []


def test_a_seal_always_removes_the_account_of_the_build(
    sheet: Path, yard: Yard, tmp_path: Path, zeroseal: Command
) -> None:
    sheet.write_text(
        sheet.read_text().replace('name = "tom.kelp"', 'name = "shipwright"\nthrowaway = true')
        .replace('owner = "tom.kelp"', 'owner = "ada.brine"')
    )  # fmt: skip
    disk = build(sheet, yard).disk
    out = tmp_path / "s.qcow2"
    for words in (("--retain-account", "shipwright"), ("--skip", "people"), ("--only", "keys")):
        answer = zeroseal("seal", disk, "-o", out, *words)
        assert (answer.status, "a seal always removes" in answer.err) == (2, True)
    assert zeroseal("seal", disk, "-o", out, "--retain-account", "ada.brine").status == 0
    raw = to_raw(out, tmp_path / "s.raw")
    assert find_texts(raw, [b"shipwright"]) == set()


def test_a_medium_in_the_drive_stops_a_seal(sheet: Path, yard: Yard, zeroseal: Command) -> None:
    machine = built(sheet, yard, "leave.detach_media=false")
    shown = zeroseal("yard", "show", NAME, "--yard", yard.folder)
    assert "the seed medium of this tool, which holds keys" in " ".join(shown.out.split())
    sealed = zeroseal("seal", machine.disk, "-o", machine.folder / "x.qcow2")
    assert (sealed.status, "seed.iso" in sealed.err) == (4, True)
