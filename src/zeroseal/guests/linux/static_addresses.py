"""Addresses that a guest gives itself, in the formats of its network services.

Sources: interfaces(5), systemd.network(5), netplan(5), nm-settings-keyfile(5), the ifcfg files of
initscripts, and what cloud-init writes in these forms.
"""

from __future__ import annotations

import configparser
import fnmatch
import re
from collections.abc import Callable, Iterator
from ipaddress import ip_interface
from typing import NamedTuple

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.dhcp_edits import (
    dhcpcd_to_dhcp,
    ifcfg_to_dhcp,
    interfaces_to_dhcp,
    iter_netplan_devices,
    keyfile_to_dhcp,
    netplan_to_dhcp,
    networkd_to_dhcp,
)
from zeroseal.guests.linux.facts import parse_assignments

_STATIC = re.compile(r"^\s*iface\s+(\S+)\s+inet6?\s+static", re.MULTILINE)
_INTERFACES_ADDRESS = re.compile(r"^\s*address\s+(\S+)", re.MULTILINE)
_NETWORKD_ADDRESS = re.compile(r"^\s*Address\s*=\s*(\S+)", re.MULTILINE)


def find_static_addresses(guest: Guest) -> Iterator[tuple[str, list[str]]]:
    """Yields (path, addresses) of each file that gives a static address other than loopback."""
    for kind in _KINDS:
        for pattern in kind.patterns:
            for path in guest.glob(pattern):
                if not guest.is_file(path):
                    continue
                found = [item for item in kind.read(guest.read_text(path)) if _is_outside(item)]
                if found:
                    yield path, found


def to_dhcp(path: str, text: str) -> str:
    """The text of a network file that asks DHCP instead of giving static addresses.

    Args:
        path: where the file is in the guest, which says its format.
        text: its content.
    """
    for kind in _KINDS:
        if any(_fits(path, pattern) for pattern in kind.patterns):
            return kind.to_dhcp(text)
    return text


def _fits(path: str, pattern: str) -> bool:
    same_folder = path.count("/") == pattern.count("/")
    return same_folder and fnmatch.fnmatchcase(path, pattern)


def _is_outside(address: str) -> bool:
    try:
        parsed = ip_interface(address)
    except ValueError:
        return False
    return not parsed.is_loopback and not parsed.is_unspecified


def _from_interfaces(text: str) -> list[str]:
    found = []
    for stanza in re.split(r"(?m)^(?=\s*(?:iface|auto|allow-\S+|mapping|source\S*)\s)", text):
        if _STATIC.match(stanza):
            found += _INTERFACES_ADDRESS.findall(stanza)
    return found


def _from_networkd(text: str) -> list[str]:
    return _NETWORKD_ADDRESS.findall(text)


def _from_netplan(text: str) -> list[str]:
    import yaml  # few guests have such files

    try:
        document = yaml.safe_load(text)
    except (yaml.YAMLError, RecursionError):
        return []
    found: list[str] = []
    for device in iter_netplan_devices(document):
        addresses = device.get("addresses")
        for entry in addresses if isinstance(addresses, list) else []:
            # an address may come with its options: {192.0.2.9/24: {label: a}}
            found += [str(item) for item in (entry if isinstance(entry, dict) else [entry])]
    return found


def _from_keyfile(text: str) -> list[str]:
    parser = configparser.ConfigParser(interpolation=None, strict=False)
    try:
        parser.read_string(text)
    except configparser.Error:
        return []
    found = []
    for section in ("ipv4", "ipv6"):
        if parser.has_section(section):
            found += [
                value.split(",")[0]
                for key, value in parser.items(section)
                if re.fullmatch(r"address(es)?\d*", key)
            ]
    return found


def _from_ifcfg(text: str) -> list[str]:
    values = parse_assignments(text)
    return [value for key, value in values.items() if re.fullmatch(r"IPADDR\d*|IPV6ADDR\d*", key)]


def _from_dhcpcd(text: str) -> list[str]:
    return re.findall(r"(?m)^\s*static\s+ip6?_address\s*=\s*(\S+)", text)


class _Kind(NamedTuple):
    """A format of network settings: where, how its addresses are read, how they become DHCP."""

    patterns: tuple[str, ...]
    read: Callable[[str], list[str]]
    to_dhcp: Callable[[str], str]


_KINDS = (
    _Kind(
        ("/etc/network/interfaces", "/etc/network/interfaces.d/*"),
        _from_interfaces,
        interfaces_to_dhcp,
    ),
    _Kind(("/etc/systemd/network/*.network",), _from_networkd, networkd_to_dhcp),
    _Kind(("/etc/netplan/*.yaml",), _from_netplan, netplan_to_dhcp),
    _Kind(("/etc/NetworkManager/system-connections/*",), _from_keyfile, keyfile_to_dhcp),
    _Kind(
        ("/etc/sysconfig/network-scripts/ifcfg-*", "/etc/sysconfig/network/ifcfg-*"),
        _from_ifcfg,
        ifcfg_to_dhcp,
    ),
    _Kind(("/etc/dhcpcd.conf",), _from_dhcpcd, dhcpcd_to_dhcp),
)
