"""How what a seal leaves looks on a terminal: secrets, unclaimed files, what mount points cover."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import render
from zeroseal.sealing.what_stays import SECRET_KINDS
from zeroseal.sentences import capitalised, counted

if TYPE_CHECKING:
    from zeroseal.sealing.what_stays import StayingSecret, UnclaimedFile, WhatStays

_MOST_NAMED = 20
_MOST_OF_A_KIND = 5


def show_what_stays(stays: WhatStays, console: Console) -> None:
    """Every file that stays and might matter, why, and what to do."""
    if not stays.is_known:
        render.section(console, "What stays")
        console.print("  Unclaimed files and secrets are looked for on a Linux only.")
        return
    _show_secrets(stays.secrets, console)
    if stays.knows_owners:
        _show_unclaimed(stays.unclaimed, console)
    else:
        render.section(console, "Unclaimed files")
        console.print("  Not known: the guest has no package database that lists files.")
    if stays.covered:
        render.section(console, "Beneath mount points")
        render.bullets(console, [one.sentence for one in stays.covered])
    if stays.is_empty:
        return
    console.print()
    render.bullets(
        console,
        [
            "What must go: remove it on the machine, or make it a trace in the house rules.",
            "What may stay: accept it in the house rules, such as",
        ],
    )
    rules = [one.rule for one in stays.secrets[:1]] + [one.rule for one in stays.unclaimed[:1]]
    render.items(console, rules)


def _show_secrets(secrets: tuple[StayingSecret, ...], console: Console) -> None:
    render.section(console, "Secrets that stay")
    if not secrets:
        console.print("  No secret in a known place or of a known look stays.")
    for kind, title in SECRET_KINDS.items():
        found = [one for one in secrets if one.kind == kind]
        if found:
            lines = [f"{one.path}: it {one.reason}" for one in found[:_MOST_OF_A_KIND]]
            if len(found) > _MOST_OF_A_KIND:
                lines.append(f"and {counted(len(found) - _MOST_OF_A_KIND, 'more file')}")
            console.print(f"  {capitalised(title)}")
            render.items(console, lines)


def _show_unclaimed(found: tuple[UnclaimedFile, ...], console: Console) -> None:
    render.section(console, "Unclaimed files")
    if not found:
        console.print("  No file that stays and that no package owns looks like identity.")
        return
    for one in found[:_MOST_NAMED]:
        title = f"{one.path}  ({size_text(one.size_bytes)})"
        render.titled(console, title, f"It {', and '.join(one.reasons)}.")
    if len(found) > _MOST_NAMED:
        more = counted(len(found) - _MOST_NAMED, "more file")
        render.indented(console, f"and {more}: --json lists all")
