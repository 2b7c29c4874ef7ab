"""Is this folder or archive sealed?"""

from __future__ import annotations

from pathlib import Path

from zeroseal.errors import DamagedError
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.check import CheckResult, Level, Verdict
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy
from zeroseal.sealing.record import find_record
from zeroseal.sealing.tree_image import digest_file, inspected_tree


def check_tree(
    path: Path, progress: Progress = quiet, policy: Policy = DEFAULT_POLICY
) -> CheckResult:
    """Checks a folder or a tar archive; nothing is written.

    Raises:
        ImageError: it cannot be read.
    """
    try:
        record = find_record(path) if path.is_file() else None
    except DamagedError as error:
        return CheckResult(
            path, Verdict.UNKNOWN, Level.FULL, error.message, error=error, is_tree=True
        )
    if record and digest_file(path, progress).root != record.root:
        reason = "the archive was changed after it was sealed"
        return CheckResult(
            path, Verdict.BROKEN_SEAL, Level.FULL, reason, record=record, is_tree=True
        )
    skipped = record.skipped if record else ()
    with inspected_tree(path) as inspection:
        settled = inspection.fit_policy(policy)
        if record:
            settled = policy.as_sealed(record.retained_accounts, record.keep_root_login)
        found = inspection.find_all(settled, progress)
        findings = tuple(item for item in found if item.trace.id not in skipped)
    if findings:
        traces = len({item.trace.id for item in findings})
        reason = f"{len(findings)} findings of {traces} traces are in it"
        return CheckResult(
            path=path,
            verdict=Verdict.UNSEALED,
            level=Level.FULL,
            reason=reason,
            findings=findings,
            record=record,
            is_tree=True,
        )
    if record is None:
        reason = "no trace was found, but there is no seal record to compare it with"
        return CheckResult(path, Verdict.CLEAN, Level.FULL, reason, is_tree=True)
    if not record.is_complete:
        reason = f"it was sealed in part only: {', '.join(skipped)} were left on purpose"
        return CheckResult(
            path=path,
            verdict=Verdict.UNSEALED,
            level=Level.FULL,
            reason=reason,
            findings=(),
            record=record,
            skipped=skipped,
            is_tree=True,
        )
    reason = "no trace was found, and the archive is byte for byte what the seal record describes"
    return CheckResult(
        path, Verdict.SEALED, Level.FULL, reason, record=record, skipped=skipped, is_tree=True
    )
