"""Sealing whole disks: judged from outside, refused where it must be, killed at any time."""

from __future__ import annotations

import hashlib
import os
import random
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_guest_volume
from tests.long import IS_LONG
from tests.oracles import cut_partition, find_texts, judge_ext, judge_qcow2, mounted, run, to_raw
from zeroseal.blocks.patches import Patch
from zeroseal.blocks.store import CancellableStore, Store
from zeroseal.errors import (
    BlockerError,
    LockOutError,
    NoSpaceError,
    NotProvenError,
    OutputExistsError,
    RefusedError,
    UnfinishedError,
    UsageError,
    ZeroSealError,
)
from zeroseal.filesystems.ext.edit import ExtEditor
from zeroseal.images.detect import open_image
from zeroseal.images.host_file import HostFile
from zeroseal.sealing.check import check_image
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.job import SealRequest, plan_image, seal
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy, SealOptions, resolve
from zeroseal.sealing.record import record_path
from zeroseal.sealing.targets import new_file
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.sealing.verdict import Level, Verdict
from zeroseal.volumes.swap import find_swap

NOW = 1_795_000_000
SEEDED = resolve(SealOptions(expect_seed=True, plant_first_boot=True))

# What the demo's disk holds of its machine, and a sealed one must hold nowhere.
DEMO_VALUES = [
    b"gangway-ref", b"ada.brine", b"tom.kelp", b"Ada Brine", b"02-555-0117", b"TIDE_TOKEN",
    b"not-a-real-password", b"not-a-real-key", b"not-a-real-token", b"192.0.2.", b"$2b$12$demo",
    b"BEGIN OPENSSH PRIVATE KEY", b"LPKSHHRH", b"riders of last week", b"dhcp-client-identifier",
    b"Pier 3 sticks", b"under the mat", b"insert into riders",
]  # fmt: skip


def digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def files_in(folder: Path) -> list[str]:
    return sorted(path.name for path in folder.iterdir())


@pytest.mark.parametrize("source_form", ["qcow2", "raw", "compressed"])
@pytest.mark.parametrize("format_name", ["", "raw", "qcow2"])
def test_a_sealed_disk_holds_no_value_of_the_old_machine(
    tmp_path: Path, demo_disk: Path, source_form: str, format_name: str
) -> None:
    source = tmp_path / "source.disk"
    options = {"raw": ["-O", "raw"], "qcow2": ["-O", "qcow2"], "compressed": ["-c", "-O", "qcow2"]}
    run("qemu-img", "convert", *options[source_form], demo_disk, source)
    before = digest(source)
    volume = cut_partition(to_raw(source, tmp_path / "s.raw"), 2, tmp_path / "s.ext4")
    machine_id = run("debugfs", "-R", "cat /etc/machine-id", volume)
    values = [*DEMO_VALUES, machine_id.strip().encode()]
    assert find_texts(tmp_path / "s.raw", values) == set(values)

    result = seal(
        SealRequest(source, NewFile(tmp_path / "out.disk", format_name), DEFAULT_POLICY, NOW)
    )

    assert digest(source) == before
    assert result.output.format_name == (
        format_name or ("raw" if source_form == "raw" else "qcow2")
    )
    if result.output.format_name == "qcow2":
        judge_qcow2(tmp_path / "out.disk")
    raw = to_raw(tmp_path / "out.disk", tmp_path / "out.raw")
    assert raw.stat().st_size == (tmp_path / "s.raw").stat().st_size
    run("sgdisk", "-v", raw)
    judge_ext(cut_partition(raw, 2, tmp_path / "out.ext4"))
    assert find_texts(raw, values) == set()
    swap = cut_partition(raw, 3, tmp_path / "out.swap")
    assert run("blkid", "-p", "-s", "LABEL", "-o", "value", swap).strip() == "gate-swap"
    assert not any(swap.read_bytes()[4096:])
    assert check_image(tmp_path / "out.disk", Level.FULL).verdict is Verdict.SEALED


def test_what_the_clones_need_stays(tmp_path: Path, demo_disk: Path) -> None:
    seal(SealRequest(demo_disk, NewFile(tmp_path / "out.raw", "raw"), DEFAULT_POLICY, NOW))
    volume = cut_partition(tmp_path / "out.raw", 2, tmp_path / "out.ext4")

    def cat(path: str) -> str:
        return run("debugfs", "-R", f"cat {path}", volume)

    assert cat("/opt/gate/gate.conf").startswith("pier = 3")
    assert (
        cat("/etc/passwd")
        == "root:x:0:0:root:/root:/bin/bash\ndaemon:x:1:1::/usr/sbin:/usr/sbin/nologin\n"
    )
    assert cat("/etc/group") == "root:x:0:\ndaemon:x:1:\nsudo:x:27:\n"
    assert cat("/etc/shadow").startswith("root:!:20000:0:99999:7:::\ndaemon:*:")
    assert cat("/etc/hostname") == "localhost\n"
    assert cat("/etc/hosts") == "127.0.0.1 localhost\n"
    assert cat("/etc/machine-id") == ""
    assert "Mode:  0444" in run("debugfs", "-R", "stat /etc/machine-id", volume)
    listing = run("debugfs", "-R", "ls -p /var/log", volume)
    assert "/journal/" in listing
    assert "/gate.log/" in listing
    assert "gate.log.1" not in listing


def test_the_same_seal_of_the_same_disk_is_the_same_disk(tmp_path: Path, demo_disk: Path) -> None:
    one = seal(SealRequest(demo_disk, NewFile(tmp_path / "1.raw", "raw"), DEFAULT_POLICY, NOW))
    other = seal(
        SealRequest(demo_disk, NewFile(tmp_path / "2.qcow2", compress="small"), DEFAULT_POLICY, NOW)
    )
    assert one.digest and other.digest and one.digest.root == other.digest.root
    assert (
        to_raw(tmp_path / "2.qcow2", tmp_path / "2.raw").read_bytes()
        == (tmp_path / "1.raw").read_bytes()
    )


def test_a_plan_is_exactly_what_is_done(tmp_path: Path, demo_disk: Path) -> None:
    planned = plan_image(demo_disk, resolve(SealOptions(skip=("leftovers",))))
    result = seal(
        SealRequest(
            demo_disk, NewFile(tmp_path / "o"), resolve(SealOptions(skip=("leftovers",))), NOW
        )
    )
    assert result.planned.plan == planned.plan
    assert {item.trace.family for item in planned.plan.skipped} == {"leftovers"}


# -- the lock-out guard


def test_a_seal_that_locks_everybody_out_is_refused_with_the_way_out(
    tmp_path: Path, bare_guest: Path
) -> None:
    with pytest.raises(LockOutError) as caught:
        seal(SealRequest(bare_guest, NewFile(tmp_path / "o.img"), DEFAULT_POLICY, NOW))
    for way_out in ("--retain-account", "--keep-root-login", "--expect-seed", "--plant-first-boot"):
        assert way_out in caught.value.message
    assert "o.img" not in files_in(tmp_path)


@pytest.mark.parametrize(
    ("policy", "login"),
    [
        (
            resolve(SealOptions(retained_accounts=("ada.brine",), plant_first_boot=True)),
            "ada.brine stays",
        ),
        (
            resolve(SealOptions(keep_root_login=True, plant_first_boot=True)),
            "root stays and can log in",
        ),
        (SEEDED, "the planted first-boot script creates"),
    ],
    ids=["retained", "root", "seed"],
)
def test_each_way_out_lets_the_seal_through(
    tmp_path: Path, bare_guest: Path, policy: Policy, login: str
) -> None:
    result = seal(SealRequest(bare_guest, NewFile(tmp_path / "o.img"), policy, NOW))
    assert any(login in sentence for sentence in result.planned.plan.guard.assured)
    judge_ext(tmp_path / "o.img")
    assert check_image(tmp_path / "o.img", Level.FULL).verdict is Verdict.SEALED
    listing = run("debugfs", "-R", "ls -p /home", tmp_path / "o.img")
    assert ("ada.brine" in listing) == bool(policy.retained_accounts)
    shadow = run("debugfs", "-R", "cat /etc/shadow", tmp_path / "o.img")
    assert ("root:$6$rrrr" in shadow) == policy.keeps_root_login


def test_the_planted_unit_is_enabled_and_a_second_seal_needs_no_plant(
    tmp_path: Path, bare_guest: Path
) -> None:
    seal(SealRequest(bare_guest, NewFile(tmp_path / "1.img"), SEEDED, NOW))
    guest = Inspection.read(open_image(tmp_path / "1.img")).guest
    unit = guest.read_text(
        "/etc/systemd/system/multi-user.target.wants/zeroseal-first-boot.service"
    )
    assert "ExecStart=/bin/sh /etc/zeroseal-first-boot/first-boot" in unit
    script = guest.read_text("/etc/zeroseal-first-boot/first-boot")
    run("sh", "-n", feed=script)
    assert "take_seed grow_root" in script
    again = seal(
        SealRequest(tmp_path / "1.img", NewFile(tmp_path / "2.img"), DEFAULT_POLICY, NOW + 9)
    )
    assert again.planned.plan.treated == ()
    assert (tmp_path / "1.img").read_bytes() == (tmp_path / "2.img").read_bytes()


def test_with_openrc_an_init_script_is_planted(tmp_path: Path, zeroseal: Command) -> None:
    tree = {path: text for path, text in BARE_GUEST.items() if "systemd" not in path}
    tree |= {
        "/etc/runlevels/default/sshd": "-> /etc/init.d/sshd",
        "/etc/init.d/sshd": "#!/sbin/openrc-run\nchecks() { ssh-keygen -A; }\n",
        "/etc/network/interfaces": "auto lo\niface lo inet loopback\n",
    }
    image = make_guest_volume(tmp_path, tree)
    plain = zeroseal("seal", image, "-o", tmp_path / "x.img", "--keep-root-login")
    assert plain.status == 4
    assert "no SSH host keys" not in plain.err  # sshd's own script makes them
    sealed = tmp_path / "o.img"
    assert zeroseal("seal", image, "-o", sealed, "--plant-first-boot").status == 0
    judge_ext(sealed)
    link = run("debugfs", "-R", "stat /etc/runlevels/boot/zeroseal-first-boot", sealed)
    assert '"/etc/init.d/zeroseal-first-boot"' in link
    script = run("debugfs", "-R", "cat /etc/zeroseal-first-boot/first-boot", sealed)
    assert "take_seed ask_dhcp grow_root" in script
    assert zeroseal("check", sealed).out.startswith("SEALED")
    tried = zeroseal("trial", sealed, "--host", "simulated")
    assert tried.out.startswith("GOOD"), tried.out


@pytest.mark.parametrize(
    ("missing", "told"),
    [
        ("ssh-keygen", "no SSH host keys"),
        ("/bin/sh", "needs a shell"),
        ("systemd", "the guest has neither"),
    ],
)
def test_a_script_that_could_not_work_is_not_planted(
    tmp_path: Path, missing: str, told: str
) -> None:
    tree = {path: text for path, text in BARE_GUEST.items() if missing not in path}
    image = make_guest_volume(tmp_path, tree)
    with pytest.raises(RefusedError, match=told):
        seal(SealRequest(image, NewFile(tmp_path / "o"), SEEDED, NOW))


def test_no_network_is_a_lock_out_too(tmp_path: Path) -> None:
    tree = {path: text for path, text in BARE_GUEST.items() if "network" not in path}
    image = make_guest_volume(tmp_path, tree)
    with pytest.raises(LockOutError, match="no network"):
        policy = resolve(SealOptions(keep_root_login=True, plant_first_boot=True))
        seal(SealRequest(image, NewFile(tmp_path / "o"), policy, NOW))


def test_a_mounted_volume_that_cannot_be_read_is_a_blocker(tmp_path: Path) -> None:
    fstab = BARE_GUEST["/etc/fstab"] + "LABEL=elsewhere /home xfs defaults 0 0\n"
    image = make_guest_volume(tmp_path, BARE_GUEST | {"/etc/fstab": fstab})
    with pytest.raises(BlockerError, match="/home"):
        seal(SealRequest(image, NewFile(tmp_path / "o"), SEEDED, NOW))


# -- policy


def test_a_partial_seal_is_no_seal(tmp_path: Path, demo_disk: Path) -> None:
    result = seal(
        SealRequest(
            demo_disk, NewFile(tmp_path / "o"), resolve(SealOptions(skip=("keys.ssh-host",))), NOW
        )
    )
    assert not result.planned.plan.is_complete
    checked = check_image(tmp_path / "o", Level.FULL)
    assert checked.verdict is Verdict.UNSEALED
    assert "keys.ssh-host" in checked.reason


def test_a_skipped_trace_that_makes_no_machine_itself_leaves_it_sealed(
    tmp_path: Path, demo_disk: Path
) -> None:
    seal(
        SealRequest(
            demo_disk, NewFile(tmp_path / "o"), resolve(SealOptions(skip=("leftovers",))), NOW
        )
    )
    checked = check_image(tmp_path / "o", Level.FULL)
    assert checked.verdict is Verdict.SEALED
    assert checked.skipped == ("leftovers.temporary-files", "leftovers.fetched-packages")


@pytest.mark.parametrize(
    ("policy", "told"),
    [
        ({"skip": ("keys.sshhost",)}, "did you mean keys.ssh-host"),
        ({"only": ("nonsense",)}, "the trace 'nonsense' is not known"),
        ({"only": ("keys",), "skip": ("keys",)}, "--only and --skip"),
    ],
)
def test_choices_that_make_no_sense_are_refused(
    policy: dict[str, tuple[str, ...]], told: str
) -> None:
    with pytest.raises(UsageError, match=told):
        resolve(SealOptions(**policy))  # type: ignore[arg-type]  # names of tuples only


def test_an_unknown_account_names_those_that_are_there(tmp_path: Path, demo_disk: Path) -> None:
    with pytest.raises(UsageError, match=r"no account 'bob'.*ada\.brine, tom\.kelp"):
        seal(
            SealRequest(
                demo_disk,
                NewFile(tmp_path / "o"),
                resolve(SealOptions(retained_accounts=("bob",))),
                NOW,
            )
        )


# -- safety


def test_nothing_is_ever_overwritten(tmp_path: Path, demo_disk: Path) -> None:
    (tmp_path / "there").write_text("precious")
    with pytest.raises(OutputExistsError):
        seal(SealRequest(demo_disk, NewFile(tmp_path / "there"), DEFAULT_POLICY, NOW))
    record_path(tmp_path / "other").write_text("precious too")
    with pytest.raises(OutputExistsError):
        seal(SealRequest(demo_disk, NewFile(tmp_path / "other"), DEFAULT_POLICY, NOW))
    assert (tmp_path / "there").read_text() == "precious"
    assert files_in(tmp_path) == ["other.seal.json", "there"]


@pytest.mark.parametrize("fault", ["bitmaps not written", "a patch left out", "a lost write"])
def test_a_proof_that_does_not_hold_leaves_nothing(
    tmp_path: Path, demo_disk: Path, monkeypatch: pytest.MonkeyPatch, fault: str
) -> None:
    if fault == "bitmaps not written":
        monkeypatch.setattr(ExtEditor, "finish", lambda _self: None)
    elif fault == "a patch left out":
        apply = Patch.apply

        def forget_swap(patch: Patch, store: Store) -> None:
            if patch.what != "swap":
                apply(patch, store)

        monkeypatch.setattr(Patch, "apply", forget_swap)
    else:
        write, lost = HostFile.write, list[int]()

        def lose_one(file: HostFile, offset_bytes: int, data: bytes | memoryview) -> None:
            if offset_bytes >= 1 << 20 and any(data) and not lost:
                lost.append(offset_bytes)
                data = bytes(len(data))
            write(file, offset_bytes, data)

        monkeypatch.setattr(HostFile, "write", lose_one)
    with pytest.raises(NotProvenError):
        seal(SealRequest(demo_disk, NewFile(tmp_path / "o"), DEFAULT_POLICY, NOW))
    assert files_in(tmp_path) == []


@pytest.mark.parametrize("how", ["changed", "removed"])
def test_a_source_that_changes_or_goes_meanwhile_is_noticed(
    tmp_path: Path, demo_disk: Path, how: str
) -> None:
    source = tmp_path / "s.raw"
    to_raw(demo_disk, source)

    def disturb(step: object) -> None:
        if getattr(step, "stage", "") == "reading back" and source.exists():
            os.utime(source, (1, 1))
            if how == "removed":
                source.unlink()

    with pytest.raises(UnfinishedError, match="was changed or removed while"):
        seal(SealRequest(source, NewFile(tmp_path / "o"), DEFAULT_POLICY, NOW), disturb)
    assert files_in(tmp_path) == (["s.raw"] if how == "changed" else [])


def test_a_full_target_is_said_and_nothing_is_left(tmp_path: Path, demo_disk: Path) -> None:
    with mounted(tmp_path / "small", "-t", "tmpfs", "-o", "size=700k", "none") as small:
        with pytest.raises(NoSpaceError, match="free some"):
            seal(SealRequest(demo_disk, NewFile(small / "o"), DEFAULT_POLICY, NOW))
        (small / "filler").write_bytes(bytes(650 << 10))
        with pytest.raises(NoSpaceError):  # compressed: noticed only while it is written
            seal(
                SealRequest(demo_disk, NewFile(small / "o", compress="small"), DEFAULT_POLICY, NOW)
            )
        assert files_in(small) == ["filler"]


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM], ids=["ctrl-c", "term"])
def test_an_interrupt_leaves_nothing_behind(
    tmp_path: Path, demo_disk: Path, how: signal.Signals
) -> None:
    chance = random.Random(int(how))
    statuses = set()
    for number in range(4):
        words = [
            sys.executable,
            "-m",
            "zeroseal",
            "seal",
            str(demo_disk),
            "-o",
            f"o{number}",
            "--quiet",
        ]
        child = subprocess.Popen(
            words, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        time.sleep(0.25 + chance.random() * 0.35)
        child.send_signal(how)
        _out, err = child.communicate(timeout=60)
        statuses.add(child.returncode)
        assert b"Traceback" not in err or b"site.py" in err or b"import" in err
        whole = {f"o{number}", f"o{number}.seal.json"}
        assert {name for name in files_in(tmp_path) if name in whole} in (set(), whole)
    assert statuses <= {0, 130, -how}
    assert [name for name in files_in(tmp_path) if name.startswith(".")] == []


KILLED_AT_A_WRITE = """
import os, sys
from zeroseal.images import host_file, output
left = [int(sys.argv[1])]
def counted(real):
    def call(*words, **more):
        left[0] -= 1
        if left[0] < 0:
            os.kill(os.getpid(), 9)
        return real(*words, **more)
    return call
host_file.HostFile._write_some = counted(host_file.HostFile._write_some)
os.fsync, os.link, os.ftruncate = counted(os.fsync), counted(os.link), counted(os.ftruncate)
sys.argv[1:] = sys.argv[2:]
from zeroseal.cli.main import entry_point
entry_point()
"""


def test_a_kill_at_every_write_leaves_the_source_and_no_half_result(
    tmp_path: Path, demo_disk: Path
) -> None:
    before, outcomes = digest(demo_disk), []
    for number in range(0, 60, 1 if IS_LONG else 3):
        target = tmp_path / f"o{number}"
        words = [sys.executable, "-c", KILLED_AT_A_WRITE, str(number)]
        words += ["seal", str(demo_disk), "-o", str(target), "--quiet"]
        done = subprocess.run(words, capture_output=True, check=False)
        outcomes.append((target.exists(), record_path(target).exists()))
        if target.exists():
            judge_qcow2(target)
            verdict = check_image(target, Level.FULL).verdict
            assert verdict is (Verdict.SEALED if outcomes[-1][1] else Verdict.CLEAN)
        for path in tmp_path.glob(f".o{number}.*.part"):
            assert target.exists() or path.stat().st_mode & 0o077 == 0
        if done.returncode == 0:
            break
        assert done.returncode == -signal.SIGKILL
    assert outcomes[-1] == (True, True)  # so every write before was a place to be killed at
    assert len(outcomes) > (10 if IS_LONG else 4)
    assert (False, False) in outcomes
    assert digest(demo_disk) == before


def test_a_damaged_guest_raises_only_our_errors(tmp_path: Path, bare_guest: Path) -> None:
    raw = bare_guest.read_bytes()
    chance = random.Random(3)
    for _number in range(40):
        mutated = bytearray(raw)
        for _ in range(chance.choice([1, 5, 40])):
            mutated[chance.randrange(1024, 1 << 20)] = chance.randrange(256)
        (tmp_path / "m.img").write_bytes(mutated)
        for path in (tmp_path / "o", record_path(tmp_path / "o")):
            path.unlink(missing_ok=True)
        try:
            seal(SealRequest(tmp_path / "m.img", NewFile(tmp_path / "o"), SEEDED, NOW))
        except ZeroSealError:
            assert not (tmp_path / "o").exists()
        else:
            judge_ext(tmp_path / "o")


def test_an_unclean_volume_is_refused_with_the_way_out(
    tmp_path: Path, bare_guest: Path, zeroseal: Command
) -> None:
    run("debugfs", "-w", "-R", "feature needs_recovery", bare_guest)
    answer = zeroseal("seal", bare_guest, "-o", tmp_path / "o")
    assert answer.status == 4
    assert "shut it down cleanly and" in answer.err


def test_a_hibernated_guest_is_refused(tmp_path: Path, demo_disk: Path, zeroseal: Command) -> None:
    raw = to_raw(demo_disk, tmp_path / "s.raw")
    offset = (3 << 20) + 4086
    with raw.open("r+b") as disk:
        disk.seek(offset)
        disk.write(b"S1SUSPEND\0")
    area = find_swap(Inspection.read(open_image(demo_disk)).swaps[0].store)
    assert area
    assert not area.hibernated
    answer = zeroseal("survey", raw)
    assert answer.status == 3
    assert "hibernated" in answer.err


def test_a_machine_that_was_switched_off_is_recovered_on_request_only(
    tmp_path: Path, zeroseal: Command
) -> None:
    volume, image = make_guest_volume(tmp_path, BARE_GUEST, 24), tmp_path / "off.img"
    with mounted(tmp_path / "m", "-o", "loop,commit=300", volume) as point:
        late = point / "etc" / "ssh" / "ssh_host_rsa_key"
        with late.open("wb") as file:
            file.write(b"late-key-canary\n" * 90)
            file.flush()
            os.fsync(file.fileno())
        image.write_bytes(volume.read_bytes())
    before = digest(image)
    refused = zeroseal("seal", image, "-o", tmp_path / "s.img", "--expect-seed")
    assert refused.status == 4
    assert "--recover-journal" in refused.err
    told = zeroseal(
        "survey", image, "--recover-journal", "--places", "--as-if", "--expect-seed"
    ).out
    assert "Its journal was recovered" in told
    assert "ssh_host_rsa_key" in told
    words = ("--recover-journal", "--expect-seed", "--plant-first-boot")
    done = zeroseal("seal", image, "-o", tmp_path / "s.img", *words)
    assert done.status == 0, done.err
    assert digest(image) == before
    judge_ext(tmp_path / "s.img")
    canaries = [b"late-key-canary", b"host-private-key-canary", b"ada.brine", b"pier-ref"]
    assert find_texts(tmp_path / "s.img", canaries) == set()
    answer = zeroseal("check", tmp_path / "s.img", "--level", "deep", "--against", image)
    assert answer.status == 0, answer.out
    record = record_path(tmp_path / "s.img").read_text()
    assert '"recoveredJournals": true' in record


@pytest.mark.parametrize("error", [KeyboardInterrupt(), NoSpaceError("no space left")], ids=repr)
def test_what_ends_the_writing_ends_the_proof_too(
    demo_disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, error: BaseException
) -> None:
    """Nobody waits for a proof of what will never be written: it reads no more of the disk."""
    proving, ended, late = threading.Event(), threading.Event(), []
    real = CancellableStore.read

    def read(store: CancellableStore, offset: int, length: int) -> bytes:
        proving.set()
        found = real(store, offset, length)
        if ended.is_set():
            late.append(offset)
        return found

    def write(*_words: object) -> None:
        assert proving.wait(60)
        ended.set()
        raise error

    monkeypatch.setattr(CancellableStore, "read", read)
    monkeypatch.setattr(new_file, "write_disk", write)
    with pytest.raises(type(error)):
        seal(SealRequest(demo_disk, NewFile(tmp_path / "o.qcow2"), DEFAULT_POLICY, 0))
    assert len(late) < 20  # until the word has come across
    assert list(tmp_path.iterdir()) == []


def test_a_log_under_another_name_is_emptied_there_too_and_the_plan_says_so(
    tmp_path: Path, zeroseal: Command
) -> None:
    volume = make_guest_volume(
        tmp_path, BARE_GUEST | {"/var/log/pump.log": "levels of the week\n", "/srv/kept/": ""}
    )
    commands = ["ln /var/log/pump.log /srv/kept/pump", "sif /var/log/pump.log links_count 2"]
    run("debugfs", "-w", "-f", "-", volume, feed="\n".join(commands))
    plan = zeroseal("seal", volume, "--dry-run", "--places", "--plant-first-boot").out
    assert "also emptied under its other names" in plan
    sealed = tmp_path / "o.raw"
    done = zeroseal("seal", volume, "-o", sealed, "--plant-first-boot")
    assert done.status == 0, done.err
    judge_ext(sealed)
    with mounted(tmp_path / "m", "-o", "loop,ro", sealed) as point:
        log = (point / "var/log/pump.log").stat()
        assert (log.st_size, log.st_nlink) == (0, 2)
        assert (point / "srv/kept/pump").samefile(point / "var/log/pump.log")
