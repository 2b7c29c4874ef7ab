"""What a trial says of images whose clones would not be well, on the simulated host."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_guest_volume
from tests.oracles import need, run
from zeroseal.errors import DamagedError, RefusedError
from zeroseal.guests.identity_value import IdentityValue
from zeroseal.machines.firmware import guess_firmware
from zeroseal.machines.sheet.model import Accept
from zeroseal.machines.throwaway import NAMES, TrialWish
from zeroseal.machines.trial import _UNIT, TrialMachine, _judge, _judge_names, try_image

SSH = {
    "/usr/sbin/sshd": "x",
    "/usr/lib/systemd/systemd": "x",
    "/etc/machine-id": "5f3a9c0d7e21448b9d10c3b7a6e5f401\n",
}


def sealed(tmp_path: Path, zeroseal: Command, files: dict[str, str], *words: str) -> Path:
    image, out = make_guest_volume(tmp_path, BARE_GUEST | files), tmp_path / "sealed.img"
    answer = zeroseal("seal", image, "-o", out, "--quiet", *words)
    assert answer.status == 0, answer.err
    return out


def test_a_planted_unit_makes_the_trial_good(tmp_path: Path, zeroseal: Command) -> None:
    image = sealed(tmp_path, zeroseal, SSH, "--expect-seed", "--plant-first-boot")
    answer = zeroseal("trial", image, "--host", "simulated", "--no-seed")
    assert "machine ID" in answer.out
    assert "on the simulated host, which proves nothing" in " ".join(answer.out.split())


def test_a_seed_that_nobody_takes_is_told_by_the_name(tmp_path: Path, zeroseal: Command) -> None:
    words = ("--expect-seed", "--same-size-clones")
    image = sealed(tmp_path, zeroseal, {"/usr/sbin/sshd": "-> /none"}, *words)
    answer = zeroseal("trial", image, "--host", "simulated")
    assert answer.status == 1
    assert "did not get its name; its host name is" in " ".join(answer.out.split())


def test_an_image_that_is_not_sealed_or_no_image_is_refused(
    tmp_path: Path, zeroseal: Command
) -> None:
    image = make_guest_volume(tmp_path, BARE_GUEST)
    with pytest.raises(RefusedError, match="seal it first, with zeroseal seal"):
        try_image(image, TrialWish(0, "simulated"))
    (tmp_path / "no.img").write_bytes(b"nothing at all")
    assert zeroseal("trial", tmp_path / "no.img", "--host", "simulated").status in (3, 4)
    assert zeroseal("trial", tmp_path / "none.img").status == 3
    (tmp_path / "m.xml").write_text("<domain/>")
    with_machine = zeroseal("trial", image, "--machine", tmp_path / "m.xml")
    assert (with_machine.status, "m.xml is not a complete domain" in with_machine.err) == (3, True)


def machine(name: str, *values: tuple[str, str], failed: tuple[str, ...] = ()) -> TrialMachine:
    found = tuple(IdentityValue(kind, shown) for kind, shown in values)
    return TrialMachine(name, found, failed, (), ())


def test_what_is_missing_or_shared_is_told_kind_by_kind(tmp_path: Path) -> None:
    disk = make_guest_volume(tmp_path, BARE_GUEST | SSH)
    wish = TrialWish(0, "simulated", with_seed=False)
    both = (("random seed", "s"), ("leased address", "10.0.2.15"))
    pair = (
        machine(NAMES[0], ("machine ID", "a"), *both),
        machine(NAMES[1], ("machine ID", "b"), *both),
    )
    told = {item.kind: (item.is_good, item.text) for item in _judge(disk, pair, wish)}
    assert told == {
        "machine ID": (True, "was created again and differs"),
        "SSH host key": (False, "was not created again on trial-one and trial-two"),
        "random seed": (False, "is the same on both machines"),
    }
    shared = (machine(NAMES[0], ("license", "x")), machine(NAMES[1], ("license", "x")))
    assert "license" in {item.kind for item in _judge(disk, shared, wish) if not item.is_good}


def test_names_must_come_from_the_seed() -> None:
    good = [machine(name, ("host name", name)) for name in NAMES]
    assert _judge_names(tuple(good)).is_good
    bad = (good[0], machine(NAMES[1], ("host name", "gangway-ref")))
    assert not _judge_names(bad).is_good
    assert "its host name is gangway-ref" in _judge_names(bad).text


def test_failed_units_are_told_from_what_else_is_printed() -> None:
    printed = (
        "sudo: unable to resolve host trial-one: Name or service not known\n"
        "cloud-config.service loaded failed failed Apply the settings\n"
        "srv-tide.mount loaded failed failed /srv/tide\n"
    )
    assert _UNIT.findall(printed) == ["cloud-config.service", "srv-tide.mount"]
    assert Accept().no_failed_units


def test_the_firmware_is_guessed_from_the_loaders_on_the_disk(
    tmp_path: Path, demo_disk: Path
) -> None:
    need("mcopy")
    assert guess_firmware(demo_disk) == "uefi"  # nothing says otherwise
    bios = make_guest_volume(tmp_path, BARE_GUEST | {"/boot/grub/i386-pc/normal.mod": "x"})
    assert guess_firmware(bios) == "bios"
    (tmp_path / "both").mkdir()
    both = BARE_GUEST | {
        "/boot/grub/i386-pc/normal.mod": "x",
        "/boot/efi/EFI/BOOT/bootx64.efi": "x",
    }
    assert guess_firmware(make_guest_volume(tmp_path / "both", both)) == "uefi"
    run("truncate", "-s", "1M", tmp_path / "empty.img")
    with pytest.raises((DamagedError, Exception)):
        guess_firmware(tmp_path / "missing.img")
