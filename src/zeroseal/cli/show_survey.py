"""How a survey looks on a terminal."""

from __future__ import annotations

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import look
from zeroseal.cli.show_seal import option_words
from zeroseal.sealing.survey import ImageFacts, Survey, by_trace


def show_survey(survey: Survey, console: Console, every_place: bool) -> None:
    """The answer, the image, the findings, what stands against a seal, the next step."""
    groups = by_trace(survey.findings)
    if not groups:
        look.headline(
            console, "No trace", look.SEALED_STYLE, f" was found on {survey.system.name}."
        )
    else:
        count = len(survey.findings)
        kinds = f"{len(groups)} trace{'' if len(groups) == 1 else 's'}"
        rest = f" of {kinds} on {survey.system.name}"
        look.headline(
            console, f"{count} finding{'' if count == 1 else 's'}", look.FINDING_STYLE, rest
        )
    _show_readiness(survey, console)
    look.section(console, "Image")
    look.facts(console, image_rows(survey.image))
    system = [] if survey.windows else [("host name", survey.system.host_name or "none")]
    if not survey.image.is_tree:
        look.section(console, f"Volumes ({survey.disk.table})")
        look.disk_strip(console, survey.disk, survey.stored, survey.image.size_bytes)
        mounts = ", ".join(f"{name} on {path}" for path, name in survey.mounts)
        system.insert(0, ("mounted", mounts))
    look.facts(console, system)
    if survey.windows:
        from zeroseal.cli.show_ntfs import show_ntfs, show_system

        show_system(survey.windows, console)
        show_ntfs(survey.ntfs, console)
    if groups:
        look.section(console, "Findings")
        look.trace_table(console, groups, every_place)
        look.section(console, "Clones of a seal with these choices")
        look.bullets(console, survey.guard.assured + survey.guard.lock_outs)
    readiness = survey.readiness
    told = readiness.consequences + readiness.advice + survey.guard.hints + readiness.hints
    if told:
        look.section(console, "Good to know")
        look.bullets(console, told)
    _show_next(survey, console)


def image_rows(image: ImageFacts) -> list[tuple[str, str]]:
    """The facts of a container."""
    if image.is_tree:
        return [(image.format_name, str(image.path))]
    rows = [
        ("file", str(image.path)),
        (
            "format",
            f"{container_text(image)}, disk of {size_text(image.size_bytes)}, "
            f"{size_text(image.allocated_bytes)} of it stored, "
            f"file of {size_text(image.file_bytes)}",
        ),
    ]
    if image.extents:
        rows.append(("made of", ", ".join(path.name for path in image.extents)))
    if image.chain:
        rows.append(("backed by", ", ".join(str(path) for path in image.chain)))
    if image.snapshots:
        rows.append(("snapshots", ", ".join(image.snapshots)))
    return rows


def container_text(image: ImageFacts) -> str:
    """The container's format, and which kind of it."""
    return f"{image.format_name}, {image.variant}" if image.variant else image.format_name


def _show_readiness(survey: Survey, console: Console) -> None:
    if survey.is_ready:
        console.print("Nothing stands against a seal.")
        return
    console.print("Not ready to be sealed:")
    refused = (*survey.readiness.blockers, *survey.guard.lock_outs)
    look.bullets(console, refused)


def _show_next(survey: Survey, console: Console) -> None:
    image = survey.image.path
    if survey.image.is_tree:
        options = " ".join(["", *option_words(survey.choices)])
        look.next_step(
            console,
            "Seal it into a new archive:" if survey.findings else "Check it later:",
            f"zeroseal seal --root {image} -o OUT.tar{options}"
            if survey.findings
            else f"zeroseal check --root {image}",
        )
        return
    if not survey.findings:
        look.next_step(console, "Compare it with its seal record:", f"zeroseal check {image}")
        return
    suffix = image.suffix or ".img"
    sealed = image.with_name(f"{image.stem}.sealed{suffix}")
    options = " ".join(["", *option_words(survey.choices)])
    look.next_step(
        console,
        "Look at the plan, then seal into a new file:",
        f"zeroseal seal {image} --dry-run{options}",
    )
    console.print(f"  zeroseal seal {image} -o {sealed}{options}", soft_wrap=True)
