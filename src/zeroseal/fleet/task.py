"""A task for one image, and what became of it."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from typing import Any, Protocol

from zeroseal.errors import environment_error
from zeroseal.messages import fleet as messages

_FIRST_BYTES = 64 << 10
STATUSES = (0, 1, 2, 3, 4, 5, 130)
BROKEN = 5


@dataclass(frozen=True)
class SeenFile:
    """A file as it is seen from one computer: whoever works on it must see the same.

    Attributes:
        digest: of its first 64 KiB, SHA-256 in hexadecimal.
    """

    path: str
    size_bytes: int
    digest: str

    @classmethod
    def look(cls, path: Path) -> SeenFile:
        """Looks at a file, a device or, by its names, a folder.

        Raises:
            UnfinishedError: it cannot be read.
        """
        try:
            if path.is_dir():
                names = "\0".join(sorted(item.name for item in path.iterdir()))
                return cls(str(path), 0, sha256(names.encode(errors="surrogateescape")).hexdigest())
            with path.open("rb") as file:
                first = file.read(_FIRST_BYTES)
                size = file.seek(0, 2)
        except OSError as error:
            raise environment_error(error, path, "reading") from error
        return cls(str(path), size, sha256(first).hexdigest())


@dataclass(frozen=True)
class Task:
    """A command line of this program for one image, which prints JSON.

    Attributes:
        words: with paths that are the same wherever it runs.
        files: what the worker must see as we do.
        output: the new file that it makes, which is not there before; empty for none.
        size_bytes: how large the image is; larger ones are begun first on a cluster.
        asked_at: when it was handed out, seconds since 1970.
    """

    words: tuple[str, ...]
    files: tuple[SeenFile, ...] = ()
    output: str = ""
    size_bytes: int = 0
    asked_at: float = 0.0


@dataclass(frozen=True)
class Outcome:
    """What the program said.

    Attributes:
        status: its exit status; None where it was not begun, and ``unbegun`` says why.
        output: its JSON text.
        worker: where it ran; empty for this computer.
    """

    status: int | None
    output: bytes = b""
    seconds: float = 0.0
    unbegun: str = ""
    worker: str = ""

    @property
    def value(self) -> dict[str, Any]:
        """Its JSON; empty where it printed none."""
        try:
            found = json.loads(self.output)
        except ValueError:
            return {}
        return found if isinstance(found, dict) else {}


class Course(Protocol):
    """The course of many tasks; asked and told from several threads."""

    def may_begin(self) -> str:
        """Why the next task is not begun; empty where it is. Waits where it must."""

    def ended(self, outcome: Outcome) -> None:
        """Takes note of a task that ended, before another one begins in its place."""


class Runner(Protocol):
    """Where tasks run.

    Attributes:
        is_far: whether that is another computer.
    """

    is_far: bool

    def run(self, tasks: list[Task], course: Course) -> Iterator[tuple[int, Outcome]]:
        """Yields (number of the task, outcome) of all tasks, each once.

        Left early, it ends what runs: nothing goes on behind the caller's back.
        """

    def close(self) -> None:
        """Lets go of everything."""


def failed(message: str, worker: str = "") -> Outcome:
    """An outcome that is an error of ours, as the program prints one."""
    value = {"schema": "zeroseal.error", "message": message}
    return Outcome(BROKEN, json.dumps(value).encode(), worker=worker)


def difference(task: Task, worker: str) -> str:
    """What this computer sees otherwise than the one that handed a task out; empty for nothing."""
    for file in task.files:
        try:
            seen = SeenFile.look(Path(file.path))
        except Exception as error:  # whatever its own storage says
            return messages.FILE_NOT_SEEN.format(worker=worker, path=file.path, reason=error)
        if seen != file:
            return messages.ANOTHER_FILE_SEEN.format(worker=worker, path=file.path)
    return ""
