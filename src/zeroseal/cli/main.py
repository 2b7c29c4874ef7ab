"""The entry point: parses the words, runs one command, turns errors into one sentence."""

from __future__ import annotations

import argparse
import os
import signal
import sys
from collections.abc import Mapping
from importlib import import_module
from pathlib import Path
from types import FrameType
from typing import NoReturn, Protocol, TextIO, cast

from zeroseal import __version__
from zeroseal.cli.options import Subparsers, images_of, spell_out
from zeroseal.cli.ui import Ui
from zeroseal.errors import ZeroSealError

COMMANDS = (
    "build",
    "survey",
    "seal",
    "check",
    "shelf",
    "clone",
    "export",
    "compare",
    "report",
    "yard",
    "renew",
    "trial",
    "traces",
    "demo",
)
INTERRUPTED = 130
_TRY_AGAIN_SECONDS = 0.02
_WRONG_USAGE = 2

_DESCRIPTION = "Take a machine's identity out of its disk image, and prove that it is gone."
_EPILOG = """\
exit status:
  0  done, or sealed          3  image unreadable or not supported
  1  the answer is no         4  refused for safety
  2  wrong usage              5  could not finish; nothing lost, nothing left behind
"""


class Command(Protocol):
    """What every module ``cmd_NAME`` has."""

    def add_parser(self, subparsers: Subparsers) -> None:
        """Declares the command's arguments."""

    def run(self, args: argparse.Namespace, ui: Ui) -> int:
        """Runs it and returns the exit status."""


class _ParserExitError(Exception):
    """argparse wants to leave; carries the status."""

    def __init__(self, status: int) -> None:
        super().__init__(status)
        self.status = status


class _Parser(argparse.ArgumentParser):
    def exit(self, status: int = 0, message: str | None = None) -> NoReturn:
        if message:
            self._print_message(message, sys.stderr)
        raise _ParserExitError(status)


def build_parser() -> argparse.ArgumentParser:
    """The parser with all commands; imports nothing heavy."""
    parser = _Parser(
        prog="zeroseal",
        description=_DESCRIPTION,
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"zeroseal {__version__}")
    parser.add_argument("--debug", action="store_true", help="show a traceback with an error")
    subparsers = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)
    for name in COMMANDS:
        _load(name).add_parser(subparsers)
    return parser


def main(argv: list[str], stdout: TextIO, stderr: TextIO, environ: Mapping[str, str]) -> int:
    """Runs one command line; never exits the process itself."""
    old = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = stdout, stderr  # where argparse prints
    try:
        args = build_parser().parse_args(spell_out(argv))
    except _ParserExitError as wanted:
        return wanted.status
    finally:
        sys.stdout, sys.stderr = old
    ui = Ui(stdout, stderr, environ, as_json=args.json, quiet=args.quiet)
    try:
        if getattr(args, "show_rules", False):
            return _show_rules(args, ui)
        _finish_interrupted(args, ui)
        return _load(args.command).run(args, ui)
    except ZeroSealError as error:
        ui.end_progress()
        if args.debug:
            import traceback

            traceback.print_exc(file=stderr)
        ui.show_error(error)
        return error.exit_status
    except KeyboardInterrupt:
        ui.end_progress()
        ui.tell("interrupted: nothing lost, and nothing left behind")
        return INTERRUPTED


def _show_rules(args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.options import rules_from
    from zeroseal.cli.show_rules import show_rules
    from zeroseal.reports.as_json import rules_to_json

    rules = rules_from(args)
    ui.show(lambda: rules_to_json(rules), lambda out: show_rules(rules, out))
    return 0


def _finish_interrupted(args: argparse.Namespace, ui: Ui) -> None:
    """A change in place that was cut off is finished before anything else is done."""
    folder: Path | None = getattr(args, "journal_to", None)
    for image in images_of(args):
        if not _may_have_journal(image, folder):
            continue  # the usual case, without the imports
        from zeroseal.images.redo import finish_interrupted

        match finish_interrupted(image, folder):
            case "carried through":
                ui.tell(
                    f"an interrupted change of {image} in place was carried through: it is as that "
                    "command would have left it"
                )
            case "dropped":
                ui.tell(
                    f"an interrupted change of {image} in place was dropped: it is as it was before"
                )


def _may_have_journal(image: Path, folder: Path | None) -> bool:
    """Whether a journal lies where the image's would, whatever its name: ``redo_head.py``."""
    if not image.is_block_device():
        folder = image.resolve().parent
    try:
        return any(path.suffix == ".redo" for path in (folder or Path()).iterdir())
    except OSError:
        return False


def entry_point() -> None:
    """What the installed command calls."""
    for name in ("SIGINT", "SIGTERM", "SIGALRM"):
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), _interrupt)
    sys.unraisablehook = _interrupt_again
    try:
        status = main(sys.argv[1:], sys.stdout, sys.stderr, os.environ)
        sys.stdout.flush()
    except KeyboardInterrupt:  # before the command had begun
        status = INTERRUPTED
    except BrokenPipeError:
        # whoever read our output has gone: say nothing more, and let nothing be flushed to it
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        status = 0
    finally:
        for name in ("SIGINT", "SIGTERM", "SIGALRM"):
            if hasattr(signal, name):  # it is done; nothing is left to interrupt
                signal.signal(getattr(signal, name), signal.SIG_IGN)
    if status == INTERRUPTED:
        # an interrupt inside exec(), as dataclasses use it, would make Python end by the signal
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(status)
    sys.exit(status)


def _interrupt(_number: int, frame: FrameType | None) -> None:
    """Ends the command; a moment later where a module is being imported just now.

    An exception in the import machinery's own callbacks is swallowed and can leave its lock held:
    the command would go on, or stand still for ever.
    """
    while frame is not None and hasattr(signal, "setitimer"):
        if frame.f_code.co_filename.startswith("<frozen importlib"):
            signal.setitimer(signal.ITIMER_REAL, _TRY_AGAIN_SECONDS)
            return
        frame = frame.f_back
    raise KeyboardInterrupt


def _interrupt_again(swallowed: sys.UnraisableHookArgs) -> None:
    """An interrupt that came where Python can raise nothing comes again a moment later."""
    if issubclass(swallowed.exc_type, KeyboardInterrupt) and hasattr(signal, "setitimer"):
        signal.setitimer(signal.ITIMER_REAL, _TRY_AGAIN_SECONDS)
    else:
        sys.__unraisablehook__(swallowed)


def _load(name: str) -> Command:
    return cast(Command, import_module(f"zeroseal.cli.cmd_{name}"))
