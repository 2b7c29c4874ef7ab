"""The values that tell one machine from another, read from its disk, fit to be shown."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from ipaddress import ip_address, ip_network

from zeroseal.guests.guest import Guest
from zeroseal.guests.identity_value import IdentityValue
from zeroseal.guests.linux.host_key_files import iter_host_keys
from zeroseal.guests.linux.static_addresses import find_static_addresses
from zeroseal.guests.ssh_keys import fingerprint

_LEASES = ("/var/lib/dhcp/*", "/var/lib/dhclient/*", "/var/lib/NetworkManager/*.lease")
# QEMU's user network, and the one of VirtualBox that is like it (QEMU manual, -netdev user)
_SAME_EVERYWHERE = (ip_network("10.0.2.0/24"), ip_network("fec0::/64"))
_ADDRESS = re.compile(r"(?:fixed-address|ADDRESS=|address=)\s*([0-9a-fA-F.:]+)")
_MAC = re.compile(r"(?i)(?:hardware ethernet|HWADDR=|macaddress:|mac-address=|ATTR\{address\}==)"
                  r"\s*['\"]?((?:[0-9a-f]{2}[:-]){5}[0-9a-f]{2})")  # fmt: skip
_MAC_FILES = (*_LEASES, "/etc/sysconfig/network-scripts/ifcfg-*", "/etc/netplan/*.yaml",
              "/etc/NetworkManager/system-connections/*",
              "/etc/udev/rules.d/70-persistent-net.rules")  # fmt: skip
_CLIENT_IDS = ("/var/lib/dhcp/*.leases", "/var/lib/NetworkManager/secret_key",
               "/var/lib/dhcpcd/duid", "/etc/dhcpcd.duid")  # fmt: skip
_SMALL_FILES = {
    "iSCSI initiator": "/etc/iscsi/initiatorname.iscsi",
    "NVMe host name": "/etc/nvme/hostnqn",
    "container engine": "/var/lib/docker/engine-id",
    "Kerberos keytab": "/etc/krb5.keytab",
    "Samba secrets": "/var/lib/samba/private/secrets.tdb",
    "subscription": "/etc/pki/consumer/cert.pem",
    "management agent": "/etc/salt/pki/minion/minion.pem",
}
_NEUTRAL_NAMES = ("localhost", "")
_MOST_HASHED = 1 << 20


def read_values(guest: Guest, host_name: str) -> Iterator[IdentityValue]:
    """Yields the identity values of a Linux, in a fixed order; one may come twice."""
    yield from _machine_ids(guest)
    yield from _host_keys(guest)
    yield from _random_seeds(guest)
    if host_name not in _NEUTRAL_NAMES:
        yield IdentityValue("host name", host_name)
    yield from _small_files(guest)
    yield from _network(guest)


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
    for path in iter_host_keys(guest):
        if guest.is_file(path) and not guest.exists(f"{path}.pub"):
            shown = f"private key, hash {_short_hash(guest.read_file(path))}"
            yield IdentityValue("SSH host key", shown)


def _random_seeds(guest: Guest) -> Iterator[IdentityValue]:
    for path in ("/var/lib/systemd/random-seed", "/var/lib/urandom/random-seed"):
        if guest.is_file(path):
            yield IdentityValue("random seed", f"hash {_short_hash(guest.read_file(path))}")


def _small_files(guest: Guest) -> Iterator[IdentityValue]:
    for kind, path in _SMALL_FILES.items():
        if not guest.is_file(path) or "GenerateName=yes" in guest.read_text(path)[:4096]:
            continue
        content = guest.read_file(path, _MOST_HASHED)
        if content.strip():
            yield IdentityValue(kind, f"hash {_short_hash(content)}")


def _network(guest: Guest) -> Iterator[IdentityValue]:
    for path in [path for pattern in _MAC_FILES for path in guest.glob(pattern)]:
        for mac in _MAC.findall(guest.read_text(path)):
            yield IdentityValue("MAC", mac.lower().replace("-", ":"))
    for path in [path for pattern in _LEASES for path in guest.glob(pattern)]:
        for address in _ADDRESS.findall(guest.read_text(path)):
            kind = "address of a user network" if is_given_to_all(address) else "leased address"
            yield IdentityValue(kind, address)
    for path in [path for pattern in _CLIENT_IDS for path in guest.glob(pattern)]:
        text = guest.read_text(path)
        named = re.findall(r"(?:default-duid|dhcp-client-identifier)\s+([^;]+);", text)
        whole = [] if path.endswith(".leases") or not text.strip() else [text]
        for value in (*named, *whole):
            shown = f"hash {_short_hash(value.encode('utf-8', 'surrogateescape'))}"
            yield IdentityValue("DHCP client ID", shown)
    for _path, addresses in find_static_addresses(guest):
        for address in addresses:
            yield IdentityValue("static address", address)


def is_given_to_all(address: str) -> bool:
    """Whether every network of a kind gives this address: that two guests had it says nothing."""
    try:
        return any(ip_address(address) in network for network in _SAME_EVERYWHERE)
    except ValueError:
        return False


def _short_hash(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()[:12]
