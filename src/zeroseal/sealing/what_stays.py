"""What a seal leaves and an administrator may not want on every clone: told, never shown.

Files that nobody's package owns and that look like identity, secrets in known places or by their
look, and what lies beneath a mount point. Paths and kinds only: no content is kept.
"""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.sizes import size_text
from zeroseal.messages import sealing as messages
from zeroseal.sentences import counted, listed, some_of

SECRET_KINDS = {
    "private-keys": "private keys",
    "kept-tokens": "tokens",
    "url-passwords": "passwords in addresses",
    "setting-passwords": "passwords in settings",
    "mail-passwords": "passwords of a mail relay",
    "line-passwords": "passwords of a dial-up or tunnel line",
    "source-passwords": "passwords of package sources",
    "service-passwords": "passwords of services",
    "cloud-credentials": "credentials of cloud and container tools",
    "skeleton-secrets": "secrets in the skeleton folder",
    "job-secrets": "secrets in the lines of jobs and units",
    "kept-archives": "copies of settings, homes or databases",
}
"""Kinds of secrets that stay, which are codes of remarks too: code to what they are."""


@dataclass(frozen=True)
class UnclaimedFile:
    """A file that no package owns, that stays, and that looks as if it identified the machine.

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


@dataclass(frozen=True)
class StayingSecret:
    """A file with a secret that stays.

    Attributes:
        kind: one of ``SECRET_KINDS``.
        reason: why it is taken for one, in words; never its content.
    """

    path: str
    kind: str
    reason: str

    @property
    def rule(self) -> str:
        """The house rule that leaves it."""
        return f'allow.secrets = ["{self.path}"]'


@dataclass(frozen=True)
class CoveredFiles:
    """Files beneath a mount point, where the running guest does not see them.

    Attributes:
        mount_point: what covers them.
        paths: of the first of them; ``count`` of all, with their size.
        suspects: those that look like identity or a secret.
    """

    mount_point: str
    volume: str
    paths: tuple[str, ...]
    count: int
    size_bytes: int
    suspects: tuple[str, ...] = ()

    @property
    def sentence(self) -> str:
        """What to know of them."""
        count, size = counted(self.count, "file"), size_text(self.size_bytes)
        if self.suspects:
            return messages.COVERED_SUSPECTS.format(
                count=count,
                size=size,
                volume=self.volume,
                point=self.mount_point,
                suspects=some_of(self.suspects),
            )
        return messages.COVERED_FILES.format(
            count=count,
            size=size,
            volume=self.volume,
            point=self.mount_point,
            paths=some_of(self.paths),
        )


@dataclass(frozen=True)
class WhatStays:
    """What was found of all that.

    Attributes:
        is_known: whether it was looked for; of a Windows it is not.
        knows_owners: whether a package database says whose files are; without one no file can be
            called unclaimed.
        unclaimed: the most suspicious first.
        secrets: by path.
    """

    is_known: bool = False
    knows_owners: bool = False
    unclaimed: tuple[UnclaimedFile, ...] = ()
    secrets: tuple[StayingSecret, ...] = ()
    covered: tuple[CoveredFiles, ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether nothing is there to be told."""
        return not (self.unclaimed or self.secrets or self.covered)

    @property
    def counts(self) -> str:
        """How much stays, in words."""
        parts = [
            counted(len(self.unclaimed), "unclaimed file") if self.unclaimed else "",
            counted(len(self.secrets), "file") + " with secrets" if self.secrets else "",
            counted(sum(one.count for one in self.covered), "file") + " beneath mount points"
            if self.covered
            else "",
        ]
        return listed([part for part in parts if part])


NOTHING_LOOKED_FOR = WhatStays()
