"""Accounts removed whole, names and addresses that spread, and what is told of the rest."""

from __future__ import annotations

import json
import struct
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from tests.oracles import find_texts, judge_ext, run

GUEST = BARE_GUEST | SEEDING
UNITS = "/usr/lib/systemd/system"
OWN = 1000  # ada.brine
GATE = {
    f"{UNITS}/gate.service": "[Service]\nUser=ada.brine\n",
    f"{UNITS}/multi-user.target.wants/gate.service": "-> ../gate.service",
}


def survey(
    image: Path, zeroseal: Command, *choices: str, rules: Path | None = None
) -> tuple[str, str]:
    """(what stands against a seal, what is good to know) in one line each."""
    words = ["--rules", rules] if rules else []
    found = json.loads(zeroseal("survey", image, "--json", *words, "--as-if", *choices).out)
    ready = found["readiness"]
    return " ".join(ready["blockers"]), " ".join(ready["advice"] + ready["hints"])


def test_rights_and_spools_go_with_an_account(tmp_path: Path, zeroseal: Command) -> None:
    image = make_guest_volume(
        tmp_path,
        GUEST
        | {
            "/etc/sudoers": "root ALL=(ALL) ALL\nada.brine ALL=(ALL) ALL\n",
            "/etc/sudoers.d/ada": "# hers\nada.brine ALL=(ALL) NOPASSWD:ALL\n",
            "/etc/cron.allow": "root\nada.brine\n",
            "/var/lib/systemd/linger/ada.brine": "",
            "/var/spool/cron/crontabs/ada.brine": "5 4 * * * true\n",
            "/var/spool/mail/ada.brine": "From quay\n",
        },
    )
    sealed = tmp_path / "o.img"
    assert zeroseal("seal", image, "-o", sealed).status == 0
    judge_ext(sealed)
    assert find_texts(sealed, [b"ada.brine"]) == set()
    assert run("debugfs", "-R", "cat /etc/sudoers", sealed) == "root ALL=(ALL) ALL\n"
    for path in ("/etc/sudoers.d/ada", "/var/lib/systemd/linger/ada.brine"):
        assert run("debugfs", "-R", f"stat {path}", sealed) == ""  # not there


def test_files_and_access_lists_that_stay_are_told_by_number(
    tmp_path: Path, zeroseal: Command
) -> None:
    image = make_guest_volume(tmp_path, GUEST | {"/srv/gauge": "11\n", "/srv/open/": ""})
    acl = tmp_path / "acl"
    entries = [(1, 7, 0xFFFFFFFF), (2, 6, OWN), (4, 5, 0xFFFFFFFF), (16, 7, 0xFFFFFFFF),
               (32, 5, 0xFFFFFFFF)]  # fmt: skip
    acl.write_bytes(struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *e) for e in entries))
    run("debugfs", "-w", "-R", f"sif /srv/gauge uid {OWN}", image)
    run("debugfs", "-w", "-R", f"sif /home/ada.brine uid {OWN}", image)
    run("debugfs", "-w", "-R", f"ea_set -f {acl} /srv/open system.posix_acl_access", image)
    judge_ext(image)
    _against, told = survey(image, zeroseal)
    assert "outside its home folder stay" in told
    assert "/srv/gauge" in told
    assert "Access control lists of" in told
    _against, told = survey(image, zeroseal, "--retain-account", "ada.brine", "--same-size-clones")
    assert "outside its home" not in told


@pytest.mark.parametrize(
    ("tree", "runs"),
    [
        (GATE, "gate.service runs as ada.brine"),
        (
            {"/etc/cron.d/gate": "# c\nMAILTO=x\n5 4 * * * ada.brine true\n"},
            "/etc/cron.d/gate runs",
        ),
    ],
)
def test_an_account_that_runs_a_service_stops_a_seal_until_decided(
    tmp_path: Path, zeroseal: Command, tree: dict[str, str], runs: str
) -> None:
    image = make_guest_volume(tmp_path, GUEST | tree)
    against, _told = survey(image, zeroseal)
    assert runs in against
    for words in (("--retain-account", "ada.brine"), ("--remove-account", "ada.brine")):
        assert survey(image, zeroseal, *words)[0] == ""


def test_the_host_name_goes_from_what_is_known_and_is_told_elsewhere(
    tmp_path: Path, zeroseal: Command
) -> None:
    image = make_guest_volume(
        tmp_path,
        GUEST
        | {
            "/etc/postfix/main.cf": "myhostname = pier-ref.x\nmydestination = a, pier-ref\n"
            "biff = no\n",
            "/etc/conf.d/hostname": 'hostname="pier-ref"\n',
            "/etc/dhcp/dhclient.conf": 'send host-name "pier-ref";\nrequest routers;\n',
            "/var/spool/postfix/etc/hosts": "127.0.1.1 pier-ref\n",
            "/etc/tide/gate.conf": "me=pier-ref\n",
            "/var/lib/broker/rabbit@pier-ref/queue": "full\n",
        },
    )
    _against, told = survey(image, zeroseal)
    assert "is still in" in told
    assert "The names of /var/lib/broker/rabbit@pier-ref contain the host name" in told
    sealed = tmp_path / "o.img"
    answer = zeroseal("seal", image, "-o", sealed)
    assert (answer.status, "host name (pier-ref) in /etc/tide/gate.conf" in answer.err) == (5, True)
    assert "host name (pier-ref) in /var/lib/broker (names)" in answer.err
    for order in ("rm /etc/tide/gate.conf", "rm /var/lib/broker/rabbit@pier-ref/queue",
                  "rmdir /var/lib/broker/rabbit@pier-ref"):  # fmt: skip
        run("debugfs", "-w", "-R", order, image)
    assert zeroseal("seal", image, "-o", sealed).status == 0
    assert find_texts(sealed, [b"pier-ref"]) == set()
    assert run("debugfs", "-R", "cat /etc/postfix/main.cf", sealed) == "biff = no\n"


def test_static_addresses_become_dhcp_on_request(tmp_path: Path, zeroseal: Command) -> None:
    path = "/etc/systemd/network/10-pier.network"
    image = make_guest_volume(
        tmp_path, GUEST | {path: "[Match]\nName=e*\n\n[Network]\nAddress=192.0.2.40/24\n"}
    )
    against, _told = survey(image, zeroseal)
    assert f"{path} gives the machine the static address 192.0.2.40/24" in against
    assert "--to-dhcp" in against
    sealed = tmp_path / "o.img"
    assert zeroseal("seal", image, "-o", sealed, "--to-dhcp").status == 0
    assert "DHCP=yes" in run("debugfs", "-R", f"cat {path}", sealed)
    assert find_texts(sealed, [b"192.0.2.40"]) == set()
    assert zeroseal("check", sealed).out.startswith("SEALED")


def test_house_rules_say_what_stops_and_what_is_only_told(
    tmp_path: Path, zeroseal: Command
) -> None:
    rules = tmp_path / "rules.toml"
    rules.write_text(
        'version = 1\n[readiness]\nadvice = ["service-account"]\nblockers = ["no-guest-agent"]\n'
        'ignore = ["no-ssh-server"]\n[remove]\naccounts = []\n[clones]\nsame-size = true\n'
    )
    image = make_guest_volume(tmp_path, GUEST | GATE)
    against, told = survey(image, zeroseal, rules=rules)
    assert "No guest agent" in against
    assert "runs as ada.brine" in told
    assert "SSH server" not in told
    rules.write_text('version = 1\n[readiness]\nblockers = ["no-such"]\n')
    assert "the remark 'no-such' is not known" in zeroseal("survey", image, "--rules", rules).err
    rules.write_text("version = 1\n[clones]\nto-dhcp = true\nplant-first-boot = true\n")
    found = json.loads(zeroseal("survey", image, "--rules", rules, "--json").out)
    assert any("planted" in text for text in found["guard"]["assured"])


def test_swap_files_are_blanked_where_they_lie(tmp_path: Path, zeroseal: Command) -> None:
    swap = tmp_path / "swap"
    swap.write_bytes(bytes(1 << 20))
    run("mkswap", "-L", "tide", swap)
    with swap.open("r+b") as file:
        file.seek(300_000)
        file.write(b"swapped-canary" * 100)
    tree = GUEST | {"/etc/fstab": GUEST["/etc/fstab"] + "/swapfile none swap sw 0 0\n"}
    image = make_guest_volume(tmp_path, tree)
    run("debugfs", "-w", "-R", f"write {swap} /swapfile", image)
    before = run("debugfs", "-R", "blocks /swapfile", image)
    sealed = tmp_path / "o.img"
    assert zeroseal("seal", image, "-o", sealed).status == 0
    judge_ext(sealed)
    assert find_texts(sealed, [b"swapped-canary"]) == set()
    assert run("debugfs", "-R", "blocks /swapfile", sealed) == before
    run("debugfs", "-R", f"dump /swapfile {tmp_path / 'after'}", sealed)
    assert 'LABEL="tide"' in run("blkid", "-p", tmp_path / "after")
    with swap.open("r+b") as file:
        file.seek(4086)
        file.write(b"S1SUSPEND\0")
    run("debugfs", "-w", "-R", "rm /swapfile", image)
    run("debugfs", "-w", "-R", f"write {swap} /swapfile", image)
    assert "holds a hibernated system" in survey(image, zeroseal)[0]


def test_the_self_made_pair_goes_only_where_the_planted_script_makes_another(
    tmp_path: Path, zeroseal: Command
) -> None:
    key = "/etc/ssl/private/ssl-cert-snakeoil.key"
    image = make_guest_volume(tmp_path, GUEST | {key: "k\n", "/usr/sbin/make-ssl-cert": ""})
    _against, told = survey(image, zeroseal)
    assert "All clones will share the self-signed certificate" in told
    sealed = tmp_path / "o.img"
    assert zeroseal("seal", image, "-o", sealed, "--plant-first-boot").status == 0
    assert run("debugfs", "-R", f"stat {key}", sealed) == ""  # not there
    assert "make_certificate" in run(
        "debugfs", "-R", "cat /etc/zeroseal-first-boot/first-boot", sealed
    )
    assert zeroseal("check", sealed).out.startswith("SEALED")
