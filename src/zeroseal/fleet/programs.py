"""Runs command lines of this program on this computer, one process each.

Starting Python and importing everything takes longer than a small image. A *helper* is this program
with everything imported, which forks a process for each task (``cli/helper.py``); where the system
cannot fork, each task is a program of its own.
"""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import threading
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

from zeroseal.fleet.task import BROKEN, STATUSES, Outcome

_CAN_FORK = hasattr(os, "fork")
_END_SECONDS = 30.0


@dataclass
class Programs:
    """Helpers that are started when they are needed, and used again.

    Attributes:
        environment: of the programs; None for our own.
        folder: where they work; None for our own current one.
    """

    environment: Mapping[str, str] | None = None
    folder: Path | None = None
    _free: list[_Helper] = field(default_factory=list)
    _busy: dict[_Helper, str] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _stopped: set[str] = field(default_factory=set)
    _is_closed: bool = False

    def run(self, words: Sequence[str], group: str = "") -> Outcome:
        """Runs one command line to its end; to be called from several threads at once.

        Args:
            words: without the program's name.
            group: what ``stop`` ends together.
        """
        began = time.monotonic()
        if not _CAN_FORK:
            status, output = self._run_alone(words)
        else:
            with self._lock:
                if self._is_closed or group in self._stopped:
                    return Outcome(STATUSES[-1])
                helper = self._free.pop() if self._free else self._start()
                self._busy[helper] = group
            status, output = helper.ask(words)
            with self._lock:
                del self._busy[helper]
                is_kept = helper.is_well and not self._is_closed
                if is_kept:
                    self._free.append(helper)
            if not is_kept:
                helper.end()
        status = status if status in STATUSES else BROKEN
        return Outcome(status, output, time.monotonic() - began)

    def stop(self, group: str) -> None:
        """Ends what a group runs, and lets it begin nothing more; each ends in its own way."""
        with self._lock:
            self._stopped.add(group)
            busy = [helper for helper, name in self._busy.items() if name == group]
        for helper in busy:
            helper.hang_up()

    def close(self) -> None:
        """Ends all helpers, and what they run."""
        with self._lock:
            self._is_closed = True
            free, busy = list(self._free), list(self._busy)
            self._free.clear()
        for helper in (*free, *busy):
            helper.hang_up()
        for helper in free:  # whoever asks a busy one ends it
            helper.end()

    def _start(self) -> _Helper:
        return _Helper(self._popen(["zeroseal.cli.helper"], subprocess.PIPE))

    def _popen(self, words: Sequence[str], stdin: int) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            [sys.executable, "-m", *words],
            stdin=stdin,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            env=self.environment,
            cwd=self.folder,
        )

    def _run_alone(self, words: Sequence[str]) -> tuple[int, bytes]:
        process = self._popen(["zeroseal", *words], subprocess.DEVNULL)
        output, _nothing = process.communicate()
        return process.returncode, output


class _Helper:
    """One helper, and the pipes to it: a line of JSON there, a line and the output back."""

    def __init__(self, process: subprocess.Popen[bytes]) -> None:
        self._process = process
        self.is_well = True

    def ask(self, words: Sequence[str]) -> tuple[int, bytes]:
        """(status, output) of one command line."""
        requests, answers = _pipes(self._process)
        try:
            requests.write(json.dumps(list(words)).encode() + b"\n")
            requests.flush()
            head = json.loads(answers.readline())
            output = answers.read(head["bytes"])
        except (OSError, ValueError):  # it was ended, or hung up on
            self.is_well = False
            return STATUSES[-1] if requests.closed else BROKEN, b""
        self.is_well = len(output) == head["bytes"] and not requests.closed
        return head["status"], output

    def hang_up(self) -> None:
        """Lets it end what it runs, and itself."""
        requests, _answers = _pipes(self._process)
        self.is_well = False
        with contextlib.suppress(OSError, ValueError):
            requests.close()

    def end(self) -> None:
        """Waits for its end; kills it where that does not come."""
        self.hang_up()
        try:
            self._process.wait(_END_SECONDS)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        _requests, answers = _pipes(self._process)
        answers.close()


def _pipes(process: subprocess.Popen[bytes]) -> tuple[IO[bytes], IO[bytes]]:
    requests: Any = process.stdin
    answers: Any = process.stdout
    return requests, answers
