"""What starts of one image as two machines teach: which files identify a machine, and which time.

A file that differs between the two machines, and stays as it is when the first starts once more,
was made for that machine. One that changes with each start tells time, unless an identifier in it
stays. One that is the same on both, is nobody's and looks like identity came from the image and is
shared by all that come from it.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from enum import Enum

from blake3 import blake3

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.file_claims import Claim, FileClaims
from zeroseal.sealing.compare import read_values
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.judge import find_what_stays
from zeroseal.sealing.linux.unclaimed import describe_look
from zeroseal.sealing.policy import Policy

_ELSEWHERE = ("/dev/", "/proc/", "/run/", "/sys/", "/tmp/")
_LONGEST, _LONGEST_TEXT = 256 << 20, 1 << 20
_ID = re.compile(
    rb"(?<![A-Za-z0-9])(?:[0-9a-fA-F]{2}(?::[0-9a-fA-F]{2}){5}|[A-Za-z0-9+/_=-]{16,128})"
    rb"(?![A-Za-z0-9])"
)
_HAS_BOTH = re.compile(rb"(?=[^\n]{0,127}[0-9])(?=[^\n]{0,127}[A-Za-z])")
_DATE = re.compile(rb"^[0-9TZ:._+-]{8,32}$|^(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun)")


class Renewal(Enum):
    """What became of a file on two machines."""

    OWN = "different on each machine"
    SHARED = "the same on both machines"


@dataclass(frozen=True)
class LearnedFile:
    """A file, and what was learned of it.

    Attributes:
        reasons: why it looks like identity; empty where nothing speaks for that.
        trace: the id of the trace that covers it; empty for none.
        is_new: whether the image does not have it.
        claim: whose it is.
    """

    path: str
    size_bytes: int
    renewal: Renewal
    reasons: tuple[str, ...]
    score: int
    trace: str
    is_new: bool
    claim: Claim


@dataclass(frozen=True)
class Learned:
    """What was learned of an image.

    Attributes:
        files: those that differ between machines or are shared and look like identity.
        shared_values: kinds of identity values of a sealed image that did not renew.
        is_sealed: whether the catalogue finds nothing on the image.
        compared: how many files were looked at; ``timely``, how many change with each start.
    """

    files: tuple[LearnedFile, ...]
    shared_values: tuple[str, ...]
    is_sealed: bool
    compared: int
    timely: int

    @property
    def uncovered(self) -> list[LearnedFile]:
        """Files that look like identity and that no trace covers, the most suspicious first."""
        return [one for one in self.files if not one.trace and one.reasons]

    @property
    def plain(self) -> list[LearnedFile]:
        """Files that differ, that no trace covers, and that do not look like identity."""
        return [one for one in self.files if not one.trace and not one.reasons]

    @property
    def covered(self) -> Counter[str]:
        """How many files each trace covers."""
        return Counter(one.trace for one in self.files if one.trace)


@dataclass
class _Disk:
    """The files of one disk: (kind, bytes, moment of the last change) by path."""

    guest: Guest
    facts: dict[str, tuple[Kind, int, int]] = field(default_factory=dict)

    @classmethod
    def read(cls, guest: Guest) -> _Disk:
        disk = cls(guest)
        for path, facts in guest.walk("/"):
            if facts.kind in (Kind.FILE, Kind.LINK) and not path.startswith(_ELSEWHERE):
                disk.facts[path] = (facts.kind, facts.size_bytes, facts.changed_at)
        return disk

    def content(self, path: str, most: int = _LONGEST) -> bytes | None:
        """A file's content or a link's target; None where there is neither."""
        kind = self.facts.get(path, (None, 0, 0))[0]
        if kind is None:
            return None
        if kind is Kind.LINK:
            return b"-> " + self.guest.read_link(path).encode("utf-8", "surrogateescape")
        return self.guest.read_file(path, most)

    def digest(self, path: str) -> bytes | None:
        """Of the content."""
        content = self.content(path)
        return None if content is None else blake3(content).digest()


def learn_from(
    image: Inspection,
    first: Inspection,
    again: Inspection,
    other: Inspection,
    policy: Policy,
    names: tuple[str, str],
) -> Learned:
    """Compares the disks.

    Args:
        image: what both machines come from.
        first: the first machine after its first start.
        again: the same after one more.
        other: the other machine after its first start.
        policy: whose traces may cover a file.
        names: what the two machines are called.
    """
    base, one, later, two = (_Disk.read(item.guest) for item in (image, first, again, other))
    fitted = first.fit_policy(policy)
    findings = [item for item in first.find_all(fitted) if fitted.treats(item.trace)]
    covering = {item.place: item.trace.id for item in findings}
    claims = FileClaims(first.guest)
    found: list[LearnedFile] = []
    timely = 0

    def add(path: str, renewal: Renewal, reasons: list[str], score: int) -> None:
        found.append(
            LearnedFile(
                path=path,
                size_bytes=one.facts[path][1],
                renewal=renewal,
                reasons=tuple(reasons),
                score=score,
                trace=_trace_for(path, covering),
                is_new=path not in base.facts,
                claim=claims.claim_of(path) if claims.is_known else Claim.NOBODY,
            )
        )

    for path in sorted(one.facts.keys() & two.facts.keys()):
        if one.facts[path] == two.facts[path] == base.facts.get(path):
            continue  # nobody wrote it
        own = one.digest(path)
        if own == two.digest(path):
            continue
        reasons, score = _look(path, one, later, two, names)
        if own == later.digest(path) or score >= _LASTS:
            add(path, Renewal.OWN, reasons, score)
        else:
            timely += 1
    for path, reasons, score in _iter_shared(first, one, two, fitted):
        add(path, Renewal.SHARED, reasons, score)
    found.sort(key=lambda item: (-item.score, item.path))
    is_sealed = not any(fitted.treats(item.trace) for item in image.find_all(fitted))
    shared = _shared_kinds(first, other) if is_sealed else ()
    return Learned(tuple(found), tuple(shared), is_sealed, len(one.facts), timely)


# -- inside

_LASTS = 10  # points of an identifier that stays


def _look(
    path: str, one: _Disk, later: _Disk, two: _Disk, names: tuple[str, str]
) -> tuple[list[str], int]:
    """Why a file that differs looks like identity, and how much speaks for it."""
    contents = [disk.content(path, _LONGEST_TEXT) or b"" for disk in (one, later, two)]
    reasons, score = describe_look(path, contents[0])
    if lasting := _ids(contents[0]) & _ids(contents[1]) - _ids(contents[2]):
        reasons.append(f"has {len(lasting)} identifiers of its own" if len(lasting) > 1
                       else "has an identifier of its own")  # fmt: skip
        score += _LASTS
    if names[0].encode() in contents[0] and names[1].encode() in contents[2]:
        reasons.append("has the machine's name")
        score += 1
    return reasons, score


def _ids(content: bytes) -> set[bytes]:
    return {
        text for text in _ID.findall(content) if not _DATE.match(text) and _HAS_BOTH.match(text)
    }


def _iter_shared(
    first: Inspection, one: _Disk, two: _Disk, policy: Policy
) -> Iterator[tuple[str, list[str], int]]:
    """Yields (path, reasons, points) of what looks like identity or a secret and is the same."""
    suspects: dict[str, tuple[list[str], int]] = {}
    stays = find_what_stays(first, policy)
    for file in stays.unclaimed:
        suspects[file.path] = (list(file.reasons), file.score)
    for secret in stays.secrets:
        reasons, score = suspects.get(secret.path, ([], 0))
        suspects[secret.path] = ([*reasons, secret.reason], score + 5)
    for path, (reasons, score) in suspects.items():
        is_same = path in one.facts and path in two.facts and one.digest(path) == two.digest(path)
        if is_same:
            yield path, reasons, score


def _shared_kinds(first: Inspection, other: Inspection) -> list[str]:
    """Kinds of identity values that both machines have the same and no clone should."""
    values = [
        {value for value in read_values(item) if not value.by_design} for item in (first, other)
    ]
    kinds = {value.kind for value in values[0] & values[1]}
    return sorted(kinds - {"leased address"})  # each has a network of its own


def _trace_for(path: str, covering: dict[str, str]) -> str:
    """The trace that a path, or a folder above it, is a finding of."""
    while path:
        if path in covering:
            return covering[path]
        path = path.rpartition("/")[0]
    return ""
