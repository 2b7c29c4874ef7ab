"""``zeroseal completion``: the lines that make a shell complete our words."""

from __future__ import annotations

import argparse

from zeroseal.cli.completion import SHELLS, shell_code
from zeroseal.cli.parser import Subparsers
from zeroseal.cli.ui import Ui


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "completion",
        help="print the completion script of a shell",
        description=(
            "Prints a script that completes commands, options, traces, machines of the yard and "
            "templates on the shelf. The package installs it where bash, zsh and fish look for "
            "scripts below its prefix (share/); where a shell does not look there, load it from "
            "the shell's own start file."
        ),
        examples=(
            ("completion bash > ~/.local/share/bash-completion/completions/zeroseal", "bash"),
            ("completion zsh > ~/.zfunc/_zeroseal", "zsh, with ~/.zfunc in fpath"),
            ("completion fish > ~/.config/fish/completions/zeroseal.fish", "fish"),
        ),
    )
    parser.add_argument("shell", choices=SHELLS, metavar="SHELL", help=", ".join(SHELLS))
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.reports.as_json import head

    code = shell_code(args.shell)
    ui.show(
        lambda: head("completion") | {"shell": args.shell, "script": code},
        lambda out: out.print(code, soft_wrap=True),
    )
    return 0
