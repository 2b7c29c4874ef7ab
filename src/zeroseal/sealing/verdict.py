"""The words in which a check answers."""

from __future__ import annotations

from enum import Enum


class Verdict(Enum):
    """The five answers of a check."""

    SEALED = "SEALED"
    CLEAN = "CLEAN"
    UNSEALED = "UNSEALED"
    BROKEN_SEAL = "BROKEN SEAL"
    UNKNOWN = "UNKNOWN"


class Level(Enum):
    """How far a check looks: the record, the catalogue too, values in the bytes too."""

    QUICK = "quick"
    FULL = "full"
    DEEP = "deep"


class FileAnswer(Enum):
    """Whether a file is the very one that was sealed."""

    THIS_VERY_FILE = "this very file"
    WRITTEN_ANEW = "written anew, same disk"
    ANOTHER_DISK = "another disk"
    NOT_KNOWN = "not known"
