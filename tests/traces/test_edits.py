"""Edits of text formats: keys, network settings, boot entries; pure functions from text to text."""

from __future__ import annotations

import configparser

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from zeroseal.errors import UsageError
from zeroseal.guests.linux.static_addresses import to_dhcp
from zeroseal.traces.key_edits import KeyEdit, edit_keys, edited_values
from zeroseal.traces.linux.accounts import DropLines
from zeroseal.traces.linux.boot_entries import SwapBootToken
from zeroseal.traces.load import parse_traces

MACHINE_ID = "0123456789abcdef0123456789abcdef"


@pytest.mark.parametrize(
    ("edit", "before", "after"),
    [
        (
            KeyEdit("assignments", drop=("HWADDR*", "UUID")),
            "# HWADDR=no\nDEVICE=e\nHWADDR=02:00\nexport uuid='x y'\nEND=1",
            "# HWADDR=no\nDEVICE=e\nEND=1",
        ),
        (
            KeyEdit("ini", section="Match", replace=(("MACAddress", "Type=ether"),)),
            "[Match]\n  MACAddress = 02:00\nName=e\n[Link]\nMACAddress=keep\n",
            "[Match]\n  Type=ether\nName=e\n[Link]\nMACAddress=keep\n",
        ),
        (
            KeyEdit(
                "yaml",
                section="match",
                replace=(("macaddress", 'name: "e*"'),),
            ),
            "lan:\n  macaddress: own\n  match:\n    # c\n    macaddress: x\n  dhcp4: true\n",
            'lan:\n  macaddress: own\n  match:\n    # c\n    name: "e*"\n  dhcp4: true\n',
        ),
        (
            KeyEdit("ini", drop=("mydestination",), values="*pier*"),
            "a = 1\nmydestination = pier,\n  quay,\n  localhost\n\nb = 2\n",
            "a = 1\n\nb = 2\n",
        ),
        (
            KeyEdit("yaml", drop=("set-name",), replace=(("macaddress", 'name: "e*"'),)),
            "a:\n  match:\n    macaddress: x # c\n  set-name:\n    deep:\n      - 1\n"
            "  dhcp4: true\n",
            'a:\n  match:\n    name: "e*"\n  dhcp4: true\n',
        ),
        (KeyEdit("words", drop=("hwaddress",)), "iface e\n  hwaddress ether 02\n", "iface e\n"),
        (
            KeyEdit("words", replace=(("HOMEHOST", "HOMEHOST <system>"),)),
            "HOMEHOST <system>\n",
            "HOMEHOST <system>\n",
        ),
        (KeyEdit("lines", drop=("send host-name *",)), 'send host-name "x";\na;\n', "a;\n"),
        (
            KeyEdit("ini", drop=("name",), values="*pier*"),
            "name=quay\nname=a.pier.b\n",
            "name=quay\n",
        ),
    ],
)
def test_keys_are_dropped_and_replaced_and_the_rest_stays(
    edit: KeyEdit, before: str, after: str
) -> None:
    assert edit_keys(before, edit) == after
    assert edit_keys(after, edit) == after
    assert bool(edited_values(before, edit)) == (before != after)


@given(
    st.text(alphabet="ab=: \n#[]-\t'", max_size=80),
    st.sampled_from(["assignments", "ini", "words", "lines"]),
)
def test_an_edit_done_twice_is_done_and_only_takes_lines_away(text: str, kind: str) -> None:
    edit = KeyEdit(kind, drop=("a*",))
    once = edit_keys(text, edit)
    assert edit_keys(once, edit) == once
    rest = iter(text.splitlines(keepends=True))
    assert all(line in rest for line in once.splitlines(keepends=True))


@pytest.mark.parametrize(
    ("path", "before", "after"),
    [
        (
            "/etc/network/interfaces",
            "auto lo e e:1\niface lo inet loopback\n"
            "iface e inet static # x\n  address 192.0.2.9/24\n"
            "  gateway 192.0.2.1\n  dns-nameservers 192.0.2.3\niface e:1 inet static\n"
            "  address 192.0.2.10\niface e inet6 static\n  address 2001:db8::1\n",
            "auto lo e\niface lo inet loopback\niface e inet dhcp\n  dns-nameservers 192.0.2.3\n"
            "iface e inet6 auto\n",
        ),
        (
            "/etc/systemd/network/a.network",
            "[Match]\nName=e\n[Network]\nAddress=192.0.2.9/24\nDNS=192.0.2.3\n[Route]\n"
            "Gateway=192.0.2.1\n[Address]\nAddress=2001:db8::1/64\n",
            "[Match]\nName=e\n[Network]\nDHCP=yes\nDNS=192.0.2.3\n",
        ),
        (
            "/etc/NetworkManager/system-connections/a.nmconnection",
            "[connection]\nid=a\n[ipv4]\naddress1=192.0.2.9/24,192.0.2.1\nmethod=manual\ndns=1;\n",
            "[connection]\nid=a\n[ipv4]\nmethod=auto\ndns=1;\n",
        ),
        (
            "/etc/sysconfig/network-scripts/ifcfg-e",
            "DEVICE=e\nBOOTPROTO=none\nIPADDR0=192.0.2.9\nPREFIX=24\nDNS1=192.0.2.3\n",
            "DEVICE=e\nBOOTPROTO=dhcp\nDNS1=192.0.2.3\n",
        ),
        ("/etc/sysconfig/network/ifcfg-e", "IPADDR='192.0.2.9/24'\n", "BOOTPROTO=dhcp\n"),
        (
            "/etc/dhcpcd.conf",
            "hostname\ninterface e\nstatic ip_address=192.0.2.9/24\nstatic routers=192.0.2.1\n",
            "hostname\ninterface e\n",
        ),
    ],
)
def test_static_addresses_become_dhcp_in_every_format(path: str, before: str, after: str) -> None:
    assert to_dhcp(path, before) == after
    if path.startswith("/etc/NetworkManager"):
        configparser.ConfigParser().read_string(after)


def test_a_static_netplan_device_becomes_dhcp_and_others_stay() -> None:
    before = {
        "network": {
            "version": 2,
            "ethernets": {
                "a": {"addresses": ["192.0.2.9/24"], "gateway4": "192.0.2.1", "mtu": 9000,
                      "nameservers": {"addresses": ["192.0.2.3"]}},
                "b": {"dhcp6": True},
            },
        }
    }  # fmt: skip
    after = yaml.safe_load(to_dhcp("/etc/netplan/1.yaml", yaml.safe_dump(before)))
    assert after["network"]["ethernets"] == {
        "a": {"mtu": 9000, "nameservers": {"addresses": ["192.0.2.3"]}, "dhcp4": True},
        "b": {"dhcp6": True},
    }


def test_boot_entries_lose_the_machine_id_and_keep_their_size_where_it_counts() -> None:
    entry = (
        f"title x\nmachine-id {MACHINE_ID}\nlinux /{MACHINE_ID}/6/linux\n"
        f"options a systemd.machine_id={MACHINE_ID} b\n"
    )
    change = SwapBootToken("/boot/loader/entries/x.conf", MACHINE_ID, "template")
    assert change.edited(entry) == ("title x\nlinux /template/6/linux\noptions a b\n")
    block = f"# GRUB Environment Block\nsaved_entry={MACHINE_ID}-6\n".ljust(1024, "#")
    swapped = change.edited(block)
    assert len(swapped) == 1024
    assert swapped.startswith("# GRUB Environment Block\nsaved_entry=template-6\n###")


def test_lines_of_removed_people_go() -> None:
    text = "# ada\nada ALL=(ALL) ALL\nadam ALL=ALL\nada:x\n%ada ALL=ALL\n"
    assert DropLines("/etc/sudoers", ("ada",)).edited(text) == "# ada\nadam ALL=ALL\n%ada ALL=ALL\n"


@pytest.mark.parametrize(
    ("entry", "told"),
    [
        (
            'treatment = "rewrite"',
            "an edit is required for paths",
        ),
        (
            'treatment = "remove"\nedit = { format = "ini", drop = ["a"] }',
            "an edit is required for paths",
        ),
        ('treatment = "rename"', "does not fit this kind of place"),
        ('treatment = "rewrite"\nedit = { format = "csv", drop = ["a"] }', "edit.format must be"),
        ('treatment = "rewrite"\nedit = { format = "ini" }', "drops keys or replaces"),
        ('treatment = "rewrite"\nedit = { format = "ini", key = "a" }', "edit.key: unknown key"),
        ('treatment = "remove"\ncontains = "("', "not a valid regular expression"),
    ],
)
def test_a_wrong_edit_in_a_catalogue_is_told(entry: str, told: str) -> None:
    text = f'[[trace]]\nid = "keys.a"\ntitle = "t"\nwhy = "w"\npaths = ["/x"]\n{entry}\n'
    with pytest.raises(UsageError, match=told):
        parse_traces(text, "f.toml")
