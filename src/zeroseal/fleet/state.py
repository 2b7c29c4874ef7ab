"""What earlier runs answered, so that the next one looks only at images that changed.

A change is told by size, time of change and a sample of the file's bytes, of the image and of its
seal record. That is not a proof: who changes bytes between the samples and puts the time back is
not seen. A run without ``--changed`` looks at everything.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Iterable
from dataclasses import dataclass, field
from hashlib import sha256
from pathlib import Path
from typing import Any

from zeroseal import __version__
from zeroseal.errors import DamagedError, environment_error
from zeroseal.fleet.answer import Answer, Subject
from zeroseal.fleet.task import Outcome
from zeroseal.images.output import replace_small_file
from zeroseal.messages import fleet as messages
from zeroseal.sealing.record import record_path
from zeroseal.traces.load import catalogue_digest

_SCHEMA = "zeroseal.check-state"
_FORM = 1
_SAMPLES, _SAMPLE_BYTES = 64, 4096
_SMALL_BYTES = 4 << 20  # a file of rules or keys, and no image


@dataclass
class CheckState:
    """A state file.

    Attributes:
        path: None for one that is only kept in memory.
        question: what the answers depend on beside the image: options, rules, version.
    """

    path: Path | None
    question: str
    _known: dict[str, dict[str, Any]] = field(default_factory=dict)

    @classmethod
    def open(cls, path: Path | None, question: str) -> CheckState:
        """Reads a state file; one that is not there yet is empty.

        Raises:
            DamagedError: it is something else.
            UnfinishedError: it cannot be read.
        """
        state = cls(path, question)
        if path is None or not path.exists():
            return state
        try:
            value = json.loads(path.read_bytes())
            if (value["schema"], value["version"]) != (_SCHEMA, _FORM):
                raise ValueError("schema")
            state._known = {
                str(name): {
                    "question": str(item["question"]),
                    "look": str(item["look"]),
                    "at": int(item["at"]),
                    "status": int(item["status"]),
                    "output": str(item["output"]),
                }
                for name, item in value["images"].items()
            }
        except OSError as error:
            raise environment_error(error, path, "reading") from error
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
            raise DamagedError(messages.STATE_UNREADABLE.format(path=path)) from error
        return state

    def answer_on(self, subject: Subject, not_before: float = 0) -> Answer | None:
        """What was answered on an image that has not changed since; None where it must be asked.

        Args:
            subject: the image.
            not_before: answers that are older do not count.
        """
        path = Path(subject.name)
        item = self._known.get(str(path.resolve()))
        if item is None or item["question"] != self.question or item["at"] < not_before:
            return None
        if item["look"] != look_at(path):
            return None
        try:
            output = base64.b64decode(item["output"], validate=True)
        except ValueError:
            return None
        return Answer(subject, Outcome(item["status"], output), item["at"])

    def keep(self, answer: Answer, look: str, now: int) -> None:
        """Keeps an answer of this run, on the image as it looked before it was asked."""
        name = str(Path(answer.subject.name).resolve())
        if answer.status in (0, 1):  # what could not be read is asked again
            self._known[name] = {
                "question": self.question,
                "look": look,
                "at": now,
                "status": answer.status,
                "output": base64.b64encode(answer.outcome.output).decode(),
            }
        else:
            self._known.pop(name, None)

    def write(self) -> None:
        """Writes the file whole."""
        if self.path is not None:
            value = {"schema": _SCHEMA, "version": _FORM, "images": self._known}
            replace_small_file(self.path, json.dumps(value, indent=1).encode() + b"\n", 0o600)


def glance_at(path: Path) -> str:
    """What changes when an image or its record is written to, without reading any of them."""
    return f"{_glance_at_file(path)} {_glance_at_file(record_path(path))}"


def look_at(path: Path) -> str:
    """What changes when an image or its record does, as far as a look can tell."""
    return f"{_look_at_file(path)} {_look_at_file(record_path(path))}"


def question_of(words: Iterable[str], files: Iterable[Path]) -> str:
    """What answers depend on: the options, the files that they name, this version's catalogue."""
    told = sha256(json.dumps([__version__, catalogue_digest(), *words]).encode())
    for path in files:
        is_small = path.is_file() and path.stat().st_size <= _SMALL_BYTES
        told.update(path.read_bytes() if is_small else look_at(path).encode())
    return told.hexdigest()


def _glance_at_file(path: Path) -> str:
    try:
        facts = path.stat()
    except OSError:
        return "-"
    return f"{facts.st_size}:{facts.st_mtime_ns}:{facts.st_ino}"


def _look_at_file(path: Path) -> str:
    try:
        glance = _glance_at_file(path)
        told = sha256()
        with path.open("rb") as file:
            size = file.seek(0, 2)
            for number in range(_SAMPLES):
                file.seek(size * number // _SAMPLES)
                told.update(file.read(_SAMPLE_BYTES))
    except OSError:
        return "-"
    return f"{glance}:{told.hexdigest()[:32]}"
