"""A finding: one place on one image where a trace is present."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from zeroseal.traces.changes import Change
    from zeroseal.traces.model import Trace, Treatment


@dataclass(frozen=True)
class Finding:
    """One place where a trace is.

    Attributes:
        treatment: what would be done to it.
        change: how exactly.
        files: how many files it is, 0 for what is no file.
        size_bytes: how much of it there is.
        evidence: what shows it, never the secret itself; may be empty.
    """

    trace: Trace
    treatment: Treatment
    change: Change
    files: int
    size_bytes: int
    evidence: str = ""

    @property
    def place(self) -> str:
        """The path in the guest, or the volume."""
        return self.change.place


@dataclass(frozen=True)
class TraceSummary:
    """The findings of one trace, counted."""

    trace: Trace
    findings: tuple[Finding, ...]

    @property
    def has_size(self) -> bool:
        """Whether it is files or parts of a volume, and not places of a registry only."""
        return any(item.change.has_size for item in self.findings)

    @property
    def size_bytes(self) -> int:
        """How much it is."""
        return sum(finding.size_bytes for finding in self.findings)


def by_trace(findings: tuple[Finding, ...] | list[Finding]) -> list[TraceSummary]:
    """Groups findings by trace, in their order."""
    groups: dict[str, list[Finding]] = {}
    for finding in findings:
        groups.setdefault(finding.trace.id, []).append(finding)
    return [TraceSummary(group[0].trace, tuple(group)) for group in groups.values()]
