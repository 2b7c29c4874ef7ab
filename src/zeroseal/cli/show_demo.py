"""How the demo is told: each step with the command that does it by hand."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import look
from zeroseal.demo.scenario import CHANGED_FILE, DemoStory
from zeroseal.sealing.check import CheckResult
from zeroseal.sealing.survey import by_trace
from zeroseal.traces.model import FAMILIES


def show_story(story: DemoStory, console: Console) -> None:
    """All steps, the answers first."""
    before, sealed, broken = story.before, story.sealed, story.broken
    console.print(
        "Saltmarsh Ferries want a template of gangway, their ticket gate. Its disk, with a year\n"
        "of use on it, and all that follows are in the folder "
        f"{story.folder}.\nPeople and keys are made up."
    )
    _step(console, 1, "What is on the disk?", f"zeroseal survey {before.path}")
    _show_findings(story, console)
    _step(console, 2, "May it be cloned as it is?", f"zeroseal check {before.path}")
    _show_verdict(before, console)
    sealed_path = sealed.path
    _step(console, 3, "Seal it into a new file.", f"zeroseal seal {before.path} -o {sealed_path}")
    _show_seal(story, console)
    _step(console, 4, "Is the new file sealed?", f"zeroseal check {sealed_path}")
    _show_verdict(sealed, console)
    _step(
        console,
        5,
        f"Somebody changes one file, {CHANGED_FILE}, in a copy.",
        f"zeroseal check {broken.path}",
    )
    _show_verdict(broken, console)
    look.facts(console, [("changed", path) for path in broken.changed_files])
    look.next_step(console, "Go on yourself:", f"zeroseal seal {before.path} --dry-run --places")
    console.print("  zeroseal traces", soft_wrap=True)


def _step(console: Console, number: int, title: str, command: str) -> None:
    look.section(console, f"{number}. {title}")
    console.print(Text(f"   $ {command}", style=look.QUIET_STYLE), soft_wrap=True)


def _show_findings(story: DemoStory, console: Console) -> None:
    groups = by_trace(story.survey.findings)
    for family, title in FAMILIES.items():
        titles = [group.trace.title for group in groups if group.trace.family == family]
        if titles:
            look.facts(console, [(title.partition(":")[0].ljust(9), ", ".join(titles))])


def _show_seal(story: DemoStory, console: Console) -> None:
    plan = story.result.planned.plan
    kept = size_text(story.result.output.allocated_bytes)
    look.bullets(
        console,
        [
            f"{len(plan.treated)} findings treated; what went is zeroed, names and free space too.",
            *plan.guard.assured,
            f"The file system is consistent; the new file reads back as verified, takes {kept}.",
            f"The source was not changed: {story.before.path} still holds everything.",
        ],
    )


def _show_verdict(result: CheckResult, console: Console) -> None:
    line = Text("   ")
    line.append(result.verdict.value, style=look.VERDICT_STYLES[result.verdict])
    line.append(f": {result.reason}.")
    console.print(line)
