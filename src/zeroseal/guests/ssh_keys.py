"""Public SSH keys as they lie in a guest (sshd(8), AUTHORIZED_KEYS FILE FORMAT)."""

from __future__ import annotations

import base64
import hashlib


def fingerprint(public_line: str) -> str:
    """The SHA-256 fingerprint of a public key's line, as ssh-keygen shows it; empty for no key."""
    fields = public_line.split()
    try:
        blob = base64.b64decode(fields[1], validate=True)
    except (IndexError, ValueError):
        return ""
    return "SHA256:" + base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=")
