"""The values that compare shows: each kind is read, none is a secret, neutral ones do not count."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, MACHINE_ID, ROOT_UUID, make_guest_volume
from zeroseal.errors import UsageError
from zeroseal.guests.identity_value import IdentityValue
from zeroseal.images.detect import open_image
from zeroseal.sealing.compare import compare_images, read_values
from zeroseal.sealing.inspection import Inspection

PUBLIC = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGFkYWFkYWFkYWFkYWFkYWFkYWFkYWFkYWFkYWFkYWFk x"


def values_of(folder: Path, tree: dict[str, str]) -> list[IdentityValue]:
    image = open_image(make_guest_volume(folder, tree))
    found = read_values(Inspection.read(image))
    image.close()
    return found


def test_every_kind_is_read_and_none_is_a_secret(tmp_path: Path) -> None:
    found = values_of(
        tmp_path,
        BARE_GUEST
        | {
            "/etc/ssh/ssh_host_ed25519_key.pub": PUBLIC + "\n",
            "/etc/ssh/ssh_host_rsa_key": "private-canary",
            "/etc/ssh/ssh_host_broken_key.pub": "ssh-rsa !!!\n",
            "/etc/ssh/ssh_host_short_key.pub": "x\n",
            "/var/lib/systemd/random-seed": "seed-canary",
            "/var/lib/dhcp/a.leases": "lease {\n fixed-address 192.0.2.9;\n}\n",
            "/var/lib/NetworkManager/b.lease": "ADDRESS=2001:db8::9\n",
            "/var/lib/dbus/machine-id": MACHINE_ID,
        },
    )
    kinds = [value.kind for value in found]
    assert kinds.count("machine ID") == 1  # the copy is the same value
    assert kinds.count("SSH host key") == 2
    assert {"random seed", "host name", "leased address", "volume UUID"} <= set(kinds)
    shown = " ".join(value.shown for value in found)
    for words in ("pier-ref", "192.0.2.9", "2001:db8::9", ROOT_UUID, "ssh-ed25519 SHA256:"):
        assert words in shown
    for secret in ("canary", MACHINE_ID, PUBLIC.split()[1]):
        assert secret not in shown


def test_a_guest_without_identity_has_only_volume_ids(tmp_path: Path) -> None:
    neutral = {"/etc/hostname": "localhost\n", "/etc/machine-id": "", "/etc/os-release": "ID=x\n"}
    found = values_of(tmp_path, neutral)
    assert [(value.kind, value.by_design) for value in found] == [("volume UUID", True)]


def test_one_shared_value_among_many_images_is_found_with_its_owners(tmp_path: Path) -> None:
    paths = []
    for number in range(3):
        folder = tmp_path / str(number)
        folder.mkdir()
        tree = BARE_GUEST | {
            "/etc/machine-id": f"{number:032x}",
            "/etc/hostname": "twin\n" if number else "other\n",
            "/etc/ssh/ssh_host_ed25519_key.pub": "none\n",
        }
        del tree["/etc/ssh/ssh_host_ed25519_key"]
        paths.append(make_guest_volume(folder, tree))
    comparison = compare_images(paths)
    assert not comparison.are_unique
    (shared,) = [item for item in comparison.shared if not item.value.by_design]
    assert (shared.value.kind, shared.value.shown, shared.images) == ("host name", "twin", (1, 2))


def test_one_image_cannot_be_compared(tmp_path: Path) -> None:
    image = make_guest_volume(tmp_path, BARE_GUEST)
    (tmp_path / "link").symlink_to(image)
    for paths in ([image], [image, image], [image, tmp_path / "link"]):
        with pytest.raises(UsageError):
            compare_images(paths)


def test_the_plan_prints_the_command_that_carries_it_out(
    zeroseal: Command, bare_guest: Path
) -> None:
    words = ("--skip", "diary", "--retain-account", "ada.brine", "--keep-root-login")
    answer = zeroseal("seal", bare_guest, "--dry-run", "--plant-first-boot", *words)
    assert answer.status == 0
    command = answer.out.strip().splitlines()[-1].split()
    assert command[:5] == ["zeroseal", "seal", str(bare_guest), "-o", "OUT"]
    carried_out = zeroseal(*command[1:4], bare_guest.with_name("o"), *command[5:], "--json")
    assert carried_out.status == 0


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (
            ("--retain-account", "ada.brine", "--plant-first-boot"),
            "Retained on purpose: ada.brine.",
        ),
        (("--keep-root-login", "--plant-first-boot"), "Root's login was kept on purpose."),
        (("--expect-seed", "--plant-first-boot", "--skip", "diary"), "Skipped on purpose: diary."),
    ],
)
def test_a_check_says_what_was_kept_on_purpose(
    zeroseal: Command, bare_guest: Path, tmp_path: Path, words: tuple[str, ...], told: str
) -> None:
    assert zeroseal("seal", bare_guest, "-o", tmp_path / "o", *words).status == 0
    checked = zeroseal("check", tmp_path / "o")
    assert checked.status == 0
    assert told in checked.out


def test_a_broken_seal_that_no_file_tells_of_says_so(
    zeroseal: Command, bare_guest: Path, tmp_path: Path
) -> None:
    out = tmp_path / "o"
    words = ("--expect-seed", "--plant-first-boot")
    assert zeroseal("seal", bare_guest, "-o", out, *words).status == 0
    raw = bytearray(out.read_bytes())
    raw[-1] ^= 1
    out.write_bytes(raw)
    answer = zeroseal("check", out)
    assert answer.status == 1
    assert "no file was changed: a file system was mounted" in answer.out
    raw[1024:2048] = bytes(1024)
    out.write_bytes(raw)
    answer = zeroseal("check", out)
    assert answer.out.startswith("BROKEN SEAL")
    assert "Its files could not be read" in answer.out


def test_the_address_of_a_user_network_is_reported_and_shared_by_design(
    zeroseal: Command, tmp_path: Path
) -> None:
    """QEMU gives every guest of such a network 10.0.2.15: two that had it are no twins."""
    images = []
    for number in range(2):
        folder = tmp_path / str(number)
        folder.mkdir()
        leases = "".join(
            f"lease {{\n fixed-address {address};\n}}\n"
            for address in ("10.0.2.15", f"192.0.2.{number}")
        )
        own = {
            "/etc/hostname": f"pier-{number}\n", "/etc/machine-id": f"{number}" * 31 + "a",
            "/etc/hosts": "", "/var/lib/dhcp/a.leases": leases,
            "/etc/ssh/ssh_host_ed25519_key.pub": "",
        }  # fmt: skip
        images.append(make_guest_volume(folder, BARE_GUEST | own))
    answer = json.loads(zeroseal("compare", *images, "--json").out)
    shared = {item["value"]: item["byDesign"] for item in answer["shared"]}
    assert shared["10.0.2.15"] is True
    assert answer["unique"] is True
