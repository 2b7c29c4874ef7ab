"""The envelope of a signed seal record, as text and as value; nothing is verified here.

Sources: DSSE protocol and envelope, version 1 (secure-systems-lab/dsse); in-toto attestation
framework, envelope layer.
"""

from __future__ import annotations

import base64
from dataclasses import dataclass
from typing import Any

from zeroseal.messages import sealing as messages

PAYLOAD_TYPE = "application/vnd.in-toto+json"
_MOST_SIGNATURES = 16


@dataclass(frozen=True)
class Envelope:
    """A signed statement that was read; ``signatures`` are (key id, signature) pairs."""

    statement: bytes
    signatures: tuple[tuple[str, bytes], ...]

    @property
    def key_ids(self) -> tuple[str, ...]:
        """What the signatures say of their keys."""
        return tuple(key_id for key_id, _signature in self.signatures)


def encode_for_signing(statement: bytes) -> bytes:
    """What is signed: DSSE's pre-authentication encoding of payload type and payload."""
    kind = PAYLOAD_TYPE.encode()
    return b"DSSEv1 %d %s %d %s" % (len(kind), kind, len(statement), statement)


def parse_envelope(value: dict[str, Any]) -> Envelope | None:
    """An envelope from its JSON; None where it is none.

    Raises:
        ValueError, KeyError, TypeError: it is a damaged one, or holds something else.
    """
    if "payload" not in value:
        return None
    if value["payloadType"] != PAYLOAD_TYPE:
        raise ValueError(messages.ENVELOPE_TYPE_WRONG.format(kind=value["payloadType"]))
    if len(value["signatures"]) > _MOST_SIGNATURES:
        raise ValueError(messages.ENVELOPE_TOO_MANY_SIGNATURES)
    return Envelope(
        statement=base64.b64decode(value["payload"], validate=True),
        signatures=tuple(
            (str(item.get("keyid", "")), base64.b64decode(item["sig"], validate=True))
            for item in value["signatures"]
        ),
    )
