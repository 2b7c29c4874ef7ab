"""Reading a console's log: what a terminal would show, without what steers the terminal.

Source: ECMA-48 (control sequences).
"""

from __future__ import annotations

import re
from pathlib import Path

CONSOLE_LOG = "console.log"  # in a machine's folder
_LOG_TAIL_BYTES = 4096
_LONGEST_LINE = 160
_CONTROL = re.compile(r"\x1b\[[0-?]*[ -/]*[@-~]|\x1b[ -/]*[0-~]|[\x00-\x08\x0b-\x1f\x7f]")


def plain_text(raw: bytes) -> str:
    """A line of a console without control sequences."""
    return _CONTROL.sub("", raw.decode("utf-8", "replace"))


def last_console_lines(log: Path, count: int) -> list[str]:
    """The last lines of a console's log that say something; none where there is none."""
    try:
        with log.open("rb") as file:
            file.seek(max(0, log.stat().st_size - _LOG_TAIL_BYTES))
            raw = file.read()
    except OSError:
        return []
    lines = [plain_text(line).strip()[-_LONGEST_LINE:] for line in raw.splitlines()]
    return [line for line in lines if line][-count:]


def last_console_line(log: Path) -> str:
    """The last line of a console's log that says something; empty where there is none."""
    return next(iter(last_console_lines(log, 1)), "")
