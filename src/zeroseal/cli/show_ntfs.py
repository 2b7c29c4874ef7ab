"""How a Windows, and volumes of NTFS, look on a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import render
from zeroseal.cli.show_image import image_rows

if TYPE_CHECKING:
    from zeroseal.filesystems.driver import VolumeState
    from zeroseal.guests.windows.identity import WindowsFacts
    from zeroseal.sealing.survey import DataSurvey


def show_data_survey(survey: DataSurvey, console: Console) -> None:
    """The answer, what stands against a seal, the image, its volumes."""
    render.headline(console, "No system", render.FINDING_STYLE, " was found, but NTFS volumes.")
    console.print("Not ready to be sealed:")
    render.bullets(console, survey.blockers)
    render.section(console, "Image")
    render.facts(console, image_rows(survey.image))
    render.section(console, f"Volumes ({survey.disk.table})")
    render.disk_strip(console, survey.disk, survey.stored, survey.image.size_bytes)
    show_ntfs(survey.volumes, console)


def show_ntfs(volumes: tuple[VolumeState, ...], console: Console) -> None:
    """The volumes of NTFS, a section each."""
    for facts in volumes:
        render.section(console, f"NTFS on {facts.volume}")
        render.facts(console, _ntfs_rows(facts))


def show_system(windows: WindowsFacts, console: Console) -> None:
    """What is the machine's own, as far as its registry says it."""
    render.section(console, f"{windows.name}{f', build {windows.build}' if windows.build else ''}")
    identity = windows.identity
    accounts = [
        f"{item.name} ({item.rid}{', disabled' if item.disabled else ''})"
        for item in identity.accounts
    ]
    rows = [
        ("computer", windows.host_name or "unknown"),
        ("identifier", identity.sid),
        ("machine GUID", identity.machine_guid),
        ("update client", identity.update_id),
        ("accounts", ", ".join(accounts)),
        ("profiles", ", ".join(profile.folder for profile in identity.profiles)),
        ("set-up state", identity.image_state),
        ("next start", identity.first_start.value),
        ("registry", windows.problem),
    ]
    render.facts(console, [(name, text) for name, text in rows if text])


def _ntfs_rows(facts: VolumeState) -> list[tuple[str, str]]:
    if facts.problem:
        return [("not read", facts.problem)]
    used = facts.size_bytes - facts.free_bytes
    logs = {"closed": "closed", "empty": "empty", "open": "open, with entries left"}
    state = [*facts.flags, *(["asleep"] if facts.sleeps else [])] or ["clean"]
    return [
        ("label", facts.label or "none"),
        ("version", facts.version),
        ("state", ", ".join(state)),
        ("log", logs[facts.log]),
        (
            "size",
            f"{size_text(facts.size_bytes)}, {size_text(used)} of it used, clusters of "
            f"{size_text(facts.cluster_bytes)}",
        ),
    ]
