"""How what was learned looks on a terminal."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import render
from zeroseal.cli.show_builds import duration_text
from zeroseal.cli.show_trial import host_words
from zeroseal.errors import UsageError
from zeroseal.sealing.linux.learned import Renewal
from zeroseal.sentences import clean, counted, listed
from zeroseal.traces.load import get_trace

if TYPE_CHECKING:
    from zeroseal.machines.learn import LearnResult
    from zeroseal.sealing.linux.learned import LearnedFile

_MOST_NAMED = 25
_TITLES = {
    Renewal.OWN: "Different on each machine, and in no trace",
    Renewal.SHARED: "The same on both machines, and in no trace",
}


def show_learned(
    result: LearnResult, rules: Path | None, console: Console, every_file: bool
) -> None:
    """The answer, what no trace covers, what traces cover, and what to do."""
    learned = result.learned
    where = host_words(is_simulated=result.is_simulated)
    took = duration_text(result.seconds)
    if result.is_good:
        rest = f": no further identity was found on two machines {where}, in {took}."
        render.headline(console, "NOTHING NEW", render.SEALED_STYLE, rest)
    else:
        count = counted(len(learned.uncovered), "file")
        rest = f": {count} that no trace covers may be identity or a secret, {where}, in {took}."
        render.headline(console, "LEARNED", render.FINDING_STYLE, rest)
    if learned.shared_values:
        kinds = listed(learned.shared_values)
        console.print(f"Both machines have the same: {kinds}. The image is not fit to be cloned.")
    for renewal, title in _TITLES.items():
        found = [one for one in learned.uncovered if one.renewal is renewal]
        if found:
            render.section(console, title)
            _show_files(found, console)
    if learned.covered:
        render.section(console, "Covered by traces")
        rows = [
            (_title_of(trace), f"{trace}: {counted(count, 'file')}")
            for trace, count in sorted(learned.covered.items())
        ]
        render.facts(console, rows)
    render.section(console, "The rest")
    render.bullets(
        console,
        [
            f"{counted(learned.compared, 'file')} were compared.",
            f"{counted(learned.timely, 'file')} changed with each start: time, not identity.",
            f"{counted(len(learned.plain), 'file')} differed and did not look like identity.",
            *map(clean, result.notes),
        ],
    )
    if every_file:
        render.items(console, [clean(one.path) for one in learned.plain])
    _show_next(result, rules, console)


def _show_files(found: list[LearnedFile], console: Console) -> None:
    for one in found[:_MOST_NAMED]:
        origin = "made after the first start" if one.is_new else "the image has one too"
        title = f"{clean(one.path)}  ({size_text(one.size_bytes)}, {one.claim.value}, {origin})"
        render.titled(console, title, f"It {', and '.join(one.reasons)}.")
    if len(found) > _MOST_NAMED:
        more = counted(len(found) - _MOST_NAMED, "more file")
        render.indented(console, f"and {more}: --json lists all")


def _title_of(trace: str) -> str:
    try:
        return get_trace(trace).title
    except UsageError:
        return "of your house rules"


def _show_next(result: LearnResult, rules: Path | None, console: Console) -> None:
    image = result.image.path
    if result.is_good:
        if not result.learned.is_sealed:
            render.next_step(console, "See what a seal does:", f"zeroseal survey {image}")
        return
    if rules:
        text = f"Remove the '#' from the lines of your choice in {rules}, and seal with them:"
        render.next_step(console, text, f"zeroseal seal {image} --dry-run --rules {rules}")
        return
    text = "Decide on each file, in house rules that are drafted for it:"
    render.next_step(console, text, f"zeroseal learn {image} --draft-rules RULES.toml")
