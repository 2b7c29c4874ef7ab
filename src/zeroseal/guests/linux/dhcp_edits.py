"""From static addresses to DHCP, in the formats of the network services: text to text.

Sources: interfaces(5), systemd.network(5), netplan(5), nm-settings-keyfile(5), dhcpcd.conf(5), the
ifcfg files of initscripts and of wicked. Name servers stay; what only makes sense with an address
goes.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

_IFACE = re.compile(r"^(\s*iface\s+)(\S+)(\s+inet6?\s+)static\b.*$")
_STANZA = re.compile(r"^\s*(iface|auto|allow-\S+|mapping|source\S*|no-\S+)\b")
_IFACE_OPTIONS = re.compile(
    r"^\s*(address|netmask|gateway|network|broadcast|pointopoint|metric|scope|dad-attempts)\s"
)
_NETWORKD_KEYS = re.compile(r"^\s*(Address|Gateway|DHCP)\s*=")
_NETWORKD_SECTIONS = ("Address", "Route")
_KEYFILE_KEYS = re.compile(r"^(address(es)?\d*|gateway|route\d*(_options)?|routes\d*)\s*=")
_IFCFG_KEYS = re.compile(
    r"^\s*(IPADDR|NETMASK|PREFIX|PREFIXLEN|GATEWAY|NETWORK|BROADCAST|IPV6ADDR|IPV6_DEFAULTGW|"
    r"REMOTE_IPADDR|LABEL)(_?\w*)?="
)
_BOOTPROTO = re.compile(r"(?m)^\s*BOOTPROTO=.*$")
_DHCPCD = re.compile(r"^\s*(static|inform6?|noipv4)\b")


def interfaces_to_dhcp(text: str) -> str:
    """``/etc/network/interfaces``: static stanzas ask DHCP; those of aliases go."""
    aliases = set(re.findall(r"(?m)^\s*iface\s+(\S+:\S+)\s+inet6?\s+static\b", text))
    lines: list[str] = []
    inside = dropping = False
    for line in text.splitlines(keepends=True):
        found = _IFACE.match(line)
        if found:
            inside, dropping = True, found[2] in aliases
            method = "auto" if "inet6" in found[3] else "dhcp"
            line = f"{found[1]}{found[2]}{found[3]}{method}\n"
        elif _STANZA.match(line):
            inside = dropping = False
            words = [word for word in line.split() if word not in aliases]
            if len(words) < len(line.split()):
                line = " ".join(words) + "\n" if len(words) > 1 else ""
        if not dropping and not (inside and _IFACE_OPTIONS.match(line)):
            lines.append(line)
    return "".join(lines)


def networkd_to_dhcp(text: str) -> str:
    """A ``.network`` file of systemd-networkd."""
    lines: list[str] = []
    section = ""
    for line in text.splitlines(keepends=True):
        if line.strip().startswith("["):
            section = line.strip().strip("[]")
            if section not in _NETWORKD_SECTIONS:
                lines.append(line.rstrip("\n") + "\n")
            if section == "Network":
                lines.append("DHCP=yes\n")
        elif section in _NETWORKD_SECTIONS or (section == "Network" and _NETWORKD_KEYS.match(line)):
            continue
        else:
            lines.append(line)
    return "".join(lines)


def keyfile_to_dhcp(text: str) -> str:
    """A connection profile of NetworkManager."""
    lines: list[str] = []
    section = ""
    for line in text.splitlines(keepends=True):
        if line.startswith("["):
            section = line.strip().strip("[]")
        if section in ("ipv4", "ipv6"):
            if _KEYFILE_KEYS.match(line):
                continue
            line = re.sub(r"^method\s*=\s*manual", "method=auto", line)
        lines.append(line)
    return "".join(lines)


def ifcfg_to_dhcp(text: str) -> str:
    """An ifcfg file, of initscripts or of wicked."""
    kept = [line for line in text.splitlines(keepends=True) if not _IFCFG_KEYS.match(line)]
    rest = "".join(kept)
    if _BOOTPROTO.search(rest):
        return _BOOTPROTO.sub("BOOTPROTO=dhcp", rest)
    return f"BOOTPROTO=dhcp\n{rest}"


def dhcpcd_to_dhcp(text: str) -> str:
    """The configuration of dhcpcd."""
    return "".join(line for line in text.splitlines(keepends=True) if not _DHCPCD.match(line))


def netplan_to_dhcp(text: str) -> str:
    """A file of netplan; its comments are lost."""
    import yaml  # few guests have such files

    document = yaml.safe_load(text)
    for device in iter_netplan_devices(document):
        if isinstance(device.get("addresses"), list):
            _device_to_dhcp(device)
    return yaml.safe_dump(document, sort_keys=False)


def iter_netplan_devices(document: Any) -> Iterator[dict[str, Any]]:
    """Yields the devices of a netplan document, of all kinds."""
    network = document.get("network") if isinstance(document, dict) else None
    for devices in network.values() if isinstance(network, dict) else []:
        for device in devices.values() if isinstance(devices, dict) else []:
            if isinstance(device, dict):
                yield device


def _device_to_dhcp(device: dict[str, Any]) -> None:
    for key in ("addresses", "gateway4", "gateway6", "routes", "routing-policy"):
        device.pop(key, None)
    device["dhcp4"] = True
