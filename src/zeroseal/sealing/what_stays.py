"""A file that no package owns, that stays, and that looks as if it identified the machine."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class UnclaimedFile:
    """A file that is suspected.

    Attributes:
        reasons: why, in words; never its content.
        score: how much speaks for it.
    """

    path: str
    size_bytes: int
    reasons: tuple[str, ...]
    score: int

    @property
    def rule(self) -> str:
        """The house rule that leaves it, after a look at it."""
        return f'allow.unclaimed = ["{self.path}"]'
