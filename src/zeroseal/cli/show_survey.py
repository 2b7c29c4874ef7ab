"""How a survey looks on a terminal."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.cli import render
from zeroseal.cli.show_image import image_rows
from zeroseal.cli.show_ntfs import show_ntfs, show_system
from zeroseal.cli.show_seal import choice_words, option_words, reading_words
from zeroseal.cli.show_what_stays import show_what_stays
from zeroseal.guests.system import as_windows
from zeroseal.images.reach import is_named_as_raw
from zeroseal.sentences import clean, counted
from zeroseal.traces.finding import by_trace

if TYPE_CHECKING:
    from zeroseal.sealing.survey import Survey


def show_survey(
    survey: Survey, console: Console, every_place: bool, unclaimed: bool = False
) -> None:
    """The answer, the image, the findings, what stands against a seal, the next step."""
    groups = by_trace(survey.findings)
    if not groups:
        render.headline(
            console, "No trace", render.SEALED_STYLE, f" was found on {survey.system.name}."
        )
    else:
        count = len(survey.findings)
        kinds = counted(len(groups), "trace")
        rest = f" of {kinds} on {survey.system.name}"
        render.headline(console, counted(count, "finding"), render.FINDING_STYLE, rest)
    _show_readiness(survey, console)
    render.section(console, "Image")
    render.facts(console, image_rows(survey.image))
    windows = as_windows(survey.guest_system)
    system = [] if windows else [("host name", survey.system.host_name or "none")]
    if not survey.image.is_tree:
        render.section(console, f"Volumes ({survey.disk.table})")
        render.disk_strip(console, survey.disk, survey.stored, survey.image.size_bytes)
        mounts = ", ".join(f"{name} on {path}" for path, name in survey.mounts)
        system.insert(0, ("mounted", mounts))
    render.facts(console, system)
    if windows:
        show_system(windows.windows_facts, console)
        show_ntfs(survey.volume_states, console)
    if survey.policy.machine and survey.policy.machine.outside:
        render.section(console, "Identity outside the disk")
        outside = survey.policy.machine.outside
        render.facts(console, [(value.kind, clean(value.shown)) for value in outside])
    if groups:
        render.section(console, "Findings")
        render.trace_table(console, groups, every_place)
        render.section(console, "What clones get")
        render.bullets(console, survey.guard.assured + survey.guard.lock_outs)
    readiness = survey.readiness
    messages = readiness.consequences + readiness.advice + survey.guard.hints + readiness.hints
    if messages:
        render.section(console, "Good to know")
        render.bullets(console, messages)
    if unclaimed:
        show_what_stays(survey.readiness.stays, console)
    _show_next(survey, console)


def _show_readiness(survey: Survey, console: Console) -> None:
    if survey.is_ready:
        console.print("Ready to be sealed: nothing must be solved first.")
        return
    console.print("Not ready to be sealed:")
    refused = (*survey.readiness.blockers, *survey.guard.lock_outs)
    render.bullets(console, refused)


def _show_next(survey: Survey, console: Console) -> None:
    image = survey.image.path
    if survey.image.is_tree:
        options = " ".join(["", *option_words(survey.policy)])
        render.next_step(
            console,
            "Seal it into a new archive:" if survey.findings else "Check it later:",
            f"zeroseal seal --root {image} -o OUT.tar{options}"
            if survey.findings
            else f"zeroseal check --root {image}",
        )
        return
    if not survey.findings:
        render.next_step(console, "Compare it with its seal record:", f"zeroseal check {image}")
        return
    options = " ".join(["", *option_words(survey.policy)])
    if not survey.is_ready:
        reading, choices = reading_words(survey.policy), choice_words(survey.policy)
        words = " ".join(["", *reading, "--as-if", *(choices or ["OPTION ..."])])
        render.next_step(
            console,
            "Solve these in the guest, or choose options of a seal, and survey again:",
            f"zeroseal survey {image}{words}",
        )
        return
    sealed = _sealed_name(image, survey.image.format_name)
    render.next_step(
        console,
        "See the plan, then seal into a new file:",
        f"zeroseal seal {image} --dry-run{options}",
    )
    console.print(f"  zeroseal seal {image} -o {sealed}{options}", soft_wrap=True)


def _sealed_name(image: Path, format_name: str) -> Path:
    """A name for the sealed disk that every command takes for what it is."""
    format_name = "vmdk" if format_name == "ova" else format_name
    if image.is_block_device():
        return Path(f"{image.name}.sealed.raw")
    is_misleading = is_named_as_raw(image) and format_name != "raw"
    suffix = f".{format_name}" if is_misleading or not image.suffix else image.suffix
    return image.with_name(f"{image.stem}.sealed{suffix}")
