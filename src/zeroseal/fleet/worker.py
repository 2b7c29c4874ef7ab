"""What runs on a worker of a cluster: one task, on files that it sees as we do."""

from __future__ import annotations

import atexit
import os
import socket
import sys
from pathlib import Path

from zeroseal import __version__
from zeroseal.errors import ZeroSealError
from zeroseal.fleet.programs import Programs
from zeroseal.fleet.task import Outcome, SeenFile, Task, difference, failed
from zeroseal.messages import fleet as messages
from zeroseal.sealing.compare import Side, read_side
from zeroseal.sealing.policy import Policy

_SKEW_SECONDS = 300  # clocks of two computers
# a site's settings came with the task; those of a worker's own user count for nothing
_OWN = ("XDG_CONFIG_HOME", "ZEROSEAL_")


def describe() -> dict[str, str]:
    """What a worker is."""
    return {"version": __version__, "python": sys.version.split()[0], "host": socket.gethostname()}


def run_task(task: Task, version: str, run: str) -> Outcome:
    """Runs a task on this worker.

    A worker that died may have finished the output of the same task: that is as good as ours.

    Args:
        task: what to do.
        version: of the program that hands it out.
        run: names all tasks of one command.
    """
    name = socket.gethostname()
    if version != __version__:
        text = messages.WORKER_OF_ANOTHER_VERSION.format(
            worker=name, version=__version__, own=version
        )
        return failed(text, name)
    different = difference(task, name)
    if different:
        return failed(different, name)
    if task.output and Path(task.output).exists():
        done = _finished_before(task, run)
        if done:
            return _at(done, name)
    return _at(_programs().run(task.words, run), name)


def read_side_of(file: SeenFile, policy: Policy, every_file: bool, version: str) -> Side | str:
    """What is compared of an image; a sentence where it cannot be read here."""
    name = socket.gethostname()
    if version != __version__:
        return messages.WORKER_OF_ANOTHER_VERSION.format(
            worker=name, version=__version__, own=version
        )
    different = difference(Task((), (file,)), name)
    if different:
        return different
    try:
        return read_side(Path(file.path), policy, every_file)
    except ZeroSealError as error:
        return error.message


def stop_run(run: str) -> None:
    """Ends what this worker runs for a command."""
    _programs().stop(run)


_PROGRAMS: list[Programs] = []


def _programs() -> Programs:
    if not _PROGRAMS:
        environment = {
            key: value for key, value in os.environ.items() if not key.startswith(_OWN)
        } | {"XDG_CONFIG_HOME": os.devnull}
        atexit.register(_end_programs)
        _PROGRAMS.append(Programs(environment, Path(os.sep)))
    return _PROGRAMS[0]


def _end_programs() -> None:
    while _PROGRAMS:
        _PROGRAMS.pop().close()


def _finished_before(task: Task, run: str) -> Outcome | None:
    """The outcome of an output that is sealed, and was not there when the task was handed out."""
    checked = _programs().run(["check", task.output, "--json", "--quiet"], run)
    value = checked.value
    sealed_at = value.get("sealedAt") or 0
    if value.get("verdict") == "SEALED" and sealed_at >= task.asked_at - _SKEW_SECONDS:
        return checked
    return None


def _at(outcome: Outcome, worker: str) -> Outcome:
    return Outcome(outcome.status, outcome.output, outcome.seconds, outcome.unbegun, worker)
