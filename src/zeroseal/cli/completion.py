"""What a shell offers after TAB: options, traces, machines of the yard, templates of the shelf.

The shell asks this program itself, by way of argcomplete; ``zeroseal completion SHELL`` prints the
few lines that tell the shell to do so.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from zeroseal.cli.parser import Parser

SHELLS = ("bash", "zsh", "fish")
_MOST = 2000

Completer = Callable[..., list[str]]


def shell_code(shell: str) -> str:
    """What a shell reads to complete the words of ``zeroseal``."""
    from argcomplete.shell_integration import shellcode

    return str(shellcode(["zeroseal"], shell=shell))


def complete(parser: Parser) -> None:
    """Answers the shell, and ends the process."""
    import argcomplete

    for words, action in _iter_actions(parser, ()):
        completer = _completer_of(words, action)
        if completer:
            action.completer = completer  # type: ignore[attr-defined]
    argcomplete.autocomplete(parser, always_complete_options="long")


def _iter_actions(
    parser: argparse.ArgumentParser, words: tuple[str, ...]
) -> Iterator[tuple[tuple[str, ...], argparse.Action]]:
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for word, below in action.choices.items():
                yield from _iter_actions(below, (*words, word))
        else:
            yield words, action


def _completer_of(words: tuple[str, ...], action: argparse.Action) -> Completer | None:
    """Who knows the values of an argument; None where the shell offers files, or nothing."""
    if action.metavar in ("TRACE", "ID"):
        return _traces
    if action.metavar == "TEMPLATE" or "NAME[@VERSION]" in str(action.metavar):
        return _templates
    if action.dest in ("template", "other") and words[:1] == ("shelf",):
        return _templates
    if action.dest in ("name", "names") and (words[:1] == ("yard",) or words == ("renew",)):
        return None if words == ("yard", "adopt") else _machines
    if action.dest == "format" and not action.choices:
        return _formats
    if action.dest == "family":
        return _families
    return None


def _traces(**_given: Any) -> list[str]:
    from zeroseal.traces.load import load_catalogue
    from zeroseal.traces.model import FAMILIES

    return [*FAMILIES, *(trace.id for trace in load_catalogue())]


def _families(**_given: Any) -> list[str]:
    from zeroseal.traces.model import FAMILIES

    return list(FAMILIES)


def _formats(**_given: Any) -> list[str]:
    from zeroseal.images.create import FORMATS

    return ["bundle", *FORMATS]


def _machines(parsed_args: argparse.Namespace, **_given: Any) -> list[str]:
    from zeroseal.machines import FILE_NAME

    folder = Path(getattr(parsed_args, "yard", None) or "yard")
    return [path.parent.name for path in _some(folder.glob(f"*/{FILE_NAME}"))]


def _templates(parsed_args: argparse.Namespace, **_given: Any) -> list[str]:
    from zeroseal.templates.shelf.entry import ENTRY_FILE

    folder = Path(getattr(parsed_args, "shelf", None) or "shelf")
    found = [path.parent for path in _some(folder.glob(f"*/*/{ENTRY_FILE}"))]
    names = sorted({path.parent.name for path in found})
    return [*names, *sorted(f"{path.parent.name}@{path.name}" for path in found)]


def _some(paths: Iterator[Path]) -> list[Path]:
    """A folder of any size is answered at once."""
    return [path for path, _number in zip(paths, range(_MOST), strict=False)]
