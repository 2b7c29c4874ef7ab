"""A gate: what a site requires of an image beside its verdict, and what an image misses.

What cannot be told is a miss too: a gate lets through only what is known.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

from zeroseal.sealing.check import CheckResult
from zeroseal.sealing.house_rules import Gate
from zeroseal.sealing.record import SealRecord
from zeroseal.sealing.signing import TrustedKey, find_signer
from zeroseal.sealing.verdict import Level, Verdict
from zeroseal.sentences import counted, some_of

_DAY_SECONDS = 86_400
_RECORD = "record"  # what other rules rest on
_LEVELS = [level.value for level in (Level.QUICK, Level.FULL, Level.DEEP)]


@dataclass(frozen=True)
class Miss:
    """A rule of the gate that an image does not keep.

    Attributes:
        rule: its key in the file, such as ``signed-by``.
        sentence: what is missed, and the way out.
    """

    rule: str
    sentence: str


@dataclass(frozen=True)
class GateAnswer:
    """Whether an image passes a gate; ``rules`` are the keys that were asked for."""

    rules: tuple[str, ...]
    misses: tuple[Miss, ...]

    @property
    def passes(self) -> bool:
        """Whether nothing is missed."""
        return not self.misses


@dataclass(frozen=True)
class _Asked:
    """What the rules are judged by."""

    gate: Gate
    result: CheckResult
    keys: tuple[TrustedKey, ...]
    now: int


def judge_gate(
    gate: Gate, result: CheckResult, keys: tuple[TrustedKey, ...], now: int
) -> GateAnswer:
    """Holds the result of a check against a gate.

    Args:
        gate: the rules.
        result: of the check.
        keys: those that ``signed-by`` names, read.
        now: seconds since 1970.
    """
    asked = _Asked(gate, result, keys, now)
    rules = tuple(rule for rule, wants, _ask in _RULES if wants(gate) and rule != _RECORD)
    misses = [
        Miss(rule, sentence)
        for rule, wants, ask in _RULES
        if wants(gate)
        for sentence in ask(asked)
    ]
    if result.verdict not in (Verdict.SEALED, Verdict.CLEAN):
        misses.insert(0, Miss("verdict", f"it is {result.verdict.value}: {result.reason}"))
    return GateAnswer(rules, tuple(misses))


def _level(asked: _Asked) -> Iterator[str]:
    if _LEVELS.index(asked.result.level.value) < _LEVELS.index(asked.gate.level):
        yield (
            f"this check looked at level {asked.result.level.value}, and {asked.gate.level} is "
            f"required: add --level {asked.gate.level}"
        )


def _proof(asked: _Asked) -> Iterator[str]:
    for record in _record(asked):
        if _LEVELS.index(asked.gate.proof) > _LEVELS.index(record.level or "quick"):
            yield (
                f"its seal was proven at level {record.level}, and {asked.gate.proof} is required: "
                "seal it again with the search of its bytes"
            )


def _signed(asked: _Asked) -> Iterator[str]:
    for record in _record(asked):
        if record.envelope is None:
            yield "its seal record is not signed: seal it with --sign"
        elif find_signer(record.envelope, asked.keys) is None:
            names = some_of([key.name for key in asked.keys])
            yield f"its seal record is not signed by one of the keys of the gate: {names}"


def _sealed_within(asked: _Asked) -> Iterator[str]:
    for record in _record(asked):
        yield from _too_old(asked, record.sealed_at, asked.gate.sealed_within_days or 0, "sealed")


def _patched_within(asked: _Asked) -> Iterator[str]:
    for record in _record(asked):
        moment = record.contents.changed_at if record.contents else 0
        days = asked.gate.patched_within_days or 0
        if moment:
            yield from _too_old(asked, moment, days, "last patched")
        else:
            yield (
                "its seal record does not say when a package last changed: seal it again with "
                "this version, or leave out patched-within-days for such systems"
            )


def _contents(asked: _Asked) -> Iterator[str]:
    for record in _record(asked):
        if record.contents is None:
            yield "its seal record names no list of contents: seal it again with this version"
        elif not record.contents.count:
            yield "its list of contents is empty: no package manager that we know is on it"


def _unclaimed(asked: _Asked) -> Iterator[str]:
    yield from _of_kind(
        asked,
        [item.path for item in asked.result.stays.unclaimed],
        lambda record: list(record.stays.unclaimed) if record.stays else None,
        "file that looks like identity",
        "files that look like identity",
    )


def _secrets(asked: _Asked) -> Iterator[str]:
    yield from _of_kind(
        asked,
        [item.path for item in asked.result.stays.secrets],
        lambda record: [path for path, _kind in record.stays.secrets] if record.stays else None,
        "file with a secret",
        "files with secrets",
    )


def _of_kind(
    asked: _Asked,
    seen: list[str],
    recorded: Callable[[SealRecord], list[str] | None],
    one: str,
    many: str,
) -> Iterator[str]:
    """What the check saw; what the record says where the check did not look."""
    result = asked.result
    paths: list[str] | None = seen if result.stays.is_known else None
    record = result.record
    if paths is None and record and record.stays and record.stays.is_known:
        paths = recorded(record)
    if paths is None:
        yield f"{many} were not looked for on this system, or not at level {result.level.value}"
    elif paths:
        yield f"{counted(len(paths), one, many)} stay: {some_of(paths)}"


def _too_old(asked: _Asked, moment: int, days: int, word: str) -> Iterator[str]:
    age = (asked.now - moment) // _DAY_SECONDS
    if age > days:
        day = datetime.fromtimestamp(moment, UTC).strftime("%Y-%m-%d")
        yield f"it was {word} on {day}, {counted(age, 'day')} ago; at most {days} are allowed"


def _record(asked: _Asked) -> Iterator[SealRecord]:
    """The record; nothing where ``_has_record`` has said that there is none."""
    if asked.result.record:
        yield asked.result.record


def _has_record(asked: _Asked) -> Iterator[str]:
    if asked.result.record is None:
        yield "it has no seal record, and the rules of the gate are about what that says"


def _needs_record(gate: Gate) -> bool:
    return bool(
        gate.signed_by
        or gate.proof
        or gate.contents
        or gate.sealed_within_days is not None
        or gate.patched_within_days is not None
    )


_RULES: tuple[tuple[str, Callable[[Gate], bool], Callable[[_Asked], Iterator[str]]], ...] = (
    (_RECORD, _needs_record, _has_record),
    ("level", lambda gate: bool(gate.level), _level),
    ("proof", lambda gate: bool(gate.proof), _proof),
    ("signed-by", lambda gate: bool(gate.signed_by), _signed),
    ("sealed-within-days", lambda gate: gate.sealed_within_days is not None, _sealed_within),
    ("patched-within-days", lambda gate: gate.patched_within_days is not None, _patched_within),
    ("contents", lambda gate: bool(gate.contents), _contents),
    ("no-unclaimed", lambda gate: bool(gate.no_unclaimed), _unclaimed),
    ("no-secrets", lambda gate: bool(gate.no_secrets), _secrets),
)
