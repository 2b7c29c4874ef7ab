"""The lock-out guard and readiness: what guests of all kinds would lead to."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_disk, make_ext, make_guest_volume
from tests.oracles import judge_ext, kernel_mount, run
from tests.windows import make_windows_disk
from zeroseal.sealing.policy import DEFAULT_POLICY, SealOptions, resolve
from zeroseal.sealing.survey import Survey, survey_image

UNITS = "/usr/lib/systemd/system"
KEY_UNIT = {
    f"{UNITS}/multi-user.target.wants/ssh.service": "-> ../ssh.service",
    f"{UNITS}/ssh.service": "[Unit]\nWants=keys.target\n",
    f"{UNITS}/keys.target.wants/sshd-keygen@rsa.service": "-> ../x",
    f"{UNITS}/sshd-keygen@.service": "[Unit]\nConditionFileNotEmpty=|!/etc/ssh/ssh_host_%i_key\n",
}


def survey(folder: Path, tree: dict[str, str | None], **policy: object) -> Survey:
    """Surveys a guest that is the bare one, changed by ``tree`` (None takes a file away)."""
    whole = dict(BARE_GUEST)
    for path, text in tree.items():
        if text is None:
            del whole[path]
        else:
            whole[path] = text
    image = make_guest_volume(folder, whole)
    return survey_image(image, resolve(SealOptions(**policy)))  # type: ignore[arg-type]  # by name


@pytest.mark.parametrize(
    ("tree", "policy", "assured", "lock_outs"),
    [
        (
            {},
            {},
            ["10-pier.network configures"],
            ["nobody could log in", "no SSH host keys", "larger disk"],
        ),
        (
            SEEDING,
            {},
            [
                "creates the accounts of the clone's seed",
                "when the clone gets its seed",
                "10-pier.network",
            ],
            [],
        ),
        (
            SEEDING,
            {"keep_root_login": True},
            ["root stays and can log in with its password", "10-pier.network"],
            ["clones without a seed would have no SSH host keys"],
        ),
        (
            SEEDING | {"/etc/cloud/cloud-init.disabled": ""},
            {},
            [],
            ["nobody could log in"],
        ),
        (
            KEY_UNIT,
            {"keep_root_login": True, "same_size_clones": True},
            ["sshd-keygen@*.service is enabled"],
            [],
        ),
        (
            KEY_UNIT | {"/etc/shadow": "root:!:1::::::\nada.brine:!:1::::::\n"},
            {"retained_accounts": ("ada.brine",), "same_size_clones": True},
            ["ada.brine stays and can log in with its login key"],
            [],
        ),
        (
            {"/etc/shadow": "root:!:1::::::\nada.brine:!:1::::::\n"},
            {"keep_root_login": True, "plant_first_boot": True},
            [
                "planted first-boot script creates the accounts",
                "script creates new ones",
                "script grows the root",
            ],
            [],
        ),
        (
            {"/usr/sbin/useradd": None, "/usr/sbin/resize2fs": None, "/usr/bin/ssh-keygen": None},
            {"plant_first_boot": True},
            [],
            ["nobody could log in", "no SSH host keys", "larger disk"],
        ),
        (
            {"/etc/shadow": "root:$6$r:1:0:99999:7::10000:\n"},
            {"keep_root_login": True, "same_size_clones": True},
            [],
            ["nobody could log in", "no SSH host keys"],
        ),
        (
            {"/usr/sbin/sshd": None},
            {"keep_root_login": True, "same_size_clones": True},
            ["has no SSH server"],
            [],
        ),
        (
            {"/etc/systemd/network/10-pier.network": None},
            {"expect_seed": True, "plant_first_boot": True},
            ["configured from the clone's seed"],
            [],
        ),
        (
            {
                "/etc/systemd/network/10-pier.network": None,
                "/etc/network/interfaces": "auto lo\niface lo inet loopback\niface e inet dhcp\n",
            },
            {"keep_root_login": True, "plant_first_boot": True},
            ["/etc/network/interfaces configures it"],
            [],
        ),
        (
            {
                "/etc/systemd/network/10-pier.network": None,
                "/etc/systemd/system/multi-user.target.wants/NetworkManager.service": "-> /x",
                f"{UNITS}/NetworkManager.service": "",
            },
            {"keep_root_login": True, "plant_first_boot": True},
            ["NetworkManager.service is enabled"],
            [],
        ),
        (
            {
                "/etc/systemd/network/10-pier.network": None,
                "/etc/sysconfig/network-scripts/ifcfg-lo": "x",
            },
            {"keep_root_login": True, "plant_first_boot": True},
            [],
            ["no network"],
        ),
        (
            {
                "/etc/systemd/network/10-pier.network": None,
                "/etc/network/interfaces": "auto lo\niface lo inet loopback\n",
            },
            {"plant_first_boot": True},
            ["requests an address (ifupdown)"],
            [],
        ),
        (
            {
                "/etc/systemd/network/10-pier.network": None,
                "/etc/cloud/cloud.cfg.d/99-no.cfg": "network: {config: disabled}\n",
            }
            | SEEDING,
            {},
            [],
            ["99-no.cfg prevents cloud-init from configuring it"],
        ),
        (
            {},
            {"skip": ("keys.ssh-host", "people"), "same_size_clones": True},
            ["they are kept", "root stays"],
            [],
        ),
    ],
)
def test_the_guard_reads_its_answers_from_the_guest(
    tmp_path: Path,
    tree: dict[str, str | None],
    policy: dict[str, object],
    assured: list[str],
    lock_outs: list[str],
) -> None:
    found = survey(tmp_path, tree, **policy)
    for words in assured:
        assert any(words in text for text in found.guard.assured), found.guard
    for words in lock_outs:
        assert any(words in text for text in found.guard.lock_outs), found.guard
    assert len(found.guard.lock_outs) >= len(lock_outs)
    assert (found.guard.lock_outs == ()) == (lock_outs == [])
    assert found.is_ready == (lock_outs == [])


def test_advice_names_what_a_seal_does_not_see(tmp_path: Path) -> None:
    fstab = BARE_GUEST["/etc/fstab"] + "LABEL=ESP /boot/efi vfat defaults 0 1\n"
    root = make_guest_volume(tmp_path, BARE_GUEST | {"/etc/fstab": fstab})
    (tmp_path / "esp").write_bytes(bytes(4 << 20))
    run("mkfs.vfat", "-n", "ESP", tmp_path / "esp")
    with (tmp_path / "esp").open("r+b") as file:
        file.seek(37)
        file.write(b"\1")  # as after a crash
    stranger = make_ext(tmp_path / "other.img", 4, "-t", "ext4", "-L", "other")
    disk = make_disk(
        tmp_path / "d.raw", ("8300", root), ("ef00", tmp_path / "esp"), ("8300", stranger)
    )
    run("qemu-img", "convert", "-O", "qcow2", disk, tmp_path / "base.qcow2")
    run("qemu-img", "create", "-q", "-f", "qcow2", "-b", "base.qcow2", "-F", "qcow2",
        tmp_path / "top.qcow2")  # fmt: skip
    run("qemu-img", "snapshot", "-c", "before", tmp_path / "top.qcow2")
    found = survey_image(tmp_path / "top.qcow2", DEFAULT_POLICY)
    advice = " ".join(found.readiness.advice)
    for words in (
        "/boot/efi (partition 2 (FAT) was not unmounted cleanly",
        "partition 3 (ext4) is not mounted by the guest",
        "has an internal snapshot",
        "has a backing file",
    ):
        assert words in advice
    assert len(found.image.snapshots) == 1
    assert [path.name for path in found.image.chain] == ["base.qcow2"]


def test_a_nearly_full_volume_is_told(tmp_path: Path) -> None:
    found = survey(tmp_path, {"/srv/big": "x" * 6_400_000})
    assert any(
        "% full: clones will soon run out of space" in text for text in found.readiness.advice
    )


BROKEN_GUESTS: dict[str, dict[str, str]] = {
    "nothing seeds it": {},
    "no means to grow": {"/usr/sbin/resize2fs": "GONE", "/usr/sbin/sfdisk": "GONE"},
    "nothing makes accounts": {"/usr/sbin/useradd": "GONE"},
    "nothing makes host keys": {"/usr/bin/ssh-keygen": "GONE"},
    "no shell": {"/bin/sh": "GONE"},
    "no network": {"/etc/systemd/network/10-pier.network": "GONE"},
    "a static address": {
        "/etc/network/interfaces": "iface eth0 inet static\n  address 192.0.2.7/24\n"
    },
    "nobody with a password": {"/etc/shadow": "root:!:1::::::\nada.brine:!:1::::::\n",
                               "/home/ada.brine/.ssh/authorized_keys": "GONE"},
    "a version history": {"/etc/.git/HEAD": "ref: refs/heads/main\n"},
    "seeded, cloud-init leaves the network": SEEDING | {
        "/etc/cloud/cloud.cfg.d/99.cfg": "network: {config: disabled}\n",
        "/etc/systemd/network/10-pier.network": "GONE",
    },
}  # fmt: skip


OPTION = r"--[a-z][a-z-]+(?: (?:keys\.\S+?|ada\.brine)(?=[ ,]|$))?"


@pytest.mark.parametrize("chosen", [(), ("--plant-first-boot",), ("--expect-seed",)], ids=str)
@pytest.mark.parametrize("name", BROKEN_GUESTS)
def test_every_advice_of_a_refusal_changes_the_answer(
    zeroseal: Command, tmp_path: Path, name: str, chosen: tuple[str, ...]
) -> None:
    """Each option that a sentence names makes that sentence go away."""
    tree = {**BARE_GUEST, **BROKEN_GUESTS[name]}
    tree = {path: text for path, text in tree.items() if text != "GONE"}
    volume = make_guest_volume(tmp_path, tree)

    def refusals(*words: str) -> list[str]:
        answer = zeroseal("seal", volume, "--dry-run", "--json", *chosen, *words)
        told = json.loads(answer.out)
        if told["schema"] == "zeroseal.error":
            return [told["message"]]
        return [*told["readiness"]["blockers"], *told["guard"]["lockOuts"]]

    for sentence in refusals():
        for option in re.findall(OPTION, sentence):
            if option in chosen:  # "leave the option out"
                continue
            assert sentence not in refusals(*option.split()), (option, sentence)


def test_a_windows_is_not_told_of_systemd(zeroseal: Command, tmp_path: Path) -> None:
    disk = make_windows_disk(tmp_path / "d.raw")
    told = zeroseal("seal", disk, "--dry-run", "--plant-first-boot")
    assert told.status == 4
    assert "systemd" not in told.err
    assert "for Linux guests" in told.err


def test_folders_that_the_kernel_would_not_write_to_are_told_before_the_work(
    zeroseal: Command, tmp_path: Path
) -> None:
    """tune2fs leaves emptied blocks of an index without their checksum."""
    volume = make_guest_volume(tmp_path, BARE_GUEST | SEEDING, size_mib=32)
    run("tune2fs", "-O", "^metadata_csum", volume)
    with kernel_mount(volume) as point:
        (point / "srv/many").mkdir(parents=True)
        for number in range(4000):
            (point / f"srv/many/name-of-a-file-{number}").touch()
        for number in range(20, 3990):
            (point / f"srv/many/name-of-a-file-{number}").unlink()
    run("e2fsck", "-fp", volume)
    run("tune2fs", "-O", "metadata_csum", volume)
    told = zeroseal("seal", volume, "-o", tmp_path / "o.raw", "--expect-seed")
    assert (told.status, "On whole disk, 1 folder lacks" in told.err) == (4, True)
    assert "e2fsck -fD" in told.err
    run("e2fsck", "-fDy", volume, status=1)
    done = zeroseal("seal", volume, "-o", tmp_path / "o.raw", "--expect-seed")
    assert done.status == 0, done.err
    judge_ext(tmp_path / "o.raw")
