"""Whether an encrypted volume is opened by the TPM of one machine; nothing else of it is read.

Source: LUKS2 On-Disk Format Specification 1.1, 2.1 and 3.1 (binary header, tokens); libbde,
*BitLocker Drive Encryption (BDE) format*, 4 and 5 (block header, entries, volume master keys).
"""

from __future__ import annotations

import json
import struct
from collections.abc import Iterator

from zeroseal.blocks.store import Store

_LUKS2, _JSON_AT = 2, 4096
_MOST_JSON_BYTES = 4 << 20
_TPM_TOKENS = ("systemd-tpm2", "clevis-tpm2")
_FVE = b"-FVE-FS-"
_BLOCK_AT, _BLOCK_HEADER_BYTES, _METADATA_HEADER_BYTES = 0xB0, 64, 48
_MOST_METADATA_BYTES = 1 << 20
_KEY_ENTRY, _KEY_VALUE = 2, 8
_TPM_PROTECTION = 0x0100  # alone, or with the bits of a PIN or a startup key


def is_bound_to_tpm(store: Store, kind: str) -> bool:
    """Whether a volume of kind ``luks`` or ``bitlocker`` has a key that only a TPM gives."""
    return _luks_is_bound(store) if kind == "luks" else _bitlocker_is_bound(store)


def _luks_is_bound(store: Store) -> bool:
    head = store.read(0, min(512, store.size_bytes))
    if len(head) < 16 or int.from_bytes(head[6:8], "big") != _LUKS2:
        return False
    end = min(int.from_bytes(head[8:16], "big"), _JSON_AT + _MOST_JSON_BYTES, store.size_bytes)
    if end <= _JSON_AT:
        return False
    try:
        text = store.read(_JSON_AT, end - _JSON_AT).split(b"\0", 1)[0]
        tokens = json.loads(text).get("tokens", {}).values()
        return any(_needs_tpm(token) for token in tokens)
    except (ValueError, AttributeError, RecursionError):
        return False


def _needs_tpm(token: dict[str, object]) -> bool:
    if token.get("type") in _TPM_TOKENS:
        return True
    # clevis keeps what it needs in the header of its encrypted text, which names the pin
    return token.get("type") == "clevis" and "tpm2" in json.dumps(token)


def _bitlocker_is_bound(store: Store) -> bool:
    if store.size_bytes < 512:
        return False
    place = int.from_bytes(store.read(_BLOCK_AT, 8), "little")
    start = place + _BLOCK_HEADER_BYTES
    if not 0 < place < store.size_bytes - _BLOCK_HEADER_BYTES - _METADATA_HEADER_BYTES:
        return False
    if store.read(place, len(_FVE)) != _FVE:
        return False
    (size,) = struct.unpack("<I", store.read(start, 4))
    size = min(size, _MOST_METADATA_BYTES, store.size_bytes - start)
    raw = store.read(start, size)
    return any(
        entry == _KEY_ENTRY and value == _KEY_VALUE and _protection(content) & _TPM_PROTECTION
        for entry, value, content in _iter_entries(raw[_METADATA_HEADER_BYTES:])
    )


def _iter_entries(raw: bytes) -> Iterator[tuple[int, int, bytes]]:
    at = 0
    while at + 8 <= len(raw):
        size, entry, value = struct.unpack_from("<HHH", raw, at)
        if size < 8:
            return
        yield entry, value, raw[at + 8 : at + size]
        at += size


def _protection(key: bytes) -> int:
    """Of a volume master key: identifier, time, two unknown bytes, then this."""
    return int.from_bytes(key[26:28], "little")
