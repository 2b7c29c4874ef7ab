"""The values that tell one Windows from another, read from its disk, fit to be shown."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

from zeroseal.guests.guest import Guest
from zeroseal.guests.identity_value import IdentityValue
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.paths import Registry
from zeroseal.guests.ssh_keys import fingerprint
from zeroseal.guests.windows.identity import NEUTRAL_COMPUTER_NAME, WindowsFacts, read_text
from zeroseal.guests.windows.network import iter_interfaces

_SERVICES = "SYSTEM\\CSn\\Services"
_TEXTS = (
    ("telemetry ID", "SOFTWARE\\Microsoft\\SQMClient", "MachineId"),
    ("server GUID", f"{_SERVICES}\\LanmanServer\\Parameters", "Guid"),
)
_BINARY = (
    ("random seed", "SYSTEM\\RNG", "Seed"),
    ("DHCP client ID", f"{_SERVICES}\\Tcpip6\\Parameters", "Dhcpv6DUID"),
    ("server GUID", f"{_SERVICES}\\LanmanServer\\Parameters", "Guid"),
)


def read_windows_values(
    facts: WindowsFacts, registry: Registry, guest: Guest
) -> Iterator[IdentityValue]:
    """Yields the identity values of a Windows."""
    identity = facts.identity
    for kind, text in (
        ("security identifier", identity.sid),
        ("machine GUID", identity.machine_guid),
        ("update client ID", identity.update_id),
    ):
        if text:
            yield IdentityValue(kind, text if kind == "security identifier" else _short(text))
    if facts.host_name not in ("", NEUTRAL_COMPUTER_NAME):
        yield IdentityValue("host name", facts.host_name)
    for path in guest.glob("/ProgramData/ssh/ssh_host_*key.pub"):
        line = guest.read_text(path)
        if fingerprint(line):
            yield IdentityValue("SSH host key", f"{line.split()[0]} {fingerprint(line)}")
    yield from _in_registry(registry)
    for card in iter_interfaces(registry):
        for address in card.addresses:
            yield IdentityValue("static address", address)
        if card.leased:
            yield IdentityValue("leased address", card.leased)


def _in_registry(registry: Registry) -> Iterator[IdentityValue]:
    for kind, pattern, name in _TEXTS:
        text = read_text(registry, pattern, name)
        if text:
            yield IdentityValue(kind, _short(text))
    for kind, pattern, name in _BINARY:
        for _found, value in registry.values(pattern, name):
            if value.kind == value_types.BINARY and any(value.data):
                yield IdentityValue(kind, f"hash {_hash(value.data)}")


def _short(text: str) -> str:
    return f"hash {_hash(text.lower().encode())}"


def _hash(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()[:12]
