"""What an installer is doing, read from its console as it goes on.

An installer on a serial console says what it does in lines of its own; those that end with a
percentage are its stages. Here they are told from questions that nobody answers, from an
installation that begins again and again, and from one that has no room left.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from pathlib import Path

from zeroseal.machines.hosts.console import plain_text

_KEPT_LINES = 12
_LONGEST_LINE, _MOST_SHOWN_BYTES = 160, 1024
_READ_BYTES = 256 << 10
_MOST_STAGES = 500
_ROUNDS = 4  # so often the same stages in the same order are a loop
_LONGEST_ROUND = 12
_PERCENT = re.compile(r"^(?P<stage>\S.{2,}?)[ .:]*?(?:\.{3}|\s|\[)\s*(?P<percent>\d{1,3})\s?%")
_LAST_PERCENT = re.compile(r"(\d{1,3})\s?%(?!.*\d\s?%)")
# what stands at the end of a console that waits for somebody
_QUESTION = re.compile(
    r"(?i)(prompt: .*>|press .{0,40}(enter|any key|return|to continue).*|\[[yn]/[yn]\][ :]*"
    r"|\((yes/no|y/n)\)[ :]*|(please |your )?(choice|selection)[^.]{0,40}[:>?]"
    r"|select .{1,60}[:>?]|(login|password|passphrase)[^.\n]{0,40}:|\S.{0,120}\?)\s*$"
)
_NO_ROOM = re.compile(
    r"(?i)no space left on device|not enough (free |disk )?space|insufficient (free |disk )?space"
    r"|disk (is )?full|target (file system|filesystem) is full|too small to hold"
)


@dataclass
class InstallerConsole:
    """A console's log, read as it grows.

    Attributes:
        log: the file that the host writes.
        stages: what it did, each once it begins, with the seconds since the start.
        lines: the last complete lines that say something.
        last: the line that is not complete.
        percent: of the stage that it is in; None where it gives none.
        no_room: the line that says that a disk is full; empty for none.
    """

    log: Path
    stages: list[tuple[str, int]] = field(default_factory=list)
    lines: list[str] = field(default_factory=list)
    last: str = ""
    percent: int | None = None
    no_room: str = ""
    _read_bytes: int = 0
    _rest: bytes = b""

    @property
    def stage(self) -> str:
        """What it does now: the last stage, else the last line."""
        if self.stages:
            return self.stages[-1][0]
        return self.last or (self.lines[-1] if self.lines else "")

    @property
    def end(self) -> tuple[str, ...]:
        """The last lines, with the one that is not complete."""
        return tuple(line for line in (*self.lines, self.last) if line)[-_KEPT_LINES:]

    @property
    def question(self) -> str:
        """What the console ends with, where that is a question; whether it waits, time tells."""
        if self.last and _QUESTION.search(self.last):
            return self.last
        # some draw the line of a question whole, and wait behind it
        line = self.lines[-1] if self.lines and not self.last else ""
        return line if line and _QUESTION.search(line) else ""

    @property
    def is_looping(self) -> bool:
        """Whether it went through the same stages several times in the same order."""
        names = [name for name, _second in self.stages]
        for length in range(2, min(_LONGEST_ROUND, len(names) // _ROUNDS) + 1):
            end = names[-length:]
            if all(
                names[len(names) - length * (turn + 1) : len(names) - length * turn] == end
                for turn in range(_ROUNDS)
            ):
                return True
        return False

    def read(self, second: int) -> bool:
        """Reads what was added since the last time.

        Args:
            second: since the start, for the stages that begin.

        Returns:
            whether anything was added.
        """
        try:
            with self.log.open("rb") as file:
                file.seek(0, 2)
                if file.tell() < self._read_bytes:  # the host began it again
                    self._read_bytes, self._rest = 0, b""
                file.seek(self._read_bytes)
                added = file.read(_READ_BYTES)
        except OSError:
            return False
        self._read_bytes += len(added)
        *whole, self._rest = (self._rest + added).replace(b"\r\n", b"\n").split(b"\n")
        self._rest = self._rest[-_READ_BYTES:]
        for raw in whole:
            self._take(_shown(raw), second)
        unfinished = _shown(self._rest)
        self.last = unfinished[-_LONGEST_LINE:]
        if unfinished:
            self._take_stage(unfinished, second)
        return bool(added)

    def _take(self, line: str, second: int) -> None:
        if not line:
            return
        self.lines = [*self.lines, line[-_LONGEST_LINE:]][-_KEPT_LINES:]
        self._take_stage(line, second)
        if _NO_ROOM.search(line):
            self.no_room = line[-_LONGEST_LINE:]

    def _take_stage(self, line: str, second: int) -> None:
        found = _PERCENT.match(line)
        if not found:
            return
        stage = found["stage"].rstrip(" .:;")
        number = _LAST_PERCENT.search(line)
        self.percent = min(100, int(number[1])) if number else None
        if (not self.stages or self.stages[-1][0] != stage) and len(self.stages) < _MOST_STAGES:
            self.stages.append((stage, second))


def _shown(raw: bytes) -> str:
    """A line as a terminal would leave it: what a carriage return goes over is gone."""
    parts = [part for part in raw.rstrip(b"\r").split(b"\r") if part.strip()]
    return plain_text(parts[-1][:_MOST_SHOWN_BYTES]).strip() if parts else ""
