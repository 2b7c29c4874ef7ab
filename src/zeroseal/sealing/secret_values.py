"""The secrets of a machine as values to search for: parts of keys, as bytes and in base64.

A part is 24 bytes from the second half of a secret, where keys have what is theirs alone. It is
searched for as it is and in base64 at all three phases, so that it is found in other files too.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Iterable, Iterator

from zeroseal.blocks.search import Needle
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.host_key_files import iter_host_keys
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.searched_value import SearchedValue, base64_needles
from zeroseal.traces.changes import Change, EditKeys, EmptyFile, RemovePath
from zeroseal.traces.finder import FindContext
from zeroseal.traces.finders import find_trace
from zeroseal.traces.key_edits import edited_values

_MIN_SECRET_BYTES = 16
_PART_BYTES = 24
_LONGEST_PASSWORD = 512
_MAX_FILE_BYTES = 64 << 10
_SHARES = (8, 10, 12, 13)  # sixteenths of a key: its own numbers lie behind the middle
_PEM = re.compile(rb"-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----(.*?)-----END", re.DOTALL)
_CERTIFICATE = re.compile(rb"-----BEGIN CERTIFICATE-----(.*?)-----END", re.DOTALL)
_SIGNATURE_SHARES = (13, 14, 15)  # what a certificate has alone stands at its end
_TOKEN = re.compile(rb"(?<![A-Za-z0-9+/=])[A-Za-z0-9+/]{43,}={0,2}(?![A-Za-z0-9+/=])")
_KEY_KIND = re.compile(rb"[a-z0-9@.-]{6}")  # ecdsa-sha2-nistp256: in every such key
_NOT_SECRET = re.compile(r"(\.pub|/authorized_keys2?|/known_hosts(\.old)?|/config)$")


def removed_secrets(inspection: Inspection, policy: Policy) -> Iterator[SearchedValue]:
    """Keys that a seal removes besides the SSH host keys: of services, people and the site."""
    guest, context = inspection.guest, inspection.context(policy)
    paths: dict[str, None] = {}
    passwords: dict[str, str] = {}  # what an edit takes out of a file, and the file
    for change in _changes_of_secrets(inspection, context, policy):
        if isinstance(change, RemovePath | EmptyFile):
            paths[change.path] = None
        elif isinstance(change, EditKeys):
            values = edited_values(guest.read_text(change.path), change.edit)
            passwords |= dict.fromkeys(values, change.path)
    yield from _of_files(guest, paths)
    for value, path in passwords.items():
        if _MIN_SECRET_BYTES <= len(value) <= _LONGEST_PASSWORD and value.isascii():
            yield SearchedValue(f"secret of {path}", (Needle(0, value.encode()),), is_word=True)


def removed_keys_of(guest: Guest, home: str) -> Iterator[SearchedValue]:
    """The secrets in the folder for keys of a home that is removed."""
    return _of_files(guest, guest.glob(f"{home}/.ssh/*"))


def _of_files(guest: Guest, paths: Iterable[str]) -> Iterator[SearchedValue]:
    for path in paths:
        if not _NOT_SECRET.search(path) and guest.is_file(path):
            forms = tuple(_forms_of_file(guest.read_file(path, _MAX_FILE_BYTES)))
            if forms:
                yield SearchedValue(f"secret of {path}", forms, is_word=True)


def _changes_of_secrets(
    inspection: Inspection, context: FindContext, policy: Policy
) -> Iterator[Change]:
    """What is done to places of traces that are secrets."""
    for trace in policy.catalogue:
        is_secret = trace.family == "keys" or trace.id == "people.ssh-keys"
        is_other = trace.id in ("keys.ssh-host", "keys.windows-ssh-host")
        is_other = is_other or trace.guest not in ("any", inspection.facts.family)
        if is_secret and not is_other and policy.treats(trace):
            yield from (finding.change for finding in find_trace(trace, context, set()))


def _forms_of_file(raw: bytes) -> Iterator[Needle]:
    """Forms of the keys in a text, or of a file that is no text."""
    bodies = [
        b"".join(word for word in match.split() if not word.endswith(b":") and b"," not in word)
        for match in _PEM.findall(raw)
    ]
    bodies += _TOKEN.findall(_CERTIFICATE.sub(b"", _PEM.sub(b"", raw)))
    for body in _CERTIFICATE.findall(raw):
        certificate = _decoded(b"".join(body.split()).decode("ascii", "replace"))
        for share in _SIGNATURE_SHARES:
            yield from secret_forms(certificate, len(certificate) * share // 16)
    for body in bodies:
        secret = _decoded(body.decode("ascii", "replace"))
        for share in _SHARES:
            yield from secret_forms(secret, max(0, len(secret) * share // 16 - _PART_BYTES // 2))
    if not bodies and b"\0" in raw:
        yield from secret_forms(raw, len(raw) // 2)


def host_keys(guest: Guest) -> Iterator[SearchedValue]:
    """The SSH host keys, private and public."""
    for path in iter_host_keys(guest):
        if guest.is_file(path):
            yield from _private_key(guest, path)
    yield from _public_keys(guest, "/etc/ssh/ssh_host_*key.pub")


def host_key_values(guest: Guest, pattern: str) -> Iterator[SearchedValue]:
    """The SSH host keys whose private files a pattern matches."""
    for path in guest.glob(pattern):
        yield from _private_key(guest, path)
    yield from _public_keys(guest, f"{pattern}.pub")


def _private_key(guest: Guest, path: str) -> Iterator[SearchedValue]:
    text = guest.read_text(path)
    body = "".join(line for line in text.splitlines() if line and not line.startswith("-"))
    raw = _decoded(body)
    if len(raw) >= 4 * _MIN_SECRET_BYTES:
        # the key's own numbers lie behind the middle of the file in all its forms
        parts = [secret_forms(raw, len(raw) * share // 16) for share in _SHARES]
        yield SearchedValue(f"private key {path}", tuple(form for part in parts for form in part))


def _public_keys(guest: Guest, pattern: str) -> Iterator[SearchedValue]:
    for path in guest.glob(pattern):
        fields = guest.read_text(path).split()
        raw = _decoded(fields[1]) if len(fields) > 1 else b""
        if len(raw) >= 2 * _MIN_SECRET_BYTES:
            yield SearchedValue(f"public key {path}", tuple(secret_forms(raw, len(raw) * 5 // 8)))


def secret_files(guest: Guest, label: str, paths: tuple[str, ...]) -> Iterator[SearchedValue]:
    """Files that are random from end to end."""
    for path in paths:
        if guest.is_file(path):
            raw = guest.read_file(path)[:_MAX_FILE_BYTES]
            if len(raw) >= 2 * _MIN_SECRET_BYTES and len(set(raw)) > 8:
                yield SearchedValue(f"{label} {path}", tuple(secret_forms(raw, len(raw) // 2)))


def _decoded(text: str) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except ValueError:
        return b""


def secret_forms(raw: bytes, place: int) -> Iterator[Needle]:
    """A part of a secret as bytes, and in base64 as it may fall against the three phases."""
    part = raw[place : place + _PART_BYTES]
    if len(part) < _MIN_SECRET_BYTES or len(set(part)) < 8 or _KEY_KIND.search(part):
        return
    yield Needle(0, part)
    yield from base64_needles(part)
