"""Static addresses from ranges: the next free ones, reservations, conflicts told beforehand."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Command
from zeroseal.machines.media import read_seed_medium
from zeroseal.machines.yard import Yard
from zeroseal.templates.addresses import next_free, parse_range, read_reservations
from zeroseal.templates.shelf.entry import Template
from zeroseal.templates.shelf.shelf import Shelf

RANGE = "192.0.2.40-192.0.2.47/24"
# one line each of a host table, dnsmasq, ISC's and Kea's servers, and a list
RESERVED = """\
# 192.0.2.40 is free: this is a comment
192.0.2.41  quay.saltmarsh.example quay
dhcp-host=02:5a:17:00:00:43,192.0.2.42,set:piers
host pier { hardware ethernet 02:5a:17:00:00:44; fixed-address 192.0.2.43; }
{ "hw-address": "02:5a:17:00:00:45", "ip-address": "192.0.2.44" },
2001:db8::41, fe80::1
version 1.2 of 2026-12-01, port 8080:80
"""
SHEET = """\
version = 1
template = "gangway"
[every]
gateways = ["192.0.2.45"]
address_ranges = ["{range}", "2001:db8::40-2001:db8::60/64"]
[[clone]]
count = 2
numbers = {{ prefix = "gate-" }}
[[clone]]
name = "own"
addresses = ["192.0.2.99/24"]
"""


def addresses_of(yard: Path) -> dict[str, tuple[str, ...]]:
    """What each clone was told, on its medium."""
    found = {}
    for machine in Yard(yard).machines():
        seed = read_seed_medium(machine.folder / "seed.iso")
        assert seed.network is not None
        assert seed.network.addresses == machine.definition.addresses
        found[machine.definition.name] = seed.network.addresses
    return found


def test_clones_get_the_next_free_addresses_of_their_ranges(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    del template
    sheet, yard, reserved = tmp_path / "s.toml", tmp_path / "yard", tmp_path / "reserved.conf"
    reserved.write_text(RESERVED)
    sheet.write_text(SHEET.format(range=RANGE))
    words = ("--to", yard, "--shelf", shelf.folder, "--reserved", reserved)
    made = zeroseal("clone", "--sheet", sheet, *words)
    assert made.status == 0, made.err
    # 41 to 44 are reserved, 45 is the gateway
    assert addresses_of(yard) == {
        "gate-01": ("192.0.2.40/24", "2001:db8::40/64"),
        "gate-02": ("192.0.2.46/24", "2001:db8::42/64"),
        "own": ("192.0.2.99/24",),
    }
    again = tmp_path / "again.toml"
    again.write_text(SHEET.format(range=RANGE).partition("[[clone]]\nname")[0])
    full = zeroseal("clone", "--sheet", again, *words)
    assert full.status == 5, full.err
    assert f"no free address is left in {RANGE}, 2001:db8::40-2001:db8::60/64 for gate-" in full.err
    assert len(Yard(yard).machines()) == 3
    # another sheet counts as reservations; what a machine was given in its disk counts too
    other = zeroseal("clone", "gangway", "--name", "east", "--to", tmp_path / "other", "--shelf",
                     shelf.folder)  # fmt: skip
    assert other.status == 0, other.err
    own = tmp_path / "own.toml"
    own.write_text(SHEET.format(range="192.0.2.96-192.0.2.110/24").replace("99/24", "101/24"))
    more = zeroseal("clone", "--sheet", own, "--to", tmp_path / "other", "--shelf", shelf.folder,
                    "--reserved", sheet)  # fmt: skip
    assert more.status == 0, more.err
    assert addresses_of_named(tmp_path / "other", "gate-02") == "192.0.2.97/24"
    taken = tmp_path / "taken.toml"
    taken.write_text(SHEET.format(range=RANGE).replace("192.0.2.99", "192.0.2.41"))
    refused = zeroseal("clone", "--sheet", taken, "--to", tmp_path / "none", "--shelf",
                       shelf.folder, "--reserved", reserved)  # fmt: skip
    assert refused.status == 2
    assert f"the address 192.0.2.41 (reserved in {reserved}) for own" in refused.err
    assert Yard(tmp_path / "none").machines() == []


def addresses_of_named(yard: Path, name: str) -> str:
    return Yard(yard).get(name).definition.addresses[0]


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("192.0.2.40", "FIRST-LAST/PREFIX"), ("192.0.2.40-192.0.2.50", "FIRST-LAST/PREFIX"),
        ("192.0.2.50-192.0.2.40/24", "ends before it begins"),
        ("192.0.2.40-2001:db8::1/24", "ends before it begins"),
        ("192.0.2.40-192.0.3.50/24", "not in its network 192.0.2.0/24"),
        ("192.0.2.x-192.0.2.50/24", "does not appear to be"),
        ("192.0.2.40-192.0.2.50/64", "does not appear to be"),
    ],
)  # fmt: skip
def test_a_range_that_is_none_is_told_by_its_key(
    tmp_path: Path, zeroseal: Command, text: str, told: str
) -> None:
    with pytest.raises(ValueError, match=told):
        parse_range(text)
    (tmp_path / "s.toml").write_text(SHEET.format(range=text))
    answer = zeroseal("clone", "--sheet", tmp_path / "s.toml", "--to", tmp_path / "yard")
    assert (answer.status, "address_ranges" in answer.err) == (2, True), answer.err


def test_what_machines_cannot_have_is_left_out() -> None:
    assert list(parse_range("192.0.2.0-192.0.2.3/30")) == ["192.0.2.1/30", "192.0.2.2/30"]
    assert list(parse_range("192.0.2.0-192.0.2.1/31")) == ["192.0.2.0/31", "192.0.2.1/31"]
    assert next_free(["192.0.2.1-192.0.2.2/24"], {"192.0.2.1", "192.0.2.2"}) is None


def test_every_address_of_a_file_is_reserved_and_no_other_word(tmp_path: Path) -> None:
    (tmp_path / "r").write_text(RESERVED)
    assert set(read_reservations(tmp_path / "r")) == {
        "192.0.2.41", "192.0.2.42", "192.0.2.43", "192.0.2.44", "2001:db8::41", "fe80::1",
    }  # fmt: skip
