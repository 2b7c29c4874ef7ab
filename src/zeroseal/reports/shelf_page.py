"""The shelf as static pages: one with all templates, one for each; no scripts, no other host.

Everything that a guest or a person wrote is text there: it is escaped, and its control characters
and marks of direction are replaced. Names of files are those of templates, which have a form.
"""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path
from typing import Any

from zeroseal import __version__
from zeroseal.blocks.sizes import size_text
from zeroseal.errors import (
    MissingExtraError,
    OutputExistsError,
    ZeroSealError,
    environment_error,
)
from zeroseal.guests.components import TITLES, Contents
from zeroseal.images.output_folder import OutputFolder, sweep_unfinished
from zeroseal.messages import reports as messages
from zeroseal.reports.bill_of_materials import Described, build_cyclonedx
from zeroseal.sealing.record import SealRecord, find_record
from zeroseal.sealing.signing import TrustedKey, find_signer
from zeroseal.sealing.what_stays import SECRET_KINDS
from zeroseal.sentences import clean, counted, listed
from zeroseal.templates.shelf.clone_links import clones_of
from zeroseal.templates.shelf.contents_file import CONTENTS_FILE, contents_of
from zeroseal.templates.shelf.difference import compare_contents
from zeroseal.templates.shelf.entry import Template, sealed_on
from zeroseal.templates.shelf.shelf import Shelf
from zeroseal.traces.load import load_catalogue

_PAGES = "reports/pages"
_STYLE, _INDEX = "page.css", "index.html"
_MARK = ".zeroseal-shelf-page"
_DAY_SECONDS = 86_400
_PLOT_WIDTH, _PLOT_LEFT, _PLOT_ROW = 560, 110, 26
_PLOT_LETTERS = 16


@dataclass(frozen=True)
class WrittenPages:
    """What was written.

    Attributes:
        templates: how many have a page.
        bills: how many of them have a bill of materials; none without the extra for it.
    """

    folder: Path
    templates: int
    bills: int


@dataclass(frozen=True)
class _Known:
    """What the shelf knows of a template, without its disk."""

    template: Template
    record: SealRecord | None
    contents: Contents | None
    problems: tuple[str, ...]

    @property
    def folder(self) -> str:
        return self.template.entry.name

    @property
    def stem(self) -> str:
        return f"{self.template.entry.name}/{self.template.entry.version}"


def write_pages(
    shelf: Shelf, folder: Path, now: int, trusted: tuple[TrustedKey, ...] = ()
) -> WrittenPages:
    """Writes all pages into a folder; one that this wrote before is replaced at once.

    Args:
        shelf: whose templates.
        folder: where the pages go.
        now: seconds since 1970.
        trusted: whose signatures are verified; none for nobody's.

    Raises:
        OutputExistsError: the folder holds something else.
        UnfinishedError: it cannot be written.
    """
    if folder.exists() and any(folder.iterdir()) and not (folder / _MARK).is_file():
        raise OutputExistsError(messages.FOLDER_HOLDS_OTHER.format(folder=folder), path=str(folder))
    known = [_read(template) for template in shelf.templates()]
    sweep_unfinished(folder.parent)
    try:
        with OutputFolder(folder, gives_way=True) as output:
            bills = _fill(output.path, known, shelf, now, trusted)
            (output.path / _MARK).touch()
            _replace(folder, output)
    except OSError as error:
        raise environment_error(error, folder, "writing") from error
    return WrittenPages(folder, len(known), bills)


def _replace(folder: Path, output: OutputFolder) -> None:
    """Old pages stand until the new ones are there."""
    if not folder.exists():
        output.commit()
        return
    old = folder.with_name(f".{folder.name}.replaced")
    shutil.rmtree(old, ignore_errors=True)
    folder.rename(old)
    try:
        output.commit()
    except BaseException:
        old.rename(folder)
        raise
    shutil.rmtree(old)


def _fill(
    folder: Path,
    known: list[_Known],
    shelf: Shelf,
    now: int,
    trusted: tuple[TrustedKey, ...],
) -> int:
    from jinja2 import Environment, PackageLoader, StrictUndefined

    jinja = Environment(
        loader=PackageLoader("zeroseal", _PAGES),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
        undefined=StrictUndefined,
        finalize=lambda value: clean(value) if isinstance(value, str) else value,
    )
    common = {"version": __version__, "made_at": _moment(now)}
    style = files("zeroseal").joinpath(f"{_PAGES}/{_STYLE}").read_text()
    (folder / _STYLE).write_text(style)
    bills = _write_bills(folder, known)
    pages = [_page(item, now, trusted, item.stem in bills) for item in known]
    _add_changes(known, pages)
    problems = shelf.problems()
    index = jinja.get_template(_INDEX).render(
        common, up="", shelf=str(shelf.folder), pages=pages, problems=problems,
        summary=_summary(known),
    )  # fmt: skip
    (folder / _INDEX).write_text(index)
    for item, page in zip(known, pages, strict=True):
        versions = [other for other in pages if other["name"] == page["name"]]
        text = jinja.get_template("template.html").render(
            common, up="../", page=page, versions=versions, plot=_plot(versions, page["title"])
        )
        (folder / item.folder).mkdir(exist_ok=True)
        (folder / page["file"]).write_text(text)
    return len(bills)


def _read(template: Template) -> _Known:
    problems: list[str] = []
    record, contents = None, None
    try:
        record = find_record(template.disk)
        if record is None:
            problems.append("It has no seal record: run zeroseal shelf verify.")
        elif (template.folder / CONTENTS_FILE).is_file():
            contents = contents_of(template)
    except ZeroSealError as error:
        problems.append(f"{error.message[:1].upper()}{error.message[1:]}.")
    if not template.disk.is_file():
        problems.append("Its disk is missing.")
    if record and record.root != template.entry.digest:
        problems.append("Its seal record is of another disk: run zeroseal shelf verify.")
    return _Known(template, record, contents, tuple(problems))


def _write_bills(folder: Path, known: list[_Known]) -> set[str]:
    """The templates, by their stem, that have a bill of materials now."""
    written = set()
    for item in known:
        if item.contents is None:
            continue
        entry = item.template.entry
        described = Described(entry.title, item.contents, entry.sealed_at, entry.digest)
        try:
            bill = build_cyclonedx(described)
        except MissingExtraError:
            return set()
        (folder / item.folder).mkdir(exist_ok=True)
        (folder / f"{item.stem}.cdx.json").write_bytes(bill)
        written.add(item.stem)
    return written


def _page(
    item: _Known, now: int, trusted: tuple[TrustedKey, ...], has_bill: bool
) -> dict[str, Any]:
    template, record = item.template, item.record
    entry = template.entry
    signature, signature_class = _signature(record, trusted)
    page: dict[str, Any] = {
        "title": entry.title,
        "name": entry.name,
        "version": entry.version,
        "file": f"{item.stem}.html",
        "state": template.state,
        "system": entry.system,
        "sealed": sealed_on(entry),
        "patched": _day(_changed_at(item), now),
        "disk_size": size_text(entry.size_bytes),
        "stored": size_text(template.disk_usage),
        "stored_bytes": template.disk_usage,
        "notes": entry.notes,
        "signature": signature,
        "signature_class": signature_class,
        "problems": item.problems,
        "treated": _treated(record),
        "kept": _kept(record),
        "stays": _stays(record),
        "stays_known": record is not None and record.stays is not None and record.stays.is_known,
        "clones": [
            {
                "name": clone.noted.name,
                "kind": "linked" if clone.noted.linked else "full",
                "hold": clone.hold.value,
                "disk": clone.noted.disk,
            }
            for clone in clones_of(template)
        ],
        "bill": f"{item.stem}.cdx.json" if has_bill else "",
        "previous": "",
        "changes": (),
        "trust": "" if trusted else "Signatures were not verified: no trusted key was given.",
    }
    page["facts"] = _facts(item, page, now)
    return page | _contents_part(item.contents)


def _facts(item: _Known, page: dict[str, Any], now: int) -> list[tuple[str, str, str]]:
    entry, record = item.template.entry, item.record
    rows = [
        ("sealed", f"{_moment(entry.sealed_at)}, {_ago(entry.sealed_at, now)}", ""),
        ("added to the shelf", _moment(entry.added_at), ""),
        ("last change of a package", page["patched"], ""),
        ("level of the proof", _level(record), ""),
        ("signature", page["signature"], page["signature_class"]),
        ("disk", f"{page['disk_size']}, {page['stored']} stored as {entry.format_name}", ""),
        ("disk digest", entry.digest, ""),
        ("replaces", entry.previous, ""),
        ("retired", _moment(entry.retired_at) if entry.retired_at else "", ""),
        ("tags", ", ".join(entry.tags), ""),
        ("note", entry.notes, ""),
    ]
    return [row for row in rows if row[1]]


def _level(record: SealRecord | None) -> str:
    if record is None:
        return ""
    meaning = {
        "deep": "the file systems, the catalogue, and a search of every byte for removed values",
        "full": "the file systems and the catalogue; the bytes were not searched",
    }
    return f"{record.level}: {meaning.get(record.level, 'see its record')}"


def _changed_at(item: _Known) -> int:
    if item.contents:
        return item.contents.changed_at
    recorded = item.record.contents if item.record else None
    return recorded.changed_at if recorded else 0


def _signature(record: SealRecord | None, trusted: tuple[TrustedKey, ...]) -> tuple[str, str]:
    """(what is said of it, the class of its colour)."""
    if record is None or record.envelope is None:
        return "not signed", "finding"
    named = ", ".join(key for key in record.envelope.key_ids if key) or "a key without id"
    if not trusted:
        return f"signed by {named} (not verified here)", ""
    signer = find_signer(record.envelope, trusted)
    if signer:
        return f"signed by {signer.name} ({signer.key_id})", "good"
    return f"signed by {named}, and no trusted key made that signature", "broken"


def _treated(record: SealRecord | None) -> list[dict[str, str]]:
    titles = {trace.id: trace for trace in load_catalogue()}
    rows = []
    for treated in record.treated if record else ():
        trace = titles.get(treated.trace)
        rows.append(
            {
                "id": treated.trace,
                "title": trace.title if trace else treated.trace,
                "why": trace.why if trace else "not in this version's catalogue",
                "places": str(treated.findings),
                "regrowth": treated.regrowth,
            }
        )
    return rows


def _kept(record: SealRecord | None) -> list[tuple[str, str]]:
    if record is None:
        return []
    kept = [(f"trace {name} was found and left", "finding") for name in record.skipped]
    if record.retained_accounts:
        kept.append((f"accounts {listed(record.retained_accounts)}", ""))
    if record.keep_root_login:
        kept.append(("the password and login keys of root", "finding"))
    return kept + [
        (f"{value} is still in {place}: it was accepted", "finding")
        for value, place in record.accepted
    ]


def _stays(record: SealRecord | None) -> list[tuple[str, str]] | None:
    if record is None or record.stays is None:
        return None
    unclaimed = [(path, "a file that no package owns") for path in record.stays.unclaimed]
    secrets = [(path, SECRET_KINDS.get(kind, kind)) for path, kind in record.stays.secrets]
    return unclaimed + secrets


def _contents_part(contents: Contents | None) -> dict[str, Any]:
    if contents is None:
        text = "There is no list of contents beside its disk: zeroseal contents reads the disk."
        return {"components": None, "contents_problem": text, "contents_summary": ""}
    groups = [
        (TITLES[kind], [item for item in contents.components if item.kind is kind])
        for kind in contents.counts
    ]
    titles = [f"{len(items)} {title}" for title, items in groups]
    summary = f"{listed(titles) or 'Nothing'}; the digest of the list is {contents.digest}."
    return {"components": groups, "contents_problem": "", "contents_summary": summary}


def _add_changes(known: list[_Known], pages: list[dict[str, Any]]) -> None:
    by_stem = {item.stem: item for item in known}
    for item, page in zip(known, pages, strict=True):
        entry = item.template.entry
        before = by_stem.get(f"{entry.name}/{entry.previous}")
        if before and before.contents and item.contents:
            page["previous"] = before.template.entry.title
            page["changes"] = compare_contents(before.contents, item.contents)


def _plot(versions: Sequence[dict[str, Any]], here: str) -> dict[str, Any]:
    """Bars on one scale, in a drawing of fixed size that the page fits to its width."""
    most = max([1, *(item["stored_bytes"] for item in versions)])
    room = _PLOT_WIDTH - _PLOT_LEFT - 90
    bars = [
        {
            "version": item["version"]
            if len(item["version"]) <= 20
            else item["version"][:19] + "…",
            "y": number * _PLOT_ROW,
            "length": max(2, round(room * item["stored_bytes"] / most)),
            "size": item["stored"],
            "is_here": item["title"] == here,
        }
        for number, item in enumerate(versions)
    ]
    height = max(1, len(bars)) * _PLOT_ROW
    return {"width": _PLOT_WIDTH, "height": height, "left": _PLOT_LEFT, "bars": bars}


def _short(version: str) -> str:
    return version if len(version) <= _PLOT_LETTERS else f"{version[: _PLOT_LETTERS - 1]}…"


def _summary(known: list[_Known]) -> str:
    stored = size_text(sum(item.template.disk_usage for item in known))
    current = sum(item.template.state == "current" for item in known)
    return f"{counted(len(known), 'template')}, {current} of them current; {stored} stored."


def _moment(seconds: int) -> str:
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d %H:%M UTC")


def _day(seconds: int, now: int) -> str:
    """A day, and how many days ago that was."""
    if not seconds:
        return "not known"
    return f"{_moment(seconds).partition(' ')[0]}, {_ago(seconds, now)}"


def _ago(seconds: int, now: int) -> str:
    days = now // _DAY_SECONDS - seconds // _DAY_SECONDS
    return f"{counted(days, 'day')} ago" if days > 0 else "today"
