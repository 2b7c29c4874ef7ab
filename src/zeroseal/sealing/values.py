"""The values that a seal has to make vanish, in every form they may lie on a disk.

They are held in memory only while a disk is searched, and never shown: a value is known by what it
is.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from types import MappingProxyType

from zeroseal.blocks.search import MIN_BYTES, Needle
from zeroseal.guests.guest import Guest
from zeroseal.guests.host_names import read_names
from zeroseal.guests.windows.identity import NEUTRAL_COMPUTER_NAME
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.searched_value import SearchedValue, ValueSet, text_needle, wide_needle
from zeroseal.sealing.secret_values import host_keys, removed_secrets, secret_files
from zeroseal.sealing.short_names import SHORTEST
from zeroseal.sealing.windows.values import windows_values
from zeroseal.traces.load import get_trace

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


def collect_values(inspection: Inspection, policy: Policy) -> ValueSet:
    """Reads the values of a disk that a seal with this policy removes."""
    guest = inspection.guest
    values: list[SearchedValue] = []
    skipped: list[str] = []

    def treats(trace_id: str) -> bool:
        return policy.treats(get_trace(trace_id))

    if inspection.windows:
        values += windows_values(inspection, policy)
        values += removed_secrets(inspection, policy)
        _add_windows_names(inspection, policy, values, skipped)
        values += house_values(policy).values
        return _chosen(values, skipped, policy)
    for trace_id, read in _READERS:
        if treats(trace_id):
            values += read(guest)
    values += removed_secrets(inspection, policy)
    names = dict(_names_of(inspection, policy))
    for name, label in names.items():
        if not _is_short(name):
            _add_name(label, name, values, skipped)
    if treats("people.accounts"):
        for account in inspection.context(policy).doomed:
            values += _password_hash(guest, account.name)
    if treats("people.root-password") and not policy.keeps_root_login:
        values += _password_hash(guest, "root")
    values += house_values(policy).values
    short = {name.lower(): label for name, label in names.items() if _is_short(name)}
    return _chosen(values, skipped, policy, short)


def _names_of(inspection: Inspection, policy: Policy) -> Iterator[tuple[str, str]]:
    """(name, label) of all names that the machine has had, and of accounts that go."""
    if policy.treats_id("identity.host-name"):
        present = inspection.facts.host_name
        if present not in _NEUTRAL_NAMES:
            yield present, f"host name ({present})"
        for name in read_names(inspection.guest):
            if name not in (present.lower(), present.partition(".")[0].lower()):
                yield name, f"earlier host name ({name})"
    if policy.treats_id("people.accounts"):
        for account in inspection.context(policy).doomed:
            yield account.name, f"account name {account.name}"


def _is_short(name: str) -> bool:
    """Whether a name is looked for as a word in files, not in the bytes of the disk."""
    return SHORTEST <= len(name) < MIN_BYTES and name.isascii()


def _chosen(
    values: list[SearchedValue],
    skipped: list[str],
    policy: Policy,
    short_names: Mapping[str, str] = MappingProxyType({}),
) -> ValueSet:
    """The values that can be searched, but for those that house rules leave out."""
    labels = [*(value.label for value in values), *short_names.values()]
    left_out = [label for label in labels if label in policy.values_left_out]
    told = [
        f"The {label} was not searched for: the house rules leave it out."
        for label in dict.fromkeys(left_out)
    ]
    kept = tuple(value for value in values if value.needles and value.label not in left_out)
    short = tuple(item for item in short_names.items() if item[1] not in left_out)
    return ValueSet(kept, (*skipped, *told), short)


def _add_windows_names(
    inspection: Inspection, policy: Policy, values: list[SearchedValue], skipped: list[str]
) -> None:
    name = inspection.facts.host_name
    if policy.treats_id("identity.computer-name") and name != NEUTRAL_COMPUTER_NAME:
        _add_name(f"computer name ({name})", name, values, skipped)
    if policy.treats_id("people.windows-accounts"):
        windows = inspection.context(policy).of_windows
        names = [account.name for account in windows.doomed]
        names += [
            profile.name
            for profile in windows.doomed_profiles
            if profile.has_own_folder and profile.name not in names
        ]
        for own in names:
            _add_name(f"account name {own}", own, values, skipped)


def house_values(policy: Policy) -> ValueSet:
    """The texts that house rules want to be nowhere."""
    return ValueSet(
        tuple(
            SearchedValue(
                f"text {number} of the house rules", (text_needle(text), wide_needle(text))
            )
            for number, text in enumerate(policy.texts, 1)
        ),
        (),
    )


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


def _add_name(label: str, name: str, values: list[SearchedValue], skipped: list[str]) -> None:
    if name in _NEUTRAL_NAMES:
        return
    if len(name) < MIN_BYTES or not name.isascii():
        skipped.append(f"The {label} was not searched for: it is too short, or too common a word.")
        return
    word = text_needle(name)._replace(whole_word=True)
    values.append(SearchedValue(label, (word, wide_needle(name)), is_word=True))
    part = f"{label} as a part of longer names"
    values.append(SearchedValue(part, (text_needle(name),), is_word=True, is_told=True))


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
