"""A finding: one place on one image where a trace is present."""

from __future__ import annotations

from dataclasses import dataclass

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
