"""How the shelf looks on a terminal."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import render
from zeroseal.sealing.verdict import Verdict
from zeroseal.sentences import clean, counted
from zeroseal.templates.shelf.clone_links import Hold, ShelfClone
from zeroseal.templates.shelf.entry import Template, sealed_on
from zeroseal.traces.load import load_catalogue
from zeroseal.traces.model import FAMILIES

if TYPE_CHECKING:
    from pathlib import Path

    from zeroseal.sealing.record import SealRecord
    from zeroseal.templates.shelf.difference import Change, Difference
    from zeroseal.templates.shelf.sync import Synced
    from zeroseal.templates.shelf.verify import Verified

_MOST_FILES = 12
_MADE_ANEW = ("identity.", "keys.")
_MOST_CLONES = 12
_SIGN_STYLES = {"+": render.SEALED_STYLE, "-": render.BROKEN_STYLE, "~": render.FINDING_STYLE}


def show_shelf(
    templates: list[Template], problems: list[str], shelf: Path, console: Console, is_part: bool
) -> None:
    """All templates of a shelf, or those that were asked for."""
    if not templates and not problems:
        if is_part:
            console.print(f"The shelf {shelf} has no such template.")
            return
        console.print(f"The shelf {shelf} is empty.")
        command = f"zeroseal shelf add IMAGE --name NAME --version VERSION --shelf {shelf}"
        render.next_step(console, "Put a sealed image on it:", command)
        return
    count, used = len(templates), sum(item.disk_usage for item in templates)
    rest = f" on {shelf}, {size_text(used)}"
    render.headline(console, counted(count, "template"), "bold", rest)
    render.table(
        console,
        ("template", "state", "sealed", "disk", "stored", "clones", "system, tags, notes"),
        [
            (
                item.entry.title,
                item.state,
                sealed_on(item.entry),
                size_text(item.entry.size_bytes),
                size_text(item.disk_usage),
                str(item.clone_count or "-"),
                _about(item),
            )
            for item in templates
        ],
    )
    if problems:
        render.section(console, "Not readable")
        render.bullets(console, [f"{problem}." for problem in problems])


def show_template(
    template: Template,
    clones: list[ShelfClone],
    record: SealRecord | None,
    shelf: Path,
    console: Console,
) -> None:
    """One template: what it is, what was done to it, what regrows, who hangs on it."""
    entry = template.entry
    render.headline(console, entry.title, "bold", f"  {entry.system}  ({template.state})")
    render.facts(console, _rows(template, record))
    if record and record.treated:
        _show_treated(record, console)
    if record and record.lineage.patches:
        render.section(console, f"Changed since {record.lineage.previous or 'the last version'}")
        render.items(console, record.lineage.patches[:_MOST_FILES])
        _more(len(record.lineage.patches) - _MOST_FILES, console)
    render.section(console, "Clones")
    _show_clones(clones, console)
    if template.state == "retired":
        command = f"zeroseal shelf retire {entry.title} --undo --shelf {shelf}"
        render.next_step(console, "It is retired. Bring it back into use:", command)
        return
    command = f"zeroseal clone {entry.title} --shelf {shelf} --name NAME --to YARD"
    render.next_step(console, "Create machines from it:", command)


def show_verified(
    results: list[Verified], problems: list[str], shelf: Path, console: Console
) -> None:
    """Whether everything is what it was."""
    bad = [item for item in results if item.problem]
    count = len(results)
    if not results and not problems:
        console.print(f"The shelf {shelf} is empty: nothing to verify.")
        return
    if bad or problems:
        wrong = len(bad) + len(problems)
        render.headline(
            console,
            f"{wrong} of {count + len(problems)}",
            render.BROKEN_STYLE,
            " differ from their records",
        )
    else:
        rest = f": {counted(count, 'template')}, and every byte matches the seal records"
        render.headline(console, "All good", render.SEALED_STYLE, rest)
    rows: list[tuple[str, ...]] = [
        (item.template.entry.title, _state_of(item), _signed(item)) for item in results
    ]
    render.table(console, ("template", "state", "signed"), rows)
    messages = [f"{item.template.entry.title}: {item.problem}" for item in bad]
    render.bullets(console, [f"{problem}." for problem in [*messages, *problems]])
    if bad:
        command = f"zeroseal check {bad[0].template.disk}"
        render.next_step(console, "See what was changed, and do not clone it:", command)


def show_synced(
    synced: list[Synced], problems: list[str], target: Path, console: Console, dry_run: bool
) -> None:
    """What was copied to another shelf, and what could not be."""
    from zeroseal.templates.shelf.sync import Move

    if not synced and not problems:
        console.print("The shelf to copy from is empty: nothing to do.")
        return
    counts = {move: sum(item.move is move for item in synced) for move in Move}
    told = ", ".join(f"{count} {move.value}" for move, count in counts.items() if count)
    has_conflict = bool(counts[Move.CONFLICT] or problems)
    style = render.BROKEN_STYLE if has_conflict else render.SEALED_STYLE
    word = "Would synchronise" if dry_run else "Synchronised"
    rest = f" with {target}: {told or 'nothing'}"
    render.headline(console, f"{word}{' in part' if has_conflict else ''}", style, rest)
    render.table(
        console,
        ("template", "state here", "what", "why"),
        [
            (item.template.entry.title, item.template.state, item.move.value, item.reason)
            for item in synced
        ],
    )
    render.bullets(console, [f"{problem}." for problem in problems])


def _state_of(item: Verified) -> str:
    if not item.problem:
        return "as sealed"
    is_sealed = item.checked.verdict is Verdict.SEALED
    return "differs from its record" if is_sealed else item.checked.verdict.value


def show_difference(
    before: Template, after: Template, found: Difference, console: Console, every_file: bool
) -> None:
    """What differs between two templates."""
    titles = f"{before.entry.title} and {after.entry.title}"
    if found.is_empty:
        render.headline(console, "No difference", render.SEALED_STYLE, f" between {titles}")
        return
    render.headline(console, "Different", "bold", f"  {before.entry.title} -> {after.entry.title}")
    _show_changes("System", found.system, console, every=True)
    _show_changes("Packages", found.packages, console, every=True)
    _show_changes("Accounts", found.accounts, console, every=True)
    _show_changes("Settings (/etc)", found.settings, console, every_file)
    _show_changes("Other files", found.files, console, every_file)


def _show_changes(title: str, changes: tuple[Change, ...], console: Console, every: bool) -> None:
    if not changes:
        return
    render.section(console, f"{title}: {len(changes)}")
    shown = changes if every else changes[:_MOST_FILES]
    for item in shown:
        line = Text("    ")
        line.append(item.sign, style=_SIGN_STYLES[item.sign])
        value = item.after or item.before
        if item.sign == "~" and item.before != item.after:
            value = f"{item.before} -> {item.after}"
        line.append(f" {clean(item.name)}  ")
        line.append(clean(value), style=render.QUIET_STYLE)
        console.print(line, soft_wrap=True)
    _more(len(changes) - len(shown), console, " (--all lists them)")


def _more(count: int, console: Console, hint: str = "") -> None:
    if count > 0:
        console.print(f"      and {count} more{hint}")


def _rows(template: Template, record: SealRecord | None) -> list[tuple[str, str]]:
    entry = template.entry
    hardware = entry.hardware
    size = f"{size_text(entry.size_bytes)}, {size_text(template.disk_usage)} stored"
    rows = [("disk", f"{template.disk} ({entry.format_name}, {size})")]
    sealed = sealed_on(entry)
    if record:
        sealed += f" with zeroseal {record.tool_version}, level {record.level}"
    rows.append(("sealed", sealed))
    rows.append(("signature", ", ".join(entry.signers) or "not signed"))
    rows.append(("digest", entry.digest))
    machine = (
        f"{render.hardware_text(hardware)}, "
        f"{hardware.disk_bus} disk of {size_text(entry.clone_bytes)}, {hardware.card_model} card"
    )
    rows.append(("clones get", machine))
    if entry.abilities:
        rows.append(
            ("configured by", entry.abilities.seeded_by or "nothing: clones need --into-disk")
        )
    if record and record.planted:
        rows.append(("planted", ", ".join(record.planted)))
    if record and record.retained_accounts:
        rows.append(("kept", f"accounts {', '.join(record.retained_accounts)}"))
    if entry.previous:
        rows.append(("follows", f"{entry.name}@{entry.previous}"))
    if entry.retired_at:
        rows.append(("retired", datetime.fromtimestamp(entry.retired_at, UTC).strftime("%Y-%m-%d")))
    rows.append(("tags", ", ".join(entry.tags) or "none"))
    rows.append(("notes", entry.notes or "none"))
    return rows


def _show_treated(record: SealRecord, console: Console) -> None:
    """How much went, by family; and what a clone needs of it, with what makes that again."""
    counts = []
    for family, title in FAMILIES.items():
        count = sum(item.findings for item in record.treated if item.trace.startswith(f"{family}."))
        if count:
            counts.append(f"{title.partition(':')[0].lower()} {count}")
    render.section(console, "What the seal did")
    render.indented(console, f" Removed: {', '.join(counts)} findings.")
    titles = {trace.id: trace.title for trace in load_catalogue()}
    regrown = [
        (titles.get(item.trace, item.trace), item.regrowth)
        for item in record.treated
        if item.trace.startswith(_MADE_ANEW) and not item.regrowth.startswith("not needed")
    ]
    if regrown:
        render.section(console, "What regrows on a clone")
        render.facts(console, [(f"  {title}", text) for title, text in regrown])


def _show_clones(clones: list[ShelfClone], console: Console) -> None:
    if not clones:
        console.print("    none")
        return
    needed = [item for item in clones if item.hold.needs_template]
    shown = [*needed, *(item for item in clones if not item.hold.needs_template)][:_MOST_CLONES]
    rows = [
        (
            item.noted.name,
            "linked" if item.hold in (Hold.DEPENDS, Hold.ELSEWHERE) else "full",
            _HOLDS[item.hold],
            item.noted.disk,
        )
        for item in shown
    ]
    render.table(
        console, ("  clone", "kind", "state", "disk"), [(f"  {r[0]}", *r[1:]) for r in rows]
    )
    _more(len(clones) - len(shown), console)
    if needed:
        count = len(needed)
        text = f"{counted(count, 'linked clone')} {'needs' if count == 1 else 'need'}"
        console.print(f"    {text} this template: it cannot be removed while they do.")


_HOLDS = {
    Hold.FULL: "stands alone",
    Hold.DEPENDS: "depends on it",
    Hold.ELSEWHERE: "not found from here",
    Hold.GONE: "removed",
}


def _about(template: Template) -> str:
    entry = template.entry
    tags = " ".join(f"[{tag}]" for tag in entry.tags)
    return "; ".join(part for part in (entry.system, tags, entry.notes) if part)


def _signed(item: Verified) -> str:
    if item.checked.signer:
        return item.checked.signer
    record = item.checked.record
    return "yes, not verified" if record and record.envelope else "no"
