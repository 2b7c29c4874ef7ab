"""Certificates in the registry of a Windows guest: lists of properties, one the certificate.

Source: [MS-GPEF] 2.2.1.2, serialized certificates: u32 property, u32 reserved, u32 length, data.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from zeroseal.guests.registry.paths import Registry

_STORES = "SOFTWARE\\Microsoft\\SystemCertificates"
_CERTIFICATE, _HEAD = 0x20, 12


@dataclass(frozen=True)
class StoredCertificate:
    """A certificate of a store: whose it is, and the last day on which it is valid."""

    store: str
    subject: str
    ends: str


def iter_certificates(registry: Registry, stores: Iterable[str]) -> Iterator[StoredCertificate]:
    """Yields the certificates of some stores of the machine; what cannot be read is left out."""
    for store in stores:
        for _found, value in registry.values(f"{_STORES}\\{store}\\Certificates\\*", "Blob"):
            read = _read(store, value.data)
            if read:
                yield read


def encoded_certificate(blob: bytes) -> bytes:
    """The certificate (DER) in a list of properties; empty where there is none."""
    at = 0
    while at + _HEAD <= len(blob):
        kind = int.from_bytes(blob[at : at + 4], "little")
        length = int.from_bytes(blob[at + 8 : at + 12], "little")
        if kind == _CERTIFICATE:
            return blob[at + _HEAD : at + _HEAD + length]
        at += _HEAD + length
    return b""


def _read(store: str, blob: bytes) -> StoredCertificate | None:
    encoded = encoded_certificate(blob)
    if not encoded:
        return None
    from cryptography import x509

    try:
        certificate = x509.load_der_x509_certificate(encoded)
        subject = certificate.subject.rfc4514_string()
    except ValueError:
        return None
    return StoredCertificate(store, subject, certificate.not_valid_after_utc.strftime("%Y-%m-%d"))
