"""Every error this project raises on purpose, by whose fault it is.

One root, one branch a cause. Each class has a stable ``code`` (scripts may rely on it) and the exit
status of the command that ends with it. A message is one sentence: what, where, and the way out.
Anything else that is raised is a bug of ours and stays a plain exception.
"""

from __future__ import annotations

import errno
from pathlib import Path
from typing import ClassVar

from zeroseal.messages import general as messages

Fact = str | int | None


class ZeroSealError(Exception):
    """Root of all errors raised on purpose.

    Attributes:
        message: one sentence for the administrator.
        facts: structured details (format, structure, offset, expected, got), for ``--json``.
    """

    code: ClassVar[str] = "error"
    exit_status: ClassVar[int] = 5

    def __init__(self, message: str, **facts: Fact) -> None:
        super().__init__(message)
        self.message = message
        self.facts = facts


class UsageError(ZeroSealError):
    """The command's words do not make sense (unknown trace, options that do not go together)."""

    code = "usage"
    exit_status = 2


class ImageError(ZeroSealError):
    """The image cannot be read; the branches below say why."""

    code = "image"
    exit_status = 3


class MissingError(ImageError):
    """A file that should be read is not there, or is not a file."""

    code = "missing"


class DamagedError(ImageError):
    """A structure on the disk contradicts its own format."""

    code = "damaged"


class TruncatedError(DamagedError):
    """The image ends before the data that its own tables point to."""

    code = "truncated"


class UnsupportedError(ImageError):
    """The image is sound as far as we can tell, but uses something we do not know."""

    code = "unsupported"


class NoGuestError(ImageError):
    """No operating system that we know was found on the image's volumes."""

    code = "no-guest"


class RefusedError(ZeroSealError):
    """Going on would not be safe."""

    code = "refused"
    exit_status = 4


class InUseError(RefusedError):
    """Another program has the image open: a running machine, or another Zero Seal."""

    code = "in-use"


class NeedsRecoveryError(RefusedError):
    """A file system was not shut down cleanly: its journal holds changes not yet in place."""

    code = "needs-recovery"


class OutputExistsError(RefusedError):
    """The output would overwrite a file that is already there."""

    code = "output-exists"


class LockOutError(RefusedError):
    """The seal would lead to clones nobody can use: no login, no host keys or no network."""

    code = "lock-out"


class BlockerError(RefusedError):
    """The machine is not fit to be sealed."""

    code = "blocker"


class UnfinishedError(ZeroSealError):
    """The environment failed us or a proof did not hold: nothing lost, nothing left behind."""

    code = "unfinished"
    exit_status = 5


class NoSpaceError(UnfinishedError):
    """The target, or a file system inside the image, has no room for what must be written."""

    code = "no-space"


class NotProvenError(UnfinishedError):
    """The staged result failed its own verification; it was not written out."""

    code = "not-proven"


class ResidueError(NotProvenError):
    """Values of the original machine would stay on the sealed disk.

    Attributes:
        places: every value and where it lies, in words.
    """

    code = "residue"

    def __init__(self, message: str, places: tuple[str, ...], **facts: Fact) -> None:
        super().__init__(message, **facts)
        self.places = places


class MissingExtraError(UnfinishedError):
    """A package that the plain install leaves out is needed."""

    code = "missing-extra"


class GuestError(UnfinishedError):
    """A running guest cannot be reached, or a step inside it failed."""

    code = "guest"


class HostError(UnfinishedError):
    """The host could not start, stop or reach a machine."""

    code = "host"


def environment_error(error: OSError, path: Path, doing: str) -> UnfinishedError:
    """The project's error for a failed call to the operating system."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
        return NoSpaceError(
            messages.NO_SPACE_LEFT.format(doing=doing, path=path),
            path=str(path),
        )
    reason = (error.strerror or str(error)).lower()
    return UnfinishedError(
        messages.OPERATION_FAILED.format(doing=doing, path=path, reason=reason), path=str(path)
    )
