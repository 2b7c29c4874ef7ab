"""The values of a Linux that a seal has to make vanish, in every form they may lie on a disk."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator

from zeroseal.blocks.search import MIN_BYTES, Needle
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.host_names import read_names
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.searched_value import (
    SHORTEST,
    CollectedValues,
    SearchedValue,
    text_needle,
    wide_needle,
)
from zeroseal.sealing.secret_values import host_keys, removed_keys_of, removed_secrets, secret_files
from zeroseal.traces.linux.context import LinuxContext

_MIN_SECRET_BYTES = 16
_NETWORK_FILES = (
    "/var/lib/dhcp/*", "/var/lib/dhclient/*", "/var/lib/NetworkManager/*.lease",
    "/etc/udev/rules.d/70-persistent-net.rules", "/etc/netplan/50-cloud-init.yaml",
    "/etc/sysconfig/network-scripts/ifcfg-*", "/etc/network/interfaces.d/50-cloud-init*",
)  # fmt: skip
_MAC = re.compile(r"(?<![0-9A-Fa-f:-])((?:[0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2})(?![0-9A-Fa-f:-])")
_LEASED = re.compile(r"(?:fixed-address|ADDRESS=|address=)\s*([0-9.]{7,15})")
_INITIATOR, _LONGEST_INITIATOR = "/etc/iscsi/initiatorname.iscsi", 223  # RFC 7143, 4.2.7.2
_NEUTRAL_NAMES = ("localhost", "localhost.localdomain", "")


def collect_linux_values(
    inspection: Inspection, context: LinuxContext, policy: Policy
) -> CollectedValues:
    """Reads the values of a Linux that a seal with this policy removes."""
    guest, found = inspection.guest, CollectedValues()
    for trace_id, read in _READERS:
        if policy.treats_id(trace_id):
            found.values += read(guest)
    found.values += removed_secrets(inspection, policy)
    if not context.accounts_stay:
        for account in context.accounts_to_remove:
            found.values += removed_keys_of(guest, account.home)
    for name, label in dict(_names_of(inspection, context, policy)).items():
        if _is_short(name):
            found.short_names[name.lower()] = label
        else:
            found.add_name(label, name)
    if policy.treats_id("people.accounts"):
        for account in context.accounts_to_remove:
            found.values += _password_hash(guest, account.name)
    if policy.treats_id("people.root-password") and not policy.keeps_root_login:
        found.values += _password_hash(guest, "root")
    return found


def _names_of(
    inspection: Inspection, context: LinuxContext, policy: Policy
) -> Iterator[tuple[str, str]]:
    """(name, label) of all names that the machine has had, and of accounts that go."""
    if policy.treats_id("identity.host-name"):
        present = inspection.facts.host_name
        if present not in _NEUTRAL_NAMES:
            yield present, f"host name ({present})"
        for name in read_names(inspection.guest):
            if name not in (present.lower(), present.partition(".")[0].lower()):
                yield name, f"earlier host name ({name})"
    if policy.treats_id("people.accounts"):
        for account in context.accounts_to_remove:
            yield account.name, f"account name {account.name}"


def _is_short(name: str) -> bool:
    """Whether a name is looked for as a word in files, not in the bytes of the disk."""
    return SHORTEST <= len(name) < MIN_BYTES and name.isascii()


_SEEDS = ("/var/lib/systemd/random-seed", "/var/lib/urandom/random-seed")


def _machine_ids(guest: Guest) -> Iterator[SearchedValue]:
    seen = set()
    for path in ("/etc/machine-id", "/var/lib/dbus/machine-id"):
        text = guest.read_text(path).strip().lower()
        if not re.fullmatch(r"[0-9a-f]{32}", text) or text in seen or len(set(text)) < 4:
            continue
        seen.add(text)
        dashed = "-".join((text[:8], text[8:12], text[12:16], text[16:20], text[20:]))
        forms = [text_needle(text), text_needle(dashed), Needle(0, bytes.fromhex(text))]
        forms += [wide_needle(text), wide_needle(dashed)]
        yield SearchedValue("machine ID", tuple(forms))


def _network_values(guest: Guest) -> Iterator[SearchedValue]:
    """MACs and leased addresses, from what the network left in the guest."""
    texts = [
        guest.read_text(path)
        for pattern in _NETWORK_FILES
        for path in guest.glob(pattern)
        if guest.is_file(path)
    ]
    macs = {match.lower().replace("-", ":") for text in texts for match in _MAC.findall(text)}
    for mac in sorted(macs):
        raw = bytes.fromhex(mac.replace(":", ""))
        if len(set(raw)) < 3 or raw[0] & 1:
            continue  # all zeros, broadcast or a group: nobody's own
        spellings = (mac, mac.replace(":", "-"), mac.replace(":", ""))
        forms = [text_needle(text)._replace(whole_word=True) for text in spellings]
        # alone six bytes are too few; in a DUID-LL (RFC 8415, 11.4) the hardware type stands before
        forms += [wide_needle(mac), Needle(0, b"\0\x01" + raw)]
        yield SearchedValue(f"MAC {mac}", tuple(forms), is_word=True)
    addresses = {match for text in texts for match in _LEASED.findall(text)}
    for address in sorted(addresses):
        if len(address) >= MIN_BYTES and not address.startswith("127."):
            forms = [text_needle(address)._replace(whole_word=True), wide_needle(address)]
            yield SearchedValue(f"leased address {address}", tuple(forms), is_word=True)


def _instance_ids(guest: Guest) -> Iterator[SearchedValue]:
    for path in ("/var/lib/cloud/data/instance-id", "/var/lib/cloud/data/previous-instance-id"):
        text = guest.read_text(path).strip()
        if MIN_BYTES <= len(text) <= 128 and text.isascii() and text.isprintable():
            word = text_needle(text)._replace(whole_word=True)
            yield SearchedValue(f"instance ID in {path}", (word,), is_word=True)


def _initiator_names(guest: Guest) -> Iterator[SearchedValue]:
    """The name by which storage knows the machine; an initramfs may have it too."""
    for name in re.findall(r"(?m)^InitiatorName=(\S+)", guest.read_text(_INITIATOR)):
        if MIN_BYTES <= len(name) <= _LONGEST_INITIATOR and name.isascii():
            yield SearchedValue("name of the iSCSI initiator", (text_needle(name),), is_word=True)


def _password_hash(guest: Guest, account: str) -> Iterator[SearchedValue]:
    for path in ("/etc/shadow", "/etc/passwd"):
        for line in guest.read_text(path).splitlines():
            fields = line.split(":")
            if len(fields) > 1 and fields[0] == account and fields[1].startswith("$"):
                digest = fields[1].rpartition("$")[2]
                if len(digest) >= _MIN_SECRET_BYTES:
                    needle = Needle(0, digest.encode("utf-8", "surrogateescape"))
                    yield SearchedValue(f"password hash of {account}", (needle,))


# what a trace takes out of a guest, read by itself
_READERS: tuple[tuple[str, Callable[[Guest], Iterable[SearchedValue]]], ...] = (
    ("identity.machine-id", _machine_ids),
    ("identity.random-seed", lambda guest: secret_files(guest, "random seed", _SEEDS)),
    ("keys.ssh-host", host_keys),
    ("identity.iscsi-initiator", _initiator_names),
    ("wire.dhcp-leases", _network_values),
    ("birth.cloud-init-state", _instance_ids),
)
