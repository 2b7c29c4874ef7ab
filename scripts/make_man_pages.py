"""Writes what the package installs below ``share/``: manual pages, and scripts for shells.

Run from the checkout: ``python scripts/make_man_pages.py``. ``tests/cli/test_share.py`` fails when
a file is not what this makes.
"""

from __future__ import annotations

import argparse
import re
from pathlib import Path

from zeroseal import __version__
from zeroseal.cli.completion import shell_code
from zeroseal.cli.main import COMMANDS, build_parser
from zeroseal.cli.parser import Parser
from zeroseal.sentences import capitalised

SHARE = Path(__file__).resolve().parent.parent / "share"
SCRIPTS = {
    "bash": "bash-completion/completions/zeroseal",
    "zsh": "zsh/site-functions/_zeroseal",
    "fish": "fish/vendor_completions.d/zeroseal.fish",
}


def files() -> dict[str, str]:
    """Path below ``share`` and text of each file."""
    main = build_parser()
    commands = _actions_of(main)
    made = {"man/man1/zeroseal.1": _page("zeroseal", main, _purpose(main), commands)}
    for name in COMMANDS:
        page = _page(
            f"zeroseal {name}", commands[name], _help_of(main, name), _actions_of(commands[name])
        )
        made[f"man/man1/zeroseal-{name}.1"] = page
    return made | {path: shell_code(shell) for shell, path in SCRIPTS.items()}


def _page(name: str, parser: Parser, purpose: str, actions: dict[str, Parser]) -> str:
    """A manual page: name, synopsis, description, options by group, actions, examples."""
    title = name.replace(" ", "-")
    parser.format_help()  # settles usage and order
    lines = [f'.TH "{title.upper()}" "1" "" "zeroseal {__version__}" "Zero Seal"']
    lines += [".SH NAME", f"{_roff(title)} \\- {_roff(purpose)}"]
    lines += [".SH SYNOPSIS", ".nf", _roff(parser.usage or name), ".fi"]
    lines += [".SH DESCRIPTION", *_text(parser.description or "")]
    lines += _groups(parser, ".SH")
    for word, action in actions.items():
        if name != "zeroseal":
            action.format_help()
            lines += [
                f".SH {_roff(f'{name} {word}'.upper())}",
                ".nf",
                _roff(action.usage or ""),
                ".fi",
            ]
            lines += [".PP", *_text(action.description or ""), *_groups(action, ".SS")]
    if parser.epilog:
        head, _colon, rest = parser.epilog.partition(":\n")
        lines += [f".SH {_roff(head.upper())}", *_raw(rest)]
    others = [f"zeroseal-{word}" for word in COMMANDS] if name == "zeroseal" else ["zeroseal"]
    lines += [
        ".SH SEE ALSO",
        ",\n".join(f".BR {_roff(other)} (1)" for other in others).replace(",", " ,"),
    ]
    return "\n".join(lines) + "\n"


def _groups(parser: Parser, macro: str) -> list[str]:
    lines = []
    for group in parser._action_groups:
        shown = [item for item in group._group_actions if item.help is not argparse.SUPPRESS]
        shown = [item for item in shown if not isinstance(item, argparse._SubParsersAction)]
        if shown:
            lines.append(
                f"{macro} {_roff(str(group.title).upper() if macro == '.SH' else str(group.title))}"
            )
        for action in shown:
            lines += [".TP", _named(action), _roff(str(action.help) % vars(action))]
    return lines


def _named(action: argparse.Action) -> str:
    value = action.metavar or (
        "{" + ",".join(map(str, action.choices)) + "}" if action.choices else ""
    )
    value = f" \\fI{_roff(str(value))}\\fR" if value and action.nargs != 0 else ""
    if not action.option_strings:
        return value.strip()
    return ", ".join(f"\\fB{_roff(word)}\\fR" for word in action.option_strings) + value


def _text(text: str) -> list[str]:
    return _raw(text) if "\n" in text else [_roff(text)]


def _raw(text: str) -> list[str]:
    return [".nf", *(_roff(line) for line in text.rstrip("\n").split("\n")), ".fi"]


def _roff(text: str) -> str:
    """Text as roff reads it: no escape, no request, a hyphen that can be searched for."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return re.sub(r"^([.'])", r"\\&\1", escaped)


def _purpose(parser: Parser) -> str:
    first = (parser.description or "").partition("\n")[0].rstrip(".")
    return first[:1].lower() + first[1:]


def _help_of(main: Parser, name: str) -> str:
    found = [item for item in main._actions if isinstance(item, argparse._SubParsersAction)]
    return next(str(item.help) for item in found[0]._choices_actions if item.dest == name)


def _actions_of(parser: Parser) -> dict[str, Parser]:
    found = [item for item in parser._actions if isinstance(item, argparse._SubParsersAction)]
    return dict(found[0].choices) if found else {}


def main() -> None:
    """Writes them all."""
    for path, text in files().items():
        target = SHARE / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text)
        print(capitalised(f"wrote share/{path}"))


if __name__ == "__main__":
    main()
