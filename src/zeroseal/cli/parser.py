"""The parser of every command: options in named groups, examples, the nearest word on a mistake."""

from __future__ import annotations

import argparse
import difflib
import sys
from collections.abc import Iterable
from typing import Any, NoReturn, TypeAlias

Subparsers: TypeAlias = "argparse._SubParsersAction[Any]"

TREATED = "what is treated"
CLONES = "what clones get"
OUTPUT = "the new file"
READING = "how the image is read"
PROOF = "proof and signature"
MANY = "many images at once"
POLICY = "house rules"
SHEET = "values of the build sheet"
GENERAL = "general options"


class ParserExitError(Exception):
    """The parser has printed its help or an error, and the command ends; carries the status."""

    def __init__(self, status: int) -> None:
        super().__init__(status)
        self.status = status


class _Formatter(argparse.HelpFormatter):
    """Wraps descriptions, and leaves examples as they are written."""

    def _fill_text(self, text: str, width: int, indent: str) -> str:
        if "\n" in text:
            return "".join(indent + line for line in text.splitlines(keepends=True))
        return super()._fill_text(text, width, indent)


class Parser(argparse.ArgumentParser):
    """A parser whose options are spelled out in full and listed in groups.

    Args:
        examples: command lines that the help ends with, each with what it does:
            ``("seal gate.qcow2 -o sealed.qcow2", "seal a disk into a new file")``.
    """

    def __init__(self, *args: Any, examples: Iterable[tuple[str, str]] = (), **kwargs: Any) -> None:
        kwargs.setdefault("formatter_class", _Formatter)
        if examples:
            kwargs["epilog"] = _examples_text(examples)
        kwargs |= {"add_help": False, "allow_abbrev": False}
        super().__init__(*args, **kwargs)
        self._positionals.title = "arguments"
        self._optionals.title = "main options"
        self.set_defaults(own_parser=self)

    def group(self, title: str) -> argparse._ArgumentGroup:
        """The group of options with a title; the help has them in the order of their first use."""
        for group in self._action_groups:
            if group.title == title:
                return group
        return self.add_argument_group(title)

    def format_help(self) -> str:
        """The help, with a short usage and the general options last."""
        self.usage = self.usage or self._short_usage()
        self._action_groups.sort(key=lambda group: group.title == GENERAL)
        return super().format_help()

    def add_actions(self) -> Subparsers:
        """Where the actions of a command are declared; ``-h`` is among the general options."""
        actions = self.add_subparsers(
            prog=self.prog,
            dest="action",
            metavar="ACTION",
            required=True,
            title="actions",
            help="what to do; its own help has its options",
        )
        self.add_help_option(self.group(GENERAL))
        return actions

    def _short_usage(self) -> str:
        """Arguments and required options; the groups below list the rest."""
        words = [self.prog]
        for action in self._actions:
            name = str(action.metavar or action.dest.upper())
            if not action.option_strings:
                words.append(f"[{name}]" if action.nargs in ("?", "*") else name)
            elif action.required:
                words.append(f"{action.option_strings[0]} {name}")
        return " ".join([*words, "[OPTION ...]"])

    def add_general(self) -> None:
        """The options of every command, in the last group."""
        general = self.group(GENERAL)
        general.add_argument("--json", action="store_true", help="print the result as JSON")
        general.add_argument(
            "--quiet", action="store_true", help="show the result only, without progress"
        )
        self.add_help_option(general)

    def add_help_option(self, group: argparse._ActionsContainer) -> None:
        """``-h``, in a group."""
        group.add_argument(
            "-h", "--help", action="help", default=argparse.SUPPRESS, help="show this help and exit"
        )

    def parse(self, words: list[str]) -> argparse.Namespace:
        """Parses the words; an unknown option is answered with the nearest known one."""
        parsed, unknown = self.parse_known_args(words)
        if unknown:
            used: Parser = getattr(parsed, "own_parser", self)
            used.error(_unknown_text(unknown, used.option_words()))
        return parsed

    def option_words(self) -> list[str]:
        """Every option of this parser that is shown in its help."""
        shown = [item for item in self._actions if item.help is not argparse.SUPPRESS]
        return [word for action in shown for word in action.option_strings]

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        if action.choices is None or value in action.choices:
            return
        words = [str(word) for word in action.choices]
        what = action.metavar or "/".join(action.option_strings) or action.dest
        near = _nearest(str(value), words)
        kind = {"COMMAND": "command", "ACTION": "action"}.get(str(what))
        named = (
            f"the {kind} {str(value)!r} is not known" if kind else f"{str(value)!r} is not valid"
        )
        way = f"did you mean {near}?" if near else f"choose from {', '.join(words)}"
        raise argparse.ArgumentError(None if kind else action, f"{named}: {way}")

    def exit(self, status: int = 0, message: str | None = None) -> NoReturn:
        """Ends the parsing; the process goes on."""
        if message:
            self._print_message(message, sys.stderr)
        raise ParserExitError(status)

    def error(self, message: str) -> NoReturn:
        """One sentence, and where the help is."""
        self.exit(2, f"zeroseal: {message}\nSee {self.prog} --help.\n")


def _unknown_text(unknown: list[str], known: list[str]) -> str:
    word = unknown[0].partition("=")[0]
    if not word.startswith("-"):
        return f"the argument {word!r} is not expected here"
    near = _nearest(word, known)
    return f"the option {word} is not known" + (f": did you mean {near}?" if near else "")


def _nearest(word: str, words: list[str]) -> str:
    return next(iter(difflib.get_close_matches(word, words, 1, 0.6)), "")


def _examples_text(examples: Iterable[tuple[str, str]]) -> str:
    lines = ["examples:"]
    for command, what in examples:
        lines += [f"  {what}:", f"    zeroseal {command}"]
    return "\n".join(lines)
