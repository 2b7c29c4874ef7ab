"""A process with this program imported, which forks another one for each command line it is asked.

On its input each line is a list of words in JSON. Its answer is a line of JSON with exit status and
length, and the output. When its input ends it ends too, and what it runs before that.
"""

from __future__ import annotations

import ctypes
import json
import os
import select
import signal
import sys
from contextlib import suppress
from importlib import import_module
from pkgutil import walk_packages

_PIECE_BYTES = 1 << 16
_PR_SET_PDEATHSIG = 1
_END_SECONDS = 20.0
# rooms that work on images, of which everything is imported before the first fork
_ROOMS = ("blocks", "images", "volumes", "filesystems", "guests", "traces", "sealing")
_MODULES = ("zeroseal.cli.main", "zeroseal.cli.show_ntfs", "zeroseal.reports.as_json")


def serve() -> None:
    """Answers until the input ends."""
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # a process with threads should not fork
    _import_everything()
    waiting = b""
    while True:
        line, newline, waiting = waiting.partition(b"\n")
        if newline:
            _answer(json.loads(line))
            continue
        piece = os.read(0, _PIECE_BYTES)
        if not piece:
            return
        waiting = line + piece


def _import_everything() -> None:
    import zeroseal.cli.main as program
    from zeroseal.traces.load import load_catalogue

    for room in _ROOMS:
        package = import_module(f"zeroseal.{room}")
        for found in walk_packages(package.__path__, f"{package.__name__}."):
            with suppress(ImportError):  # of another system
                import_module(found.name)
    for name in _MODULES:
        import_module(name)
    program.build_parser()
    load_catalogue()


def _answer(words: list[str]) -> None:
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(reading)
        _work(words, writing)
    os.close(writing)
    output = _collect(reading, child)
    os.close(reading)
    _child, status = os.waitpid(child, 0)
    head = {"status": os.waitstatus_to_exitcode(status), "bytes": len(output)}
    with suppress(BrokenPipeError):
        _write(json.dumps(head).encode() + b"\n" + output)


def _work(words: list[str], writing: int) -> None:
    """The forked process: this program, as if it had been started; never returns."""
    import zeroseal.cli.main as program

    status = 5
    try:
        nothing = os.open(os.devnull, os.O_RDWR)
        for number, target in ((nothing, 0), (writing, 1), (nothing, 2)):
            os.dup2(number, target)
        _end_with_parent()
        sys.argv = ["zeroseal", *words]
        program.entry_point()
    except SystemExit as left:
        status = left.code if isinstance(left.code, int) else 5
    finally:
        with suppress(Exception):
            sys.stdout.flush()
        os._exit(status)


def _end_with_parent() -> None:
    """Lets the kernel end this process should the helper be killed; on Linux."""
    if sys.platform == "linux":
        with suppress(OSError, AttributeError):
            ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)


def _collect(reading: int, child: int) -> bytes:
    """What a child prints; it is ended when nobody is there any more who asked."""
    parts: list[bytes] = []
    sources = [reading, 0]
    while True:
        ready, _none, _neither = select.select(sources, [], [])
        if 0 in ready:  # nothing is asked while we work: the asker is gone
            os.kill(child, signal.SIGTERM)
            sources.remove(0)
            signal.signal(signal.SIGALRM, lambda _number, _frame: os.kill(child, signal.SIGKILL))
            signal.setitimer(signal.ITIMER_REAL, _END_SECONDS)
            continue
        piece = os.read(reading, _PIECE_BYTES)
        if not piece:
            return b"".join(parts)
        parts.append(piece)


def _write(content: bytes) -> None:
    view = memoryview(content)
    while view:
        view = view[os.write(1, view) :]


if __name__ == "__main__":
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # of the terminal; who asks hangs up
    serve()
