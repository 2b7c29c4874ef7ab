"""What a command answers on one of many images or machines, in a word and a sentence."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

from zeroseal.fleet.task import Outcome
from zeroseal.sentences import counted


@dataclass(frozen=True)
class Subject:
    """What one task handles.

    Attributes:
        name: as the answer names it: an image by its path, a machine by its name.
        title: as its line shows it.
        words: of the program's command line.
    """

    name: str
    title: str
    words: tuple[str, ...]


@dataclass(frozen=True)
class Answer:
    """What the program said of one image or machine.

    Attributes:
        unchanged_since: when it was asked, for an answer of an earlier run on an image that has
            not changed; seconds since 1970, 0 for one of this run.
    """

    subject: Subject
    outcome: Outcome
    unchanged_since: int = 0

    @property
    def status(self) -> int | None:
        """Its exit status; None where it was not begun."""
        return self.outcome.status

    @property
    def seconds(self) -> float:
        """How long it took."""
        return self.outcome.seconds

    @cached_property
    def value(self) -> dict[str, Any]:
        """Its JSON; empty where it printed none."""
        return self.outcome.value

    @property
    def word(self) -> str:
        """The answer in a word or two."""
        if self.status is None:
            return "not begun"
        if self._error or not self.value:
            return "REFUSED" if self.status == 4 else "FAILED"
        return _word_of(self.value)

    @property
    def sentence(self) -> str:
        """What it rests on."""
        if self.status is None:
            return self.outcome.unbegun
        if self._error:
            return str(self._error.get("message", ""))
        if not self.value:
            return "it ended without an answer"
        text = _sentence_of(self.value)
        if self.unchanged_since:
            day = datetime.fromtimestamp(self.unchanged_since, UTC).strftime("%Y-%m-%d %H:%M")
            text += f" (looked at on {day} UTC, and not changed since)"
        return text

    @property
    def _error(self) -> dict[str, Any]:
        return self.value if self.value.get("schema") == "zeroseal.error" else {}


def _word_of(value: dict[str, Any]) -> str:
    match value.get("schema"):
        case "zeroseal.check":
            gate = value.get("gate")
            return "NOT PASSED" if gate and not gate["passes"] else str(value["verdict"])
        case "zeroseal.survey":
            return "ready" if value["ready"] else "NOT READY"
        case "zeroseal.seal":
            return "SEALED" if value["sealed"] else "UNSEALED"
        case "zeroseal.renewal":
            return "RENEWED"
        case "zeroseal.shelf-verification":
            return "as sealed" if value["good"] else "DIFFERS"
        case _:
            return "planned"


def _sentence_of(value: dict[str, Any]) -> str:
    match value.get("schema"):
        case "zeroseal.check":
            gate = value.get("gate")
            if gate and gate["passes"]:
                return f"{value['reason']}; it keeps every rule of the gate"
            misses = gate["misses"] if gate else []
            return "; ".join(str(miss["sentence"]) for miss in misses) or str(value["reason"])
        case "zeroseal.survey":
            against = [*value["readiness"]["blockers"], *value["guard"]["lockOuts"]]
            count = sum(len(group["places"]) for group in value["findings"])
            found = f"{counted(count, 'finding')} on {value['system']['name']}"
            return " ".join([f"{found}.", *against])
        case "zeroseal.seal":
            return f"in {value['output']['path']}"
        case "zeroseal.renewal":
            changes = counted(len(value["changes"]), "package")
            entry = value["template"]["entry"]
            return f"{entry['name']}@{entry['version']} is on the shelf; {changes} changed"
        case "zeroseal.shelf-verification":
            problems = [item["problem"] for item in value["templates"] if item["problem"]]
            return "; ".join(problems) or "every byte matches its seal record"
        case _:
            count = len(value.get("treated", []))
            return f"{counted(count, 'trace')} would be treated"
