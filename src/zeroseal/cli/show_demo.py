"""How the demo is told: each step with the command that does it by hand."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import render
from zeroseal.demo import scenario
from zeroseal.demo.desk import (
    DESK_DISK,
    DESK_MACHINE,
    DESK_TEMPLATE,
    DESK_VERSION,
    DESKS,
    SEALED_DESK,
    DeskStory,
)
from zeroseal.demo.scenario import SEALED_DISK, SHEET, VERSIONS, DemoStory
from zeroseal.sentences import capitalised, some_of
from zeroseal.traces.finding import by_trace
from zeroseal.traces.model import FAMILIES

if TYPE_CHECKING:
    from zeroseal.sealing.check import CheckResult
    from zeroseal.sealing.compare import Comparison


def show_story(story: DemoStory, console: Console) -> None:
    """All steps, each in a few lines."""
    console.print(
        "Saltmarsh Ferries create machines for their ticket gate, their "
        "bookkeeping server and\ntheir purser's desk, a Windows guest. Everything "
        f"is in {story.folder}/, for you to explore;\ntype the commands there. "
        "People and keys are made up, and the host is simulated:\nmachines are not "
        "run, their disks are changed as a boot would change them."
    )
    _show_sealing(story, console)
    _show_shelf(story, console)
    _show_clones(story, console)
    _show_desk(story.desk, console)
    _show_accident(story, console)


def _show_sealing(story: DemoStory, console: Console) -> None:
    disk = story.machine.disk.relative_to(story.folder)
    _step(console, 1, "A reference machine from a build sheet, used for a month.", f"build {SHEET}")
    _step(console, 2, "Which identity is on its disk?", f"survey {disk}")
    _show_findings(story, console)
    _step(console, 3, "Can it be cloned as it is?", f"check {disk}")
    _show_verdict(story.before, console)
    _step(console, 4, "Seal it into a new file.", f"seal {disk} -o {SEALED_DISK}")
    kept = size_text(story.result.output.allocated_bytes)
    render.indented(
        console,
        (
            f"{len(story.result.planned.plan.treated)} findings treated and zeroed; "
            "the file system is consistent; the new file reads back as verified and "
            f"takes {kept}; the source is unchanged."
        ),
    )
    _step(console, 5, "Is the new file sealed?", f"check {SEALED_DISK}")
    _show_verdict(story.sealed, console)


def _show_shelf(story: DemoStory, console: Console) -> None:
    name, other = scenario.TEMPLATE, scenario.OTHER_TEMPLATE
    patches = f"--settings {scenario.PATCHES}"
    _step(
        console,
        6,
        "Put it on the shelf; next month, patch the machine and add its next version.",
        f"shelf add {SEALED_DISK} --name {name} --version {VERSIONS[0]} --notes 'ticket gate'",
        f"renew {scenario.MACHINE} --template {name} --version {VERSIONS[1]} {patches}",
        f"shelf diff {name}@{VERSIONS[0]} {name}@{VERSIONS[1]}",
    )
    changed = [f"{item.name} {item.before} -> {item.after}" for item in story.difference.packages]
    files = len(story.difference.settings) + len(story.difference.files)
    render.indented(
        console,
        f"Packages: {', '.join(changed)}; other files that differ: {files}.",
    )
    _step(
        console,
        7,
        "The same for a second machine.",
        f"build {scenario.OTHER_SHEET}",
        f"renew {scenario.OTHER_MACHINE} --template {other} --version {VERSIONS[0]}",
        f"renew {scenario.OTHER_MACHINE} --template {other} --version {VERSIONS[1]} {patches}",
        "shelf list",
    )
    titles = [
        f"{item.entry.title} ({item.state})"
        for item in story.templates
        if item.entry.name != DESK_TEMPLATE
    ]
    render.indented(console, f"On the shelf: {', '.join(titles)}.")


def _show_clones(story: DemoStory, console: Console) -> None:
    names = [clone.machine.definition.name for clone in story.clones]
    _step(
        console,
        8,
        (
            "Four clones from two clone sheets: two linked ones that read a seed, and two "
            "full ones with their settings in their disks."
        ),
        f"clone --sheet {scenario.GATES} --to yard",
        f"clone {scenario.OTHER_TEMPLATE} --sheet {scenario.LEDGERS} --to yard",
        f"yard start {names[0]}  # and so on",
    )
    for run in story.runs[::2]:  # the two of a sheet become themselves in the same way
        render.indented(console, f"{run.machine.definition.name}: {'; '.join(run.messages)}.")
    disks = " ".join(str(c.machine.disk.relative_to(story.folder)) for c in story.clones)
    _step(
        console,
        9,
        "Are they four different machines, with the settings that were asked for?",
        f"compare {disks}",
    )
    text = "new machine IDs, host keys and names; nothing is shared."
    _show_comparison(story.comparison, text, console)
    for clone in story.clones[::2]:
        name = clone.machine.definition.name
        sheet = scenario.GATES if clone.machine.definition.linked else scenario.LEDGERS
        disk = clone.machine.disk.relative_to(story.folder)
        console.print(
            Text(f"   $ zeroseal check {disk} --as {sheet}", style=render.QUIET_STYLE),
            soft_wrap=True,
        )
        answers = story.answers[name]
        good = all(answer.is_good for answer in answers)
        line = Text("   ")
        style = render.SEALED_STYLE if good else render.BROKEN_STYLE
        line.append("AS ASKED" if good else "NOT AS ASKED", style=style)
        line.append(f": {', '.join(dict.fromkeys(answer.what for answer in answers))}.")
        console.print(line)


def _show_desk(desk: DeskStory, console: Console) -> None:
    disk = f"yard/{DESK_MACHINE}/disk.qcow2"
    names = [clone.machine.definition.name for clone in desk.clones]
    _step(
        console,
        10,
        "An existing machine with Windows: every clone would have its identifiers.",
        f"yard adopt {DESK_DISK} --name {DESK_MACHINE}",
        f"seal {disk} --dry-run",
    )
    render.indented(console, capitalised(desk.refusal))
    _step(
        console,
        11,
        "Seal it with a new security identifier, and give each clone its own.",
        f"seal {disk} -o {SEALED_DESK} --reissue-sid",
        f"shelf add {SEALED_DESK} --name {DESK_TEMPLATE} --version {DESK_VERSION} "
        '--notes "purser\'s desk"',
        f"clone --sheet {DESKS} --to yard --reissue-sid",
        f"yard start {names[0]}  # and the other",
        f"compare {' '.join(f'yard/{name}/disk.qcow2' for name in names)}",
    )
    _show_verdict(desk.sealed, console)
    for run in desk.runs[:1]:
        render.indented(console, f"{run.machine.definition.name}: {'; '.join(run.messages)}.")
    text = "the clones and their template share no identifier, key or name."
    _show_comparison(desk.comparison, text, console)


def _show_accident(story: DemoStory, console: Console) -> None:
    _step(
        console,
        12,
        "Somebody starts the sealed disk itself. Is it still sealed?",
        f"yard adopt {SEALED_DISK} --name {scenario.BY_ACCIDENT}",
        f"yard start {scenario.BY_ACCIDENT}",
        f"check yard/{scenario.BY_ACCIDENT}/disk.qcow2",
    )
    _show_verdict(story.broken, console)
    broken = story.broken.broken
    if broken:
        render.indented(console, f"What this looks like: {broken.looks_like}.")
        render.indented(console, f"Changed since: {some_of(broken.files, 3)}.")


def _step(console: Console, number: int, title: str, *commands: str) -> None:
    render.section(console, f"{number}. {title}")
    for command in commands:
        console.print(Text(f"   $ zeroseal {command}", style=render.QUIET_STYLE), soft_wrap=True)


def _show_findings(story: DemoStory, console: Console) -> None:
    groups = by_trace(story.survey.findings)
    parts = []
    for family, title in FAMILIES.items():
        count = sum(len(group.findings) for group in groups if group.trace.family == family)
        parts.append(f"{title.partition(':')[0].lower()} {count}")
    render.indented(console, f"{len(story.survey.findings)} findings: {', '.join(parts)}.")


def _show_comparison(comparison: Comparison, text: str, console: Console) -> None:
    line = Text("   ")
    if comparison.are_unique:
        line.append("UNIQUE", style=render.SEALED_STYLE)
        line.append(f": {text}")
    else:
        line.append("SHARED", style=render.BROKEN_STYLE)
    console.print(line)


def _show_verdict(result: CheckResult, console: Console) -> None:
    line = Text("   ")
    line.append(result.verdict.value, style=render.VERDICT_STYLES[result.verdict])
    line.append(f": {result.reason}.")
    console.print(line)
