"""The keys that sign seal records, and those that are trusted (Ed25519).

Source: OpenSSH PROTOCOL.key and RFC 8410 for key files; ``envelope.py`` for what is signed. A key
is known by the SHA-256 fingerprint of its OpenSSH public key, as ``ssh-keygen -l`` shows it.
"""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from zeroseal.errors import MissingError, UsageError
from zeroseal.guests.ssh_keys import fingerprint
from zeroseal.messages import sealing as messages
from zeroseal.sealing.envelope import PAYLOAD_TYPE, Envelope, encode_for_signing

_MOST_KEY_BYTES = 64 << 10

AskPassphrase = Callable[[], bytes]


@dataclass(frozen=True)
class RecordSigner:
    """Whoever signs a record; the representation shows no key."""

    key: Ed25519PrivateKey
    key_id: str

    def __repr__(self) -> str:
        return f"RecordSigner({self.key_id})"

    def envelope(self, statement: bytes) -> bytes:
        """The signed statement as the text of an envelope."""
        signature = self.key.sign(encode_for_signing(statement))
        envelope = {
            "payloadType": PAYLOAD_TYPE,
            "payload": base64.b64encode(statement).decode(),
            "signatures": [{"keyid": self.key_id, "sig": base64.b64encode(signature).decode()}],
        }
        return json.dumps(envelope, indent=2).encode() + b"\n"


@dataclass(frozen=True)
class TrustedKey:
    """A public key whose owner is trusted; ``name`` is what its file calls it."""

    key: Ed25519PublicKey
    key_id: str
    name: str


def find_signer(envelope: Envelope, trusted: tuple[TrustedKey, ...]) -> TrustedKey | None:
    """The trusted key that signed a statement; None where none did."""
    signed = encode_for_signing(envelope.statement)
    for key in trusted:
        for _key_id, signature in envelope.signatures:
            try:
                key.key.verify(signature, signed)
            except InvalidSignature:
                continue
            return key
    return None


def read_signer(path: Path, ask_passphrase: AskPassphrase) -> RecordSigner:
    """Reads a private Ed25519 key in OpenSSH's or in PEM form.

    Args:
        path: the key file.
        ask_passphrase: asked once where the key is protected.

    Raises:
        MissingError: there is no such file.
        UsageError: it is no such key, or the passphrase is wrong.
    """
    raw = _read_key_file(path)
    key = _load_private(raw, None, path)
    if key is None:
        key = _load_private(raw, ask_passphrase(), path)
    if key is None:
        raise UsageError(messages.PASSPHRASE_DOES_NOT_OPEN_KEY.format(path=path))
    if not isinstance(key, Ed25519PrivateKey):
        raise UsageError(messages.NOT_ED25519_KEY.format(path=path, name=path.name))
    return RecordSigner(key, _id_of(key.public_key()))


def read_trusted(paths: list[Path]) -> tuple[TrustedKey, ...]:
    """Reads public Ed25519 keys: OpenSSH's lines (one or more a file), or PEM.

    Raises:
        MissingError: a file is not there.
        UsageError: a file holds no such key.
    """
    found: list[TrustedKey] = []
    for path in paths:
        raw = _read_key_file(path)
        keys = [_load_public(line, path) for line in _public_lines(raw)]
        if not any(keys):
            raise UsageError(messages.NOT_PUBLIC_ED25519_KEY.format(path=path))
        found += [key for key in keys if key]
    return tuple(found)


def _read_key_file(path: Path) -> bytes:
    try:
        with path.open("rb") as file:
            return file.read(_MOST_KEY_BYTES)
    except OSError as error:
        raise MissingError(
            messages.KEY_CANNOT_BE_READ.format(path=path, strerror=error.strerror)
        ) from error


def _load_private(raw: bytes, passphrase: bytes | None, path: Path) -> object | None:
    """The key; None where it needs a passphrase, or another one."""
    load = serialization.load_pem_private_key
    if b"OPENSSH PRIVATE KEY" in raw:
        load = serialization.load_ssh_private_key
    try:
        return load(raw, passphrase)
    except TypeError:
        return None
    except (ValueError, UnsupportedAlgorithm, binascii.Error) as error:
        text = str(error).lower()
        if "password" in text or "passphrase" in text or "decrypt" in text or passphrase:
            return None
        raise UsageError(
            messages.NOT_READABLE_PRIVATE_KEY.format(path=path, error=error)
        ) from error


def _public_lines(raw: bytes) -> list[bytes]:
    if b"BEGIN PUBLIC KEY" in raw:
        return [raw]
    return [line for line in raw.splitlines() if line.strip() and not line.startswith(b"#")]


def _load_public(raw: bytes, path: Path) -> TrustedKey | None:
    try:
        if b"BEGIN PUBLIC KEY" in raw:
            key, name = serialization.load_pem_public_key(raw), path.name
        else:
            words = raw.split()
            place = words.index(b"ssh-ed25519")
            key = serialization.load_ssh_public_key(b" ".join(words[place : place + 2]))
            name = b" ".join(words[place + 2 :]).decode("utf-8", "replace") or path.name
    except (ValueError, UnsupportedAlgorithm, IndexError):
        return None
    if not isinstance(key, Ed25519PublicKey):
        return None
    return TrustedKey(key, _id_of(key), name)


def _id_of(key: Ed25519PublicKey) -> str:
    form = serialization.PublicFormat.OpenSSH
    return fingerprint(key.public_bytes(serialization.Encoding.OpenSSH, form).decode())
