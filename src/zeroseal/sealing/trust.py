"""Who vouches for a seal record, and whether that is somebody who is trusted."""

from __future__ import annotations

from dataclasses import replace

from zeroseal.sealing.check import CheckResult
from zeroseal.sealing.signing import TrustedKey, find_signer
from zeroseal.sealing.verdict import Verdict

_GOOD = (Verdict.SEALED, Verdict.CLEAN, Verdict.UNSEALED)


def require_signature(result: CheckResult, trusted: tuple[TrustedKey, ...]) -> CheckResult:
    """The result of a check where a record counts only if a trusted key signed it.

    A missing record, one without a signature, one that a stranger signed and one whose signature
    does not hold are told apart; a broken seal stays what it is.
    """
    if result.verdict not in _GOOD:
        return result
    record = result.record
    if record is None:
        reason = "it has no seal record, so its seal cannot be verified"
        return replace(result, verdict=Verdict.UNKNOWN, reason=reason)
    if record.envelope is None:
        reason = "its seal record is not signed"
        return replace(result, verdict=Verdict.UNKNOWN, reason=reason)
    signer = find_signer(record.envelope, trusted)
    if signer:
        return replace(result, signer=f"{signer.name} ({signer.key_id})")
    named = set(record.envelope.key_ids)
    claimed = next((key for key in trusted if key.key_id in named), None)
    if claimed:
        reason = (
            f"the signature of {claimed.name} on its seal record is invalid: the "
            "record was changed after it was signed"
        )
        return replace(result, verdict=Verdict.BROKEN_SEAL, reason=reason)
    shown = ", ".join(key_id for key_id in record.envelope.key_ids if key_id) or "a key without id"
    reason = f"its seal record is signed by {shown}, which is not a trusted key"
    return replace(result, verdict=Verdict.UNKNOWN, reason=reason)
