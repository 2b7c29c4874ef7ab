"""How the survey of a disk with Windows, or with volumes of NTFS only, looks on a terminal."""

from __future__ import annotations

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import look
from zeroseal.cli.show_survey import image_rows
from zeroseal.guests.windows import NtfsFacts
from zeroseal.guests.windows_identity import WindowsIdentity
from zeroseal.sealing.windows_survey import WindowsSurvey


def show_windows_survey(survey: WindowsSurvey, console: Console) -> None:
    """The answer, what stands against a seal, the image, its volumes, the system."""
    windows = survey.windows
    if windows is None:
        look.headline(console, "No system", look.FINDING_STYLE, " was found, but volumes of NTFS.")
    else:
        build = f", build {windows.build}" if windows.build else ""
        rest = f"{build}, on {windows.volume}"
        look.headline(console, windows.name, look.FINDING_STYLE, rest)
    console.print("Not ready to be sealed:")
    look.bullets(console, survey.blockers)
    look.section(console, "Image")
    look.facts(console, image_rows(survey.image))
    look.section(console, f"Volumes ({survey.disk.table})")
    look.disk_strip(console, survey.disk, survey.stored, survey.image.size_bytes)
    for facts in survey.volumes:
        look.section(console, f"NTFS on {facts.volume}")
        look.facts(console, ntfs_rows(facts))
    if windows is not None:
        look.section(console, "System")
        rows = [("computer name", windows.host_name or "unknown"), *identity_rows(windows.identity)]
        if windows.problem:
            rows.append(("registry", windows.problem))
        look.facts(console, rows)


def identity_rows(identity: WindowsIdentity) -> list[tuple[str, str]]:
    """What is the machine's own, as far as its registry says it."""
    accounts = [
        f"{item.name} ({item.rid}{', disabled' if item.disabled else ''})"
        for item in identity.accounts
    ]
    rows = [
        ("identifier", identity.sid),
        ("machine GUID", identity.machine_guid),
        ("update client", identity.update_id),
        ("accounts", ", ".join(accounts)),
        ("profiles", ", ".join(identity.profiles)),
        ("set-up state", identity.image_state),
        ("next start", identity.first_start.value),
    ]
    return [(name, text) for name, text in rows if text]


def ntfs_rows(facts: NtfsFacts) -> list[tuple[str, str]]:
    """The facts of one volume."""
    if facts.problem:
        return [("not read", facts.problem)]
    used = facts.size_bytes - facts.free_bytes
    logs = {"closed": "closed", "empty": "empty", "open": "open, with work left"}
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
