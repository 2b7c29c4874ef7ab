"""The values that tell one machine from another, read from its disk, fit to be shown."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.guest import Guest
from zeroseal.guests.ssh_keys import fingerprint
from zeroseal.sealing.subject import Subject

_LEASES = ("/var/lib/dhcp/*", "/var/lib/dhclient/*", "/var/lib/NetworkManager/*.lease")
_ADDRESS = re.compile(r"(?:fixed-address|ADDRESS=|address=)\s*([0-9a-fA-F.:]+)")
_NEUTRAL_NAMES = ("localhost", "")


@dataclass(frozen=True)
class IdentityValue:
    """One value of one machine.

    Attributes:
        kind: what it is, such as ``SSH host key``.
        shown: a fingerprint, a short hash, or the value where it is no secret.
        by_design: whether clones of one template share it unless told otherwise.
    """

    kind: str
    shown: str
    by_design: bool = False


def read_values(subject: Subject) -> list[IdentityValue]:
    """All identity values of a disk, each once, in a fixed order."""
    guest = subject.opened.guest
    found = [
        *_machine_ids(guest),
        *_host_keys(guest),
        *_random_seeds(guest),
        *_host_names(subject),
        *_lease_addresses(guest),
        *_volume_ids(subject),
    ]
    return list(dict.fromkeys(found))


def _machine_ids(guest: Guest) -> Iterator[IdentityValue]:
    for path in ("/etc/machine-id", "/var/lib/dbus/machine-id"):
        text = guest.read_text(path).strip()
        if len(text) == 32:
            yield IdentityValue("machine ID", f"hash {_short_hash(text.encode())}")


def _host_keys(guest: Guest) -> Iterator[IdentityValue]:
    for path in guest.glob("/etc/ssh/ssh_host_*key.pub"):
        line = guest.read_text(path)
        shown = fingerprint(line)
        if shown:
            yield IdentityValue("SSH host key", f"{line.split()[0]} {shown}")
    for path in guest.glob("/etc/ssh/ssh_host_*key"):
        if guest.is_file(path) and not guest.exists(f"{path}.pub"):
            shown = f"private key, hash {_short_hash(guest.read_file(path))}"
            yield IdentityValue("SSH host key", shown)


def _random_seeds(guest: Guest) -> Iterator[IdentityValue]:
    for path in ("/var/lib/systemd/random-seed", "/var/lib/urandom/random-seed"):
        if guest.is_file(path):
            yield IdentityValue("random seed", f"hash {_short_hash(guest.read_file(path))}")


def _host_names(subject: Subject) -> Iterator[IdentityValue]:
    if subject.facts.host_name not in _NEUTRAL_NAMES:
        yield IdentityValue("host name", subject.facts.host_name)


def _lease_addresses(guest: Guest) -> Iterator[IdentityValue]:
    for pattern in _LEASES:
        for path in guest.glob(pattern):
            for address in _ADDRESS.findall(guest.read_text(path)):
                yield IdentityValue("leased address", address)


def _volume_ids(subject: Subject) -> Iterator[IdentityValue]:
    if subject.disk.disk_uuid:
        yield IdentityValue("disk GUID", subject.disk.disk_uuid, by_design=True)
    for volume in subject.disk.volumes:
        if volume.content.uuid:
            yield IdentityValue("volume UUID", volume.content.uuid, by_design=True)


def _short_hash(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()[:12]
