"""Shows the serial console of a machine on the screen while something else is done with it."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zeroseal.cli.ui import Ui
from zeroseal.machines.hosts.console import CONSOLE_LOG, plain_text

_POLL_SECONDS = 0.3
_PIECE_BYTES = 16 << 10


@contextmanager
def showing_console(
    yard: Path, name: str, ui: Ui, wanted: bool, from_start: bool = False
) -> Iterator[None]:
    """Prints what the console's log grows by, on stderr, as long as the block runs.

    Args:
        yard: where the machine lives.
        name: of the machine.
        ui: where it is printed.
        wanted: whether anything is.
        from_start: with what stands there already; else that is of an earlier start.
    """
    if not wanted or not name:
        yield
        return
    ended = threading.Event()
    follower = threading.Thread(
        target=_follow, args=(yard / name / CONSOLE_LOG, ui, ended, from_start), daemon=True
    )
    ui.quiet = True  # the console takes the place of the progress line
    follower.start()
    try:
        yield
    finally:
        ended.set()
        follower.join()


def _follow(log: Path, ui: Ui, ended: threading.Event, from_start: bool) -> None:
    position, rest = 0 if from_start else _size_of(log), b""
    while True:
        is_last = ended.wait(_POLL_SECONDS)
        if _size_of(log) < position:  # the next start began it again
            position, rest = 0, b""
        try:
            with log.open("rb") as file:
                file.seek(position)
                piece = file.read(_PIECE_BYTES if not is_last else -1)
        except OSError:
            piece = b""
        position += len(piece)
        *lines, rest = (rest + piece).split(b"\n")
        for line in lines:
            ui.tell_line(plain_text(line))
        if is_last:
            return


def _size_of(log: Path) -> int:
    try:
        return log.stat().st_size
    except OSError:
        return 0
