"""House rules, drafted from what was learned: each file that no trace covers is a choice."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from zeroseal.documents import toml_value
from zeroseal.sealing.linux.learned import Learned, LearnedFile, Renewal

_REGROWTH = {
    Renewal.OWN: "the first start makes a new one: two machines had different ones",
    Renewal.SHARED: "say here what makes a new one, or that none is needed",
}


def draft_learned_rules(learned: Learned, source: Path) -> str:
    """A text of TOML in which every choice is a comment; ready to be edited."""
    return "\n".join(_iter_draft(learned, source)) + "\n"


def _iter_draft(learned: Learned, source: Path) -> Iterator[str]:
    found = learned.uncovered
    yield f"# House rules, drafted from two machines that were started from {source}."
    yield "# Each file is listed twice: remove the '#' from the lines of your choice."
    yield "version = 1"
    yield ""
    yield "[allow]"
    yield "# 1. It may stay:"
    yield "unclaimed = ["
    yield from (f"  # {toml_value(one.path)}," for one in found)
    yield "]"
    yield "secrets = ["
    yield from (f"  # {toml_value(one.path)}," for one in found)
    yield "]"
    for number, one in enumerate(found, 1):
        yield ""
        yield f"# 2. Every seal removes it ({_why(one)}):"
        yield "# [[trace]]"
        yield f'# id = "identity.learned-{number}"'
        yield f'# title = "Learned ({number})"'
        yield f"# why = {toml_value(_why(one))}"
        yield '# guest = "linux"'
        yield f"# paths = [{toml_value(one.path)}]"
        yield '# treatment = "remove"'
        yield f"# regrowth = {{ by = {toml_value(_REGROWTH[one.renewal])} }}"
        yield '# source = "learned by starting two machines"'


def _why(one: LearnedFile) -> str:
    return f"{one.renewal.value}; it {', and '.join(one.reasons)}"
