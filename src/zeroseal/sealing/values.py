"""The values that a seal has to make vanish, in every form they may lie on a disk.

They are held in memory only while a disk is searched, and never shown: a value is known by what it
is.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.blocks.search import MIN_BYTES, Needle
from zeroseal.guests.guest import Guest
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.house_rules import HouseRules
from zeroseal.sealing.subject import Subject
from zeroseal.traces.load import get_trace

_MIN_SECRET_BYTES = 16
_PART_BYTES = 24
_MAX_FILE_BYTES = 64 << 10
_NETWORK_FILES = (
    "/var/lib/dhcp/*", "/var/lib/dhclient/*", "/var/lib/NetworkManager/*.lease",
    "/etc/udev/rules.d/70-persistent-net.rules", "/etc/netplan/50-cloud-init.yaml",
    "/etc/sysconfig/network-scripts/ifcfg-*", "/etc/network/interfaces.d/50-cloud-init*",
)  # fmt: skip
_MAC = re.compile(r"(?<![0-9A-Fa-f:-])((?:[0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2})(?![0-9A-Fa-f:-])")
_LEASED = re.compile(r"(?:fixed-address|ADDRESS=|address=)\s*([0-9.]{7,15})")
_NEUTRAL_NAMES = ("localhost", "localhost.localdomain", "")


@dataclass(frozen=True)
class SearchedValue:
    """One value; ``label`` says what it is, never what it says.

    ``is_word`` says that others may have chosen the same: it may stand in what packages brought.
    """

    label: str
    needles: tuple[Needle, ...]
    is_word: bool = False


@dataclass(frozen=True)
class ValueSet:
    """What can be searched of a machine.

    Attributes:
        not_searched: values that cannot be, each with the reason, sentences.
    """

    values: tuple[SearchedValue, ...]
    not_searched: tuple[str, ...]

    @property
    def needles(self) -> list[Needle]:
        """All forms of all values; each names its value by its place in ``values``."""
        return [
            needle._replace(value_no=number)
            for number, value in enumerate(self.values)
            for needle in value.needles
        ]


def collect_values(subject: Subject, choices: SealChoices) -> ValueSet:
    """Reads the values of a disk that a seal with these choices removes."""
    guest = subject.opened.guest
    values: list[SearchedValue] = []
    skipped: list[str] = []

    def treats(trace_id: str) -> bool:
        return choices.treats(get_trace(trace_id))

    if treats("identity.machine-id"):
        values += _machine_ids(guest)
    if treats("identity.random-seed"):
        values += _secret_files(guest, "random seed", _SEEDS)
    if treats("keys.ssh-host"):
        values += _host_keys(guest)
    if treats("identity.host-name"):
        _add_name(
            f"host name ({subject.facts.host_name})", subject.facts.host_name, values, skipped
        )
    if treats("people.accounts"):
        for account in subject.context(choices).doomed:
            _add_name(f"account name {account.name}", account.name, values, skipped)
            values += _password_hash(guest, account.name)
    if treats("wire.dhcp-leases"):
        values += _network_values(guest)
    if treats("birth.cloud-init-state"):
        values += _instance_ids(guest)
    if treats("people.root-password") and not choices.keeps_root:
        values += _password_hash(guest, "root")
    values += house_values(choices.rules).values
    return ValueSet(tuple(value for value in values if value.needles), tuple(skipped))


def house_values(rules: HouseRules) -> ValueSet:
    """The texts that house rules want to be nowhere."""
    return ValueSet(
        tuple(
            SearchedValue(f"text {number} of the house rules", (_text(text), _wide(text)))
            for number, text in enumerate(rules.texts, 1)
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
        forms = [_text(text), _text(dashed), Needle(0, bytes.fromhex(text))]
        forms += [_wide(text), _wide(dashed)]
        yield SearchedValue("machine ID", tuple(forms))


def _add_name(label: str, name: str, values: list[SearchedValue], skipped: list[str]) -> None:
    if name in _NEUTRAL_NAMES:
        return
    if len(name) < MIN_BYTES or not name.isascii():
        skipped.append(f"The {label} was not searched for: it is too short, or too common a word.")
        return
    word = _text(name)._replace(whole_word=True)
    values.append(SearchedValue(label, (word, _wide(name)), is_word=True))


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
        forms = [_text(text)._replace(whole_word=True) for text in spellings]
        # alone six bytes are too few; in a DUID-LL (RFC 8415, 11.4) the hardware type stands before
        forms += [_wide(mac), Needle(0, b"\0\x01" + raw)]
        yield SearchedValue(f"MAC {mac}", tuple(forms), is_word=True)
    addresses = {match for text in texts for match in _LEASED.findall(text)}
    for address in sorted(addresses):
        if len(address) >= MIN_BYTES and not address.startswith("127."):
            forms = [_text(address)._replace(whole_word=True), _wide(address)]
            yield SearchedValue(f"leased address {address}", tuple(forms), is_word=True)


def _instance_ids(guest: Guest) -> Iterator[SearchedValue]:
    for path in ("/var/lib/cloud/data/instance-id", "/var/lib/cloud/data/previous-instance-id"):
        text = guest.read_text(path).strip()
        if MIN_BYTES <= len(text) <= 128 and text.isascii() and text.isprintable():
            word = _text(text)._replace(whole_word=True)
            yield SearchedValue(f"instance ID in {path}", (word,), is_word=True)


def _password_hash(guest: Guest, account: str) -> Iterator[SearchedValue]:
    for path in ("/etc/shadow", "/etc/passwd"):
        for line in guest.read_text(path).splitlines():
            fields = line.split(":")
            if len(fields) > 1 and fields[0] == account and fields[1].startswith("$"):
                digest = fields[1].rpartition("$")[2]
                if len(digest) >= _MIN_SECRET_BYTES:
                    needle = Needle(0, digest.encode("utf-8", "surrogateescape"))
                    yield SearchedValue(f"password hash of {account}", (needle,))


def _host_keys(guest: Guest) -> Iterator[SearchedValue]:
    for path in guest.glob("/etc/ssh/ssh_host_*key"):
        if not guest.is_file(path):
            continue
        text = guest.read_text(path)
        body = "".join(line for line in text.splitlines() if line and not line.startswith("-"))
        raw = _decoded(body)
        if len(raw) >= 4 * _MIN_SECRET_BYTES:
            # the key's own numbers lie behind the middle of the file in all its forms
            parts = [_secret_forms(raw, len(raw) * share // 16) for share in (8, 10, 12, 13)]
            yield SearchedValue(
                f"private key {path}", tuple(form for part in parts for form in part)
            )
    for path in guest.glob("/etc/ssh/ssh_host_*key.pub"):
        fields = guest.read_text(path).split()
        raw = _decoded(fields[1]) if len(fields) > 1 else b""
        if len(raw) >= 2 * _MIN_SECRET_BYTES:
            yield SearchedValue(f"public key {path}", tuple(_secret_forms(raw, len(raw) * 5 // 8)))


def _secret_files(guest: Guest, label: str, paths: tuple[str, ...]) -> Iterator[SearchedValue]:
    for path in paths:
        if guest.is_file(path):
            raw = guest.read_file(path)[:_MAX_FILE_BYTES]
            if len(raw) >= 2 * _MIN_SECRET_BYTES and len(set(raw)) > 8:
                yield SearchedValue(f"{label} {path}", tuple(_secret_forms(raw, len(raw) // 2)))


def _decoded(text: str) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except ValueError:
        return b""


def _secret_forms(raw: bytes, place: int) -> Iterator[Needle]:
    """A part of a secret as bytes, and in base64 as it may fall against the three phases."""
    part = raw[place : place + _PART_BYTES]
    if len(part) < _MIN_SECRET_BYTES or len(set(part)) < 8:
        return
    yield Needle(0, part)
    for phase in range(3):
        encoded = base64.b64encode(bytes(phase) + part)
        first = -(-phase * 8 // 6)  # signs that the bytes before have a share in
        last = (phase + len(part)) * 8 // 6
        yield Needle(0, encoded[first:last])


def _text(value: str) -> Needle:
    return Needle(0, value.lower().encode(), caseless=True)


def _wide(value: str) -> Needle:
    return Needle(0, value.lower().encode("utf-16-le"), caseless=True)
