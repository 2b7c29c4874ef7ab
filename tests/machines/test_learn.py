"""What two machines of one image teach: own identity, shared secrets, the noise of time."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from zeroseal.images.detect import open_image
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.linux.learned import Learned, Renewal, learn_from
from zeroseal.sealing.policy import DEFAULT_POLICY

NAMES = ("pier-one", "pier-two")
IMAGE = BARE_GUEST | SEEDING | {
    "/etc/machine-id": "",
    "/etc/hostname": "localhost\n",
    "/var/lib/dpkg/status": "Package: shipped\nStatus: install ok installed\nVersion: 1\n",
    "/var/lib/dpkg/info/shipped.list": "/.\n/etc\n/etc/shipped\n",
    "/etc/ferry/agent_id": "7d9f5c1e-40aa-4f0e-9a52-1c2d3e4f5a6b\n",  # all clones have it
    "/etc/ferry/mail.conf": "password = tide-Kelp-4471\n",
    "/etc/ferry/harmless.conf": "colour = blue, and dark\n",
}  # fmt: skip


def machine(name: str, number: int, start: int) -> dict[str, str]:
    """The files of one machine after so many starts."""
    return IMAGE | {
        "/etc/machine-id": f"{number}f3a9c0d7e21448b9d10c3b7a6e5f40{number}\n",
        "/etc/hostname": f"{name}\n",
        "/etc/ssh/ssh_host_ed25519_key.pub": f"ssh-ed25519 AAA{number} root@pier\n",
        "/etc/ferry/peer.conf": f"name = {name}\nlevel = 3\n",
        "/var/lib/buoy/node": f"{number}a0b5c1e-40aa-4f0e-9a52-1c2d3e4f5a6{number}\n",
        "/var/lib/buoy/state": f"node=bXyZ77pQ{number}kLmN3vT8wS at={1900000000 + start * 77}\n",
        "/var/lib/buoy/boots": f"started {1900000000 + number * 100 + start} {start}\n",
        "/var/lib/buoy/level": f"{'low' * number}\n",
        "/var/lib/buoy/same": "hello\n",
    }  # fmt: skip


def learned(folder: Path) -> Learned:
    trees = [IMAGE, machine(NAMES[0], 1, 1), machine(NAMES[0], 1, 2), machine(NAMES[1], 2, 1)]
    inspections = []
    for number, tree in enumerate(trees):
        place = folder / str(number)
        place.mkdir()
        inspections.append(Inspection.read(open_image(make_guest_volume(place, tree))))
    image, first, again, other = inspections
    return learn_from(image, first, again, other, DEFAULT_POLICY, NAMES)


def test_identity_is_told_from_time_and_what_is_shared_from_what_is_renewed(tmp_path: Path) -> None:
    found = learned(tmp_path)
    files = {one.path: one for one in found.files}
    assert {path: one.renewal for path, one in files.items()} == {
        "/etc/machine-id": Renewal.OWN,
        "/etc/hostname": Renewal.OWN,
        "/etc/ssh/ssh_host_ed25519_key.pub": Renewal.OWN,
        "/etc/ferry/peer.conf": Renewal.OWN,
        "/var/lib/buoy/node": Renewal.OWN,
        "/var/lib/buoy/state": Renewal.OWN,  # its time changes, the identifier in it does not
        "/var/lib/buoy/level": Renewal.OWN,
        "/etc/ferry/agent_id": Renewal.SHARED,
        "/etc/ferry/mail.conf": Renewal.SHARED,
    }
    assert found.timely == 1
    assert files["/etc/machine-id"].trace == "identity.machine-id"
    assert files["/etc/hostname"].trace == "identity.host-name"
    assert "has an identifier of its own" in files["/var/lib/buoy/state"].reasons
    assert "has the machine's name" in files["/etc/ferry/peer.conf"].reasons
    assert files["/var/lib/buoy/node"].is_new
    assert not files["/etc/ferry/agent_id"].is_new
    assert {one.path for one in found.uncovered} == {
        "/etc/ferry/peer.conf", "/var/lib/buoy/node", "/var/lib/buoy/state",
        "/etc/ferry/agent_id", "/etc/ferry/mail.conf",
    }  # fmt: skip
    assert [one.path for one in found.plain] == ["/var/lib/buoy/level"]


def test_a_shared_agent_id_is_learned_and_the_drafted_rules_can_be_used(
    tmp_path: Path, zeroseal: Command
) -> None:
    image, rules = make_guest_volume(tmp_path, IMAGE), tmp_path / "rules.toml"
    before = image.read_bytes()
    words = ("--host", "simulated", "--no-seed")
    answer = zeroseal("learn", image, *words, "--draft-rules", rules)
    assert answer.status == 1, answer.err
    text = " ".join(answer.out.split())
    assert text.startswith(
        "LEARNED: 2 files that no trace covers may be identity or a secret, on the"
    )
    assert "which proves nothing about a real guest" in text
    assert "/etc/ferry/agent_id (37 B, nobody's, the image has one too)" in text
    assert "7d9f5c1e" not in answer.out
    assert "Kelp" not in answer.out
    assert image.read_bytes() == before
    drafted = rules.read_text()
    assert tomllib.loads(drafted)["allow"] == {"unclaimed": [], "secrets": []}
    assert zeroseal("learn", image, *words, "--draft-rules", rules).status == 4  # not overwritten
    lines = drafted.splitlines()
    start = next(n for n, line in enumerate(lines) if "learned-1" in line) - 1
    lines[start : start + 8] = [line.removeprefix("# ") for line in lines[start : start + 8]]
    rules.write_text(
        "\n".join(lines).replace('  # "/etc/ferry/mail.conf"', '  "/etc/ferry/mail.conf"')
    )
    answer = zeroseal("learn", image, *words, "--rules", rules, "--json")
    files = {one["path"]: one["trace"] for one in json.loads(answer.out)["files"]}
    assert files.pop("/etc/ferry/agent_id") == "identity.learned-1"
    assert all(files.values())  # what the simulated start makes, and traces cover
    assert answer.status == 0


def test_a_trial_says_what_both_machines_keep(tmp_path: Path, zeroseal: Command) -> None:
    image, sealed = make_guest_volume(tmp_path, IMAGE), tmp_path / "sealed"
    done = zeroseal("seal", image, "-o", sealed, "--expect-seed")
    assert done.status == 0, done.err
    answer = zeroseal("trial", sealed, "--host", "simulated")
    assert "Kept from the image, the same on both machines" in answer.out
    assert "/etc/ferry/mail.conf: passwords in settings" in answer.out
    told = json.loads(zeroseal("trial", sealed, "--host", "simulated", "--json").out)
    assert {one["path"] for one in told["kept"]} == {"/etc/ferry/agent_id", "/etc/ferry/mail.conf"}


def test_two_machines_that_share_a_secret_are_not_unique(tmp_path: Path, zeroseal: Command) -> None:
    images = []
    for number, name in enumerate(NAMES, 1):
        (tmp_path / name).mkdir()
        images.append(make_guest_volume(tmp_path / name, machine(name, number, 1)))
    answer = zeroseal("compare", *images)
    assert answer.status == 1
    text = " ".join(answer.out.split())
    assert text.startswith("SHARED: 2 suspicious files on more than one of 2 images")
    assert "/etc/ferry/agent_id (A, B): it is nothing but an identifier" in text
    assert "/etc/ferry/mail.conf (A, B): passwords in settings" in text
    assert "harmless" not in text
    told = json.loads(zeroseal("compare", *images, "--files", "--json").out)
    same = {one["path"] for one in told["sameFiles"]}
    assert "/etc/ferry/harmless.conf" in same
    assert not {"/etc/shipped", "/etc/ferry/agent_id", "/etc/hostname"} & same
    rules = tmp_path / "rules.toml"
    rules.write_text(
        'version = 1\n[allow]\nunclaimed = ["/etc/ferry/agent_id"]\nsecrets = ["/etc/ferry/*"]\n'
    )
    answer = zeroseal("compare", *images, "--rules", rules)
    assert answer.status == 0
    assert answer.out.startswith("UNIQUE")
    picture = tmp_path / "shared.html"
    zeroseal("compare", *images, "--html", picture)
    assert "SHARED: 2 files" in picture.read_text()
