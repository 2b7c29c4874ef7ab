"""How the demo is told: each step with the command that does it by hand."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import look
from zeroseal.demo.scenario import (
    BY_ACCIDENT,
    CLONES,
    SEALED_DISK,
    SHEET,
    TEMPLATE,
    VERSION,
    DemoStory,
)
from zeroseal.sealing.check import CheckResult
from zeroseal.sealing.survey import by_trace
from zeroseal.traces.model import FAMILIES


def show_story(story: DemoStory, console: Console) -> None:
    """All steps, each in a few lines."""
    console.print(
        f"Saltmarsh Ferries make machines of their ticket gate. All of it is in {story.folder}/,\n"
        "for you to explore; the commands are to be typed there. People and keys are made up, and\n"
        "the host is simulated: machines are not run, their disks are changed as a boot would do."
    )
    disk = story.machine.disk.relative_to(story.folder)
    _step(console, 1, "A reference machine from a build sheet, used for a month.", f"build {SHEET}")
    _step(console, 2, "What identity is on its disk?", f"survey {disk}")
    _show_findings(story, console)
    _step(console, 3, "May it be cloned as it is?", f"check {disk}")
    _show_verdict(story.before, console)
    _step(console, 4, "Seal it into a new file.", f"seal {disk} -o {SEALED_DISK}")
    _show_seal(story, console)
    _step(console, 5, "Is the new file sealed?", f"check {SEALED_DISK}")
    _show_verdict(story.sealed, console)
    options = f"--name {TEMPLATE} --version {VERSION}"
    _step(console, 6, "Put it on the shelf.", f"shelf add {SEALED_DISK} {options}")
    names = " ".join(f"--name {name}" for name in CLONES)
    _step(
        console,
        7,
        "Make two linked clones and start both.",
        f"clone {TEMPLATE} {names} --to yard --linked",
        *(f"yard start {name}" for name in CLONES),
    )
    _show_clones(story, console)
    disks = " ".join(f"yard/{name}/disk.qcow2" for name in CLONES)
    _step(console, 8, "Are they two machines?", f"compare {disks}")
    _show_comparison(story, console)
    _step(
        console,
        9,
        "Somebody starts the sealed disk itself. Is it still good?",
        f"yard adopt {SEALED_DISK} --name {BY_ACCIDENT}",
        f"yard start {BY_ACCIDENT}",
        f"check yard/{BY_ACCIDENT}/disk.qcow2",
    )
    _show_verdict(story.broken, console)
    _show_changed(story, console)


def _step(console: Console, number: int, title: str, *commands: str) -> None:
    look.section(console, f"{number}. {title}")
    for command in commands:
        console.print(Text(f"   $ zeroseal {command}", style=look.QUIET_STYLE), soft_wrap=True)


def _show_findings(story: DemoStory, console: Console) -> None:
    groups = by_trace(story.survey.findings)
    parts = []
    for family, title in FAMILIES.items():
        count = sum(len(group.findings) for group in groups if group.trace.family == family)
        parts.append(f"{title.partition(':')[0].lower()} {count}")
    look.indented(console, f"{len(story.survey.findings)} findings: {', '.join(parts)}.")


def _show_seal(story: DemoStory, console: Console) -> None:
    kept = size_text(story.result.output.allocated_bytes)
    look.indented(
        console,
        f"{len(story.result.planned.plan.treated)} findings treated and zeroed; the file system is "
        f"consistent; the new file reads back as verified and takes {kept}; the source is as it "
        "was.",
    )


def _show_clones(story: DemoStory, console: Console) -> None:
    for run in story.runs:
        definition = run.machine.definition
        text = f"{definition.name}: {definition.mac}, {run.machine.state.address}; "
        look.indented(console, text + "; ".join(run.told) + ".")


def _show_comparison(story: DemoStory, console: Console) -> None:
    line = Text("   ")
    if story.comparison.are_unique:
        line.append("UNIQUE", style=look.SEALED_STYLE)
        line.append(": new machine IDs, host keys, names and addresses; nothing is shared.")
    else:
        line.append("SHARED", style=look.BROKEN_STYLE)
    console.print(line)


def _show_changed(story: DemoStory, console: Console) -> None:
    files = story.broken.changed_files
    shown = ", ".join(files[:4])
    look.indented(console, f"Changed since: {shown} and {len(files) - 4} more.")


def _show_verdict(result: CheckResult, console: Console) -> None:
    line = Text("   ")
    line.append(result.verdict.value, style=look.VERDICT_STYLES[result.verdict])
    line.append(f": {result.reason}.")
    console.print(line)
