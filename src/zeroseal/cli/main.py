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
from typing import Protocol, TextIO, cast

from zeroseal import __version__
from zeroseal.cli.options import images_of, spell_out
from zeroseal.cli.parser import GENERAL, Parser, ParserExitError, Subparsers
from zeroseal.cli.settings import apply_settings, read_settings
from zeroseal.cli.ui import Ui
from zeroseal.errors import ZeroSealError

GROUPS = {
    "disk images": ("survey", "seal", "check", "report", "compare", "contents", "export"),
    "templates and clones": ("shelf", "clone", "trial", "learn"),
    "machines": ("build", "renew", "yard"),
    "help": ("traces", "demo", "config", "schema", "completion"),
}
COMMANDS = tuple(name for names in GROUPS.values() for name in names)
INTERRUPTED = 130
_TRY_AGAIN_SECONDS = 0.02

_DESCRIPTION = "Remove a machine's identity from its disk image, and prove that it is gone."
_FIRST_STEPS = """\
first steps:
  zeroseal demo                             see everything on small machines that ship with it
  zeroseal survey gate.qcow2                what is on the disk of a machine that is shut down
  zeroseal seal gate.qcow2 --dry-run        what a seal would do
  zeroseal seal gate.qcow2 -o sealed.qcow2  seal it into a new file; gate.qcow2 is not changed
  zeroseal check sealed.qcow2               is it sealed, and is it still as it was sealed

when a seal is refused:
  The message says what is wrong, where, and what to do.
  zeroseal seal gate.qcow2 --rehearse       list everything that would stop the seal
  zeroseal survey gate.qcow2 --as-if --plant-first-boot
                                            would this option of a seal solve it

after a seal:
  sealed.qcow2.seal.json                    the record of what was done; keep it with the disk
  zeroseal report sealed.qcow2 --against gate.qcow2 --html report.html
                                            show it to others, before and after

exit status:
  0  done, or sealed          3  image unreadable or not supported
  1  the answer is no         4  refused for safety
  2  wrong usage              5  could not finish; nothing lost, nothing left behind

For the options of a command: zeroseal COMMAND --help
"""


class Command(Protocol):
    """What every module ``cmd_NAME`` has."""

    def add_parser(self, subparsers: Subparsers) -> None:
        """Declares the command's arguments."""

    def run(self, args: argparse.Namespace, ui: Ui) -> int:
        """Runs it and returns the exit status."""


def build_parser() -> Parser:
    """The parser with all commands; imports nothing heavy."""
    parser = Parser(prog="zeroseal", usage="zeroseal COMMAND [OPTION ...]")
    subparsers = parser.add_subparsers(
        prog="zeroseal",
        dest="command",
        metavar="COMMAND",
        required=True,
        help=argparse.SUPPRESS,
    )
    for name in COMMANDS:
        _load(name).add_parser(subparsers)
    texts = {item.dest: item.help for item in subparsers._choices_actions}
    lists = [
        "\n".join([f"{title}:", *(f"  {name:<11} {texts[name]}" for name in names)])
        for title, names in GROUPS.items()
    ]
    parser.description = "\n\n".join([_DESCRIPTION, *lists])
    parser.epilog = _FIRST_STEPS
    general = parser.group(GENERAL)
    general.add_argument("--version", action="version", version=f"zeroseal {__version__}")
    general.add_argument("--debug", action="store_true", help="show a traceback with an error")
    parser.add_help_option(general)
    return parser


def main(argv: list[str], stdout: TextIO, stderr: TextIO, environ: Mapping[str, str]) -> int:
    """Runs one command line; never exits the process itself."""
    old = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = stdout, stderr  # where argparse prints
    try:
        args = build_parser().parse(spell_out(argv))
    except ParserExitError as wanted:
        return wanted.status
    finally:
        sys.stdout, sys.stderr = old
    ui = Ui(stdout, stderr, environ, as_json=args.json, quiet=args.quiet)
    try:
        apply_settings(args, read_settings(environ, Path.cwd()))
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
        ui.tell("interrupted: nothing was lost, and nothing was left behind")
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
                    f"an interrupted change of {image} in place was completed: the image is "
                    "as that command would have left it"
                )
            case "dropped":
                ui.tell(
                    f"an interrupted change of {image} in place was dropped: the image is as "
                    "it was before"
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
        if "_ARGCOMPLETE" in os.environ:  # a shell asks what may follow
            from zeroseal.cli.completion import complete

            complete(build_parser())
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
