"""The manifest of a package, and the certificate that may sign it."""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass
from pathlib import Path

from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, MissingError, UsageError
from zeroseal.messages import images as messages

_LINE = re.compile(r"^\s*(SHA-?(?:1|256|512))\s*\(\s*(.+?)\s*\)\s*=\s*([0-9a-fA-F]+)\s*$", re.M)
_PIECE_BYTES = 1 << 20
MAX_BYTES = 4 << 20


def parse_manifest(path: Path, raw: bytes) -> dict[str, tuple[str, str]]:
    """File names to (algorithm for hashlib, digest in lower case).

    Raises:
        DamagedError: it holds no line of a manifest.
    """
    lines = _LINE.findall(raw.decode("utf-8", "replace"))
    if not lines:
        raise DamagedError(messages.MANIFEST_UNREADABLE.format(path=path))
    return {
        name: (algorithm.replace("-", "").lower(), digest.lower())
        for algorithm, name, digest in lines
    }


def check_digest(path: Path, name: str, file: Store, algorithm: str, digest: str) -> None:
    """Raises DamagedError unless a file of the package has this digest."""
    hasher = hashlib.new(algorithm, usedforsecurity=False)
    for start in range(0, file.size_bytes, _PIECE_BYTES):
        hasher.update(file.read(start, min(_PIECE_BYTES, file.size_bytes - start)))
    if hasher.hexdigest() != digest:
        raise DamagedError(
            messages.DIGEST_DIFFERS_FROM_MANIFEST.format(path=path, name=name, algorithm=algorithm)
        )


@dataclass(frozen=True)
class Signer:
    """A key and its certificate, both in PEM, that sign a manifest."""

    key: bytes
    certificate: bytes

    @classmethod
    def read(cls, key: Path, certificate: Path) -> Signer:
        """Reads both from files.

        Raises:
            MissingError, UsageError: one is not there, is no such thing, or they do not belong
                together.
        """
        from cryptography import x509
        from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
        from cryptography.hazmat.primitives.serialization import load_pem_private_key

        try:
            signer = cls(key.read_bytes(), certificate.read_bytes())
        except OSError as error:
            raise MissingError(
                messages.CANNOT_READ.format(filename=error.filename, strerror=error.strerror)
            ) from error
        try:
            loaded = load_pem_private_key(signer.key, None)
            public = x509.load_pem_x509_certificate(signer.certificate).public_key()
        except (ValueError, TypeError) as error:
            raise UsageError(
                messages.KEY_OR_CERTIFICATE_UNREADABLE.format(
                    key=key, certificate=certificate, error=error
                )
            ) from error
        if not isinstance(loaded, RSAPrivateKey) or loaded.public_key() != public:
            raise UsageError(
                messages.KEY_DOES_NOT_MATCH_CERTIFICATE.format(key=key, certificate=certificate)
            )
        return signer

    def sign(self, manifest_name: str, manifest: bytes) -> bytes:
        """The content of the certificate file."""
        from cryptography.hazmat.primitives import hashes
        from cryptography.hazmat.primitives.asymmetric import padding
        from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
        from cryptography.hazmat.primitives.serialization import load_pem_private_key

        key = load_pem_private_key(self.key, None)
        assert isinstance(key, RSAPrivateKey)  # ``read`` saw to it
        signature = key.sign(manifest, padding.PKCS1v15(), hashes.SHA256())
        return f"SHA256({manifest_name})= {signature.hex()}\n".encode() + self.certificate


def check_signature(path: Path, manifest: bytes, raw: bytes) -> str:
    """Verifies a certificate file; returns the name that its certificate gives itself.

    Whether that certificate is to be trusted is not looked at.

    Raises:
        DamagedError: the signature is not one of this manifest.
    """
    from cryptography import x509
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import padding
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey

    kinds: dict[str, hashes.HashAlgorithm] = {
        "SHA1": hashes.SHA1(),  # old packages have it
        "SHA256": hashes.SHA256(),
        "SHA512": hashes.SHA512(),
    }
    line = _LINE.search(raw.decode("utf-8", "replace"))
    begin = raw.find(b"-----BEGIN CERTIFICATE")
    try:
        if line is None or begin < 0:
            raise ValueError(messages.SIGNATURE_OR_CERTIFICATE_MISSING)
        certificate = x509.load_pem_x509_certificate(raw[begin:])
        key = certificate.public_key()
        if not isinstance(key, RSAPublicKey):
            raise ValueError(messages.KEY_NOT_RSA)
        kind = kinds[line[1].replace("-", "")]
        key.verify(bytes.fromhex(line[3]), manifest, padding.PKCS1v15(), kind)
    except (ValueError, KeyError, InvalidSignature) as error:
        reason = str(error) or "it is not one of this manifest"
        raise DamagedError(messages.INVALID_SIGNATURE.format(path=path, reason=reason)) from error
    return certificate.subject.rfc4514_string()
