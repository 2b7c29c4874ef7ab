"""Network cards of a Windows as its registry has them: how each gets its address, and rules."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.paths import Registry

_CARDS = (
    "SYSTEM\\CSn\\Services\\Tcpip\\Parameters\\Interfaces\\*",
    "SYSTEM\\CSn\\Services\\Tcpip6\\Parameters\\Interfaces\\*",
)
_RULES = "SYSTEM\\CSn\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\FirewallRules"
_NONE = ("", "0.0.0.0", "::")
REMOTE_PORTS = {"22": "SSH", "3389": "Remote Desktop", "5985": "WinRM", "5986": "WinRM"}


@dataclass(frozen=True)
class NetworkInterface:
    """A card's settings.

    Attributes:
        file, key: where they stand.
        addresses: static ones; none where it asks DHCP.
        leased: the address that it was lent last; may be empty.
        names: of all its values.
    """

    file: str
    key: str
    addresses: tuple[str, ...]
    leased: str
    names: tuple[str, ...]


@dataclass(frozen=True)
class FirewallRule:
    """An active rule that lets somebody in.

    Attributes:
        profiles: kinds of networks (``Private``, ``Domain``); none for all.
    """

    name: str
    ports: tuple[str, ...]
    profiles: tuple[str, ...]


def iter_interfaces(registry: Registry) -> Iterator[NetworkInterface]:
    """Yields the cards of all control sets."""
    for pattern in _CARDS:
        for found in registry.find(pattern):
            listed = {
                value.name: value_types.typed(value) for value in found.hive.values(found.key)
            }
            known = {name.lower(): content for name, content in listed.items()}
            given = known.get("ipaddress", [])
            addresses = given if isinstance(given, list) else [given]
            static = tuple(
                item for item in addresses if isinstance(item, str) and item not in _NONE
            )
            leased = known.get("dhcpipaddress", "")
            yield NetworkInterface(
                file=found.file,
                key=found.path,
                addresses=() if known.get("enabledhcp") == 1 else static,
                leased=leased if isinstance(leased, str) and leased not in _NONE else "",
                names=tuple(listed),
            )


def read_entrances(registry: Registry) -> list[FirewallRule]:
    """The active rules that let connections in for remote administration."""
    found = []
    for _key, value in registry.values(_RULES, "*"):
        text = value_types.typed(value)
        if not isinstance(text, str):
            continue
        fields = [part.partition("=") for part in text.split("|")]
        first = {name.lower(): content for name, _equals, content in fields}
        ports = tuple(content for name, _e, content in fields if name.lower() == "lport")
        opens = first.get("action") == "Allow" and first.get("dir") == "In"
        if opens and first.get("active") == "TRUE" and set(ports) & set(REMOTE_PORTS):
            profiles = tuple(content for name, _e, content in fields if name.lower() == "profile")
            found.append(FirewallRule(first.get("name", value.name), ports, profiles))
    return found
