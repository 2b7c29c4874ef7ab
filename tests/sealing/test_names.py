"""Names of the machine: short ones, earlier ones, and those that are a part of longer names."""

from __future__ import annotations

import json
from pathlib import Path

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from tests.oracles import find_texts, kernel_mount

SHORT = {
    "/etc/hostname": "web1\n",
    "/etc/hosts": "127.0.0.1 localhost\n127.0.1.1 web1.saltmarsh.example web1\n",
    "/etc/passwd": BARE_GUEST["/etc/passwd"].replace("ada.brine", "maja"),
    "/etc/shadow": "root:!:1::::::\nmaja:$6$aaaa:1::::::\n",
    "/etc/group": "root:x:0:\nmaja:x:1000:\n",
    "/home/ada.brine/.bash_history": "",
    "/home/maja/.bash_history": "x",
}
SEALING = ("--expect-seed", "--plant-first-boot")


def sealed(zeroseal: Command, tmp_path: Path, tree: dict[str, str]) -> tuple[Path, dict[str, str]]:
    """(the sealed disk, {place: label} of what stopped the seal instead)."""
    volume = make_guest_volume(tmp_path, BARE_GUEST | SEEDING | tree)
    out = tmp_path / "o.raw"
    answer = zeroseal("seal", volume, "-o", out, *SEALING, "--json")
    told = json.loads(answer.out)
    assert answer.status in (0, 5), answer.err
    pairs = [place.partition(" in /") for place in told.get("places", [])]
    return out, {f"/{place}": label for label, _in, place in pairs}


def test_short_names_are_found_as_words_in_files_and_in_names(
    zeroseal: Command, tmp_path: Path
) -> None:
    _out, found = sealed(
        zeroseal,
        tmp_path,
        SHORT
        | {
            "/etc/ferry.conf": "master = web1\n",
            "/etc/other.conf": "master = web10 web1x awning\n",
            "/etc/owner.conf": "notify maja, soon\n",
            "/var/lib/broker/rabbit@web1/x": "x",
            "/var/spool/maja/y": "",
            "/usr/share/doc/web1": "web1",
        },
    )
    assert found == {
        "/etc/ferry.conf": "host name (web1)",
        "/etc/owner.conf": "account name maja",
        "/var/lib/broker (names)": "host name (web1)",
        "/var/spool (names)": "account name maja",
    }


def test_a_machine_with_short_names_is_sealed_where_nothing_holds_them(
    zeroseal: Command, tmp_path: Path
) -> None:
    out, found = sealed(zeroseal, tmp_path, SHORT)
    assert found == {}
    assert find_texts(out, [b"web1", b"maja"]) == set()


def test_a_short_name_that_stands_everywhere_is_a_common_word(
    zeroseal: Command, tmp_path: Path
) -> None:
    many = {f"/etc/many/{number}": "the mail goes out\n" for number in range(40)}
    own = {"/etc/hostname": "mail\n", "/etc/hosts": "127.0.1.1 mail\n"}
    volume = make_guest_volume(tmp_path, BARE_GUEST | SEEDING | own | many)
    answer = zeroseal("seal", volume, "-o", tmp_path / "o.raw", *SEALING)
    assert answer.status == 0, answer.err
    assert "The host name (mail) is also a common word" in " ".join(answer.out.split())


def test_all_names_that_a_machine_has_had_are_names_of_the_machine(
    zeroseal: Command, tmp_path: Path
) -> None:
    tree = {
        "/etc/hosts": "127.0.0.1 localhost\n127.0.1.1 First-Quay.saltmarsh.example first-quay\n"
        "192.0.2.20 ledger-host\n",
        "/etc/postfix/main.cf": "mydestination = second-quay, localhost.localdomain, "
        "localdomain, localhost\nrelayhost =\n",
        "/var/log/syslog": "Nov  3 08:12:44 third-quay kernel: Linux version 6\n",
        "/srv/notes": "first-quay, third-quay and ledger-host.localdomain\n",
    }
    _out, found = sealed(zeroseal, tmp_path, tree)
    assert set(found) == {"/srv/notes"}
    volume = make_guest_volume(tmp_path, BARE_GUEST | SEEDING | tree | {"/srv/notes": "quays\n"})
    out = tmp_path / "2.raw"
    assert zeroseal("seal", volume, "-o", out, *SEALING).status == 0
    assert find_texts(out, [b"first-quay", b"First-Quay", b"second-quay", b"third-quay"]) == set()
    with kernel_mount(out, "ro") as point:
        assert "192.0.2.20 ledger-host" in (point / "etc/hosts").read_text()


def test_longer_names_that_hold_the_machines_own_are_told(
    zeroseal: Command, tmp_path: Path
) -> None:
    tree = {
        "/opt/agent.conf": "Name = pier-ref-fd\n",
        "/opt/broker": "rabbit@pier-refh and so on\n",
    }
    volume = make_guest_volume(tmp_path, BARE_GUEST | SEEDING | tree)
    answer = zeroseal("seal", volume, "-o", tmp_path / "o.raw", *SEALING)
    assert answer.status == 0, answer.err
    told = " ".join(answer.out.split())
    assert "as part of longer names" in told
    assert "/opt/agent.conf" in told
    assert "/opt/broker" in told


def test_a_log_that_is_named_after_the_host_is_removed_with_its_name(
    zeroseal: Command, tmp_path: Path
) -> None:
    tree = {"/var/log/broker/rabbit@pier-ref.log": "up\n", "/var/log/broker/other.log": "up\n"}
    volume = make_guest_volume(tmp_path, BARE_GUEST | SEEDING | tree)
    plan = zeroseal("seal", volume, "--dry-run", "--places", *SEALING).out
    assert "rabbit@pier-ref.log  (its name contains the host name)" in plan
    out = tmp_path / "o.raw"
    done = zeroseal("seal", volume, "-o", out, *SEALING)
    assert done.status == 0, done.err
    with kernel_mount(out, "ro") as point:
        assert [path.name for path in (point / "var/log/broker").iterdir()] == ["other.log"]
