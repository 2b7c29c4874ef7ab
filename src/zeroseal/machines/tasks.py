"""Runs the tasks of a sheet inside a guest: copy, run, repeat until done, reboot, wait."""

from __future__ import annotations

import re
import time
from collections.abc import Sequence
from dataclasses import dataclass

from zeroseal.errors import GuestError, environment_error
from zeroseal.machines.hosts.host import Output, Shell
from zeroseal.machines.sheet.load import LoadedSheet
from zeroseal.machines.sheet.model import Task
from zeroseal.messages import machines as messages
from zeroseal.progress import Progress, Step

_TOLD_LINES = 12
_TOLD_LINE = 400
_REBOOT_SECONDS = 900


@dataclass(frozen=True)
class TaskReport:
    """What a task did: ``runs`` counts repeats, ``seconds`` is how long it took."""

    name: str
    runs: int
    seconds: int


@dataclass
class TaskRunner:
    """Runs tasks one after the other; the first that fails ends it.

    Attributes:
        is_simulated: whether waiting is not waited for.
    """

    loaded: LoadedSheet
    shell: Shell
    progress: Progress
    is_simulated: bool = False

    def run_all(self, tasks: Sequence[Task]) -> list[TaskReport]:
        """Runs tasks in their order.

        Raises:
            GuestError: one failed; names it, and the end of what it printed.
            MissingError: a file that a task names is not there.
        """
        reports = []
        for number, task in enumerate(tasks, 1):
            began = time.monotonic()
            self.shell.doing = f"task {number} of {len(tasks)}, {task.name}"
            self.progress(Step(self.shell.doing, 0, 0, "s"))
            runs = self._run(task)
            reports.append(TaskReport(task.name, runs, int(time.monotonic() - began)))
        return reports

    def check(self, commands: Sequence[str], what: str) -> None:
        """Runs commands that have to succeed.

        Raises:
            GuestError: one did not.
        """
        for command in commands:
            self.shell.doing = what
            self.progress(Step(what, 0, 0, "s", command))
            answer = self.shell.run(command, as_root=True, timeout_seconds=600, is_patch=False)
            if answer.status:
                raise GuestError(
                    messages.COMMAND_ENDED_WITH_STATUS.format(
                        what=what, redact=self._redact(command), status=answer.status
                    ),
                    output=self._end_of(answer.text),
                )

    def _run(self, task: Task) -> int:
        try:
            return self._do(task)
        except GuestError as error:
            end = self._end_of(str(error.facts.get("output", "")))
            message = f"the task {task.name!r} failed: {self._redact(error.message)}"
            raise GuestError(message, output=end) from None

    def _do(self, task: Task) -> int:
        if task.file:
            mode = int(task.file.mode, 8)
            content = self._read(task.file.source, f"the task {task.name!r}")
            self.shell.copy_in(content, task.file.target, mode)
        elif task.reboot:
            self.shell.reboot(_REBOOT_SECONDS)
        elif task.wait_seconds:
            if not self.is_simulated:
                time.sleep(task.wait_seconds)
        else:
            return self._run_script(task)
        return 1

    def _run_script(self, task: Task) -> int:
        script = task.run
        if task.script:
            script = self._read(task.script, f"the task {task.name!r}").decode("utf-8", "replace")
        bound = task.until.at_most if task.until else 1
        for number in range(1, bound + 1):
            answer = self.shell.run(script, task.as_root, task.timeout_seconds, task.patch)
            if task.until is None:
                if answer.status:
                    raise _failed(answer)
                return 1
            if _is_done(task, answer):
                return number
            if task.until.status is None and answer.status:
                raise _failed(answer)
            if task.until.reboot_between and number < bound:
                self.shell.reboot(_REBOOT_SECONDS)
        raise GuestError(messages.WORK_LEFT_AFTER_RUNS.format(bound=bound), output=answer.text)

    def _read(self, name: str, key: str) -> bytes:
        path = self.loaded.file(name, key)
        try:
            return path.read_bytes()
        except OSError as error:
            raise environment_error(error, path, "reading") from error

    def _end_of(self, text: str) -> str:
        """The last lines of what was printed, without secrets, for an error."""
        lines = [line.strip()[:_TOLD_LINE] for line in self._redact(text).splitlines()]
        return "\n".join([line for line in lines if line][-_TOLD_LINES:])

    def _redact(self, text: str) -> str:
        return self.loaded.secrets.redact(text)


def check_files(loaded: LoadedSheet) -> None:
    """Raises MissingError where a file that a task names is not there, before anything is run."""
    for task in (*loaded.sheet.task, *loaded.sheet.on_copy):
        for name in (task.script, task.file.source if task.file else ""):
            if name:
                loaded.file(name, f"the task {task.name!r}")


def _failed(answer: Output) -> GuestError:
    return GuestError(
        messages.TASK_ENDED_WITH_STATUS.format(status=answer.status), output=answer.text
    )


def _is_done(task: Task, answer: Output) -> bool:
    until = task.until
    if until is None:
        return True
    if until.status is not None and answer.status != until.status:
        return False
    return not until.output or re.search(until.output, answer.text, re.MULTILINE) is not None
