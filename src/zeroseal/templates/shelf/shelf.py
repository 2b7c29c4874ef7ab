"""The shelf: takes sealed images in, finds them again, and lets them go when nothing needs them."""

from __future__ import annotations

import shutil
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from zeroseal.errors import (
    DamagedError,
    MissingError,
    OutputExistsError,
    RefusedError,
    environment_error,
)
from zeroseal.messages import templates as messages
from zeroseal.sentences import counted, some_of
from zeroseal.templates.shelf.clone_links import Hold, ShelfClone, clones_of
from zeroseal.templates.shelf.entry import (
    Template,
    check_names,
    check_tag,
    write_entry,
)
from zeroseal.templates.shelf.index import Row, ShelfIndex

CURRENT, PREVIOUS, RETIRED = "current", "previous", "retired"
STATES = (CURRENT, PREVIOUS, RETIRED)
_MOST_TOLD = 6


class Shelf:
    """A folder of templates; a folder that is not there yet is an empty shelf."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.index = ShelfIndex(folder)
        if folder.exists() and not folder.is_dir():
            raise MissingError(messages.NOT_FOLDER.format(folder=folder))

    def templates(self) -> list[Template]:
        """All templates that can be understood, by name and the time they were added."""
        return with_states(self.index.rows())

    def problems(self) -> list[str]:
        """What is wrong with the entries that cannot be understood, sentences."""
        return [row.problem for row in self.index.rows() if row.problem]

    def get(self, wanted: str) -> Template:
        """The template ``NAME@VERSION``, or the current one of ``NAME``.

        Raises:
            MissingError: there is none; names what is there.
            DamagedError: its entry cannot be understood.
        """
        name, _at, version = wanted.partition("@")
        rows = self.index.rows()
        found = with_states(rows)
        fitting = [
            item
            for item in found
            if item.entry.name == name
            and (item.entry.version == version if version else item.state == CURRENT)
        ]
        if fitting:
            return fitting[-1]
        for row in rows:
            if row.problem and row.folder == self.folder / name / version:
                raise DamagedError(row.problem)
        titles = ", ".join(item.entry.title for item in found)
        retired = not version and any(item.entry.name == name for item in found)
        why = " that is not retired" if retired else ""
        raise MissingError(
            messages.NO_SUCH_TEMPLATE.format(
                folder=self.folder, wanted=wanted, why=why, titles=titles or "no templates"
            )
        )

    def versions(self, name: str) -> list[Template]:
        """All versions of a template, the oldest first.

        Raises:
            MissingError: there is none of that name.
        """
        found = [item for item in self.templates() if item.entry.name == name]
        if not found:
            self.get(name)  # raises, and names what is there
        return found

    def change(
        self,
        template: Template,
        *,
        notes: str | None = None,
        tags: Iterable[str] | None = None,
        retired_at: int | None = None,
    ) -> Template:
        """Changes what may change of an entry: nothing that its digest or record is about.

        Raises:
            UsageError: a tag that cannot be one.
        """
        entry = template.entry
        if tags is not None:
            entry = replace(entry, tags=tuple(dict.fromkeys(tags)))
            for tag in entry.tags:
                check_tag(tag)
        if notes is not None:
            entry = replace(entry, notes=notes)
        if retired_at is not None:
            entry = replace(entry, retired_at=retired_at)
        with self.index.locked():
            _check_there(template)
            write_entry(template.folder, entry)
        return self.get(entry.title)

    def retire(self, template: Template, despite: Iterable[str], now: int) -> Template:
        """Takes a template out of use; it stays where it is, and ``NAME`` no longer means it.

        Raises:
            RefusedError: linked clones hang on it that ``despite`` does not name.
        """
        check_lets_go(template, despite)
        return self.change(template, retired_at=now)

    def remove(self, template: Template, despite: Iterable[str] = ()) -> None:
        """Removes a template for good.

        Raises:
            RefusedError: linked clones hang on it that ``despite`` does not name.
            UnfinishedError: the shelf cannot be written to.
        """
        with self.index.locked():
            _check_there(template)
            check_lets_go(template, despite)
            removed = template.folder.with_name(f".{template.folder.name}.removed")
            try:
                shutil.rmtree(removed, ignore_errors=True)
                template.folder.rename(removed)  # at once, whatever comes next
                shutil.rmtree(removed)
                with suppress(OSError):
                    template.folder.parent.rmdir()
            except OSError as error:
                raise environment_error(error, template.folder, "removing") from error

    def rename(self, name: str, new_name: str) -> list[Template]:
        """Gives all versions of a template another name.

        Raises:
            UsageError: a name that cannot be one.
            OutputExistsError: it is taken.
            RefusedError: linked clones hang on one of them: they would not find it.
        """
        check_names(new_name, "1")
        found = self.versions(name)
        for template in found:
            check_lets_go(template, ())
        with self.index.locked():
            target = self.folder / new_name
            if target.exists():
                raise OutputExistsError(messages.TEMPLATE_NAME_TAKEN.format(new_name=new_name))
            try:
                (self.folder / name).rename(target)  # at once: a folder's name is the template's
            except OSError as error:
                raise environment_error(error, target, "renaming to") from error
        return self.versions(new_name)


def check_lets_go(template: Template, despite: Iterable[str]) -> None:
    """Raises RefusedError where linked clones hang on a template that ``despite`` does not name."""
    named = set(despite)
    hanging = [item for item in clones_of(template) if item.hold.needs_template]
    left = [item for item in hanging if not {item.noted.name, item.noted.uuid} & named]
    if left:
        raise RefusedError(
            messages.CLONES_DEPEND_ON_TEMPLATE.format(
                title=template.entry.title, name_clones=name_clones(left)
            )
        )


def name_clones(clones: list[ShelfClone]) -> str:
    """Clones that hang on a template, in a sentence."""
    names = [
        item.noted.name + (" (not found from here)" if item.hold is Hold.ELSEWHERE else "")
        for item in clones
    ]
    return f"{counted(len(clones), 'linked clone')}: {some_of(names, _MOST_TOLD)}"


def with_states(rows: list[Row]) -> list[Template]:
    """The templates of the rows; of each name the last one that is not retired is current."""
    entries = [(row.folder, row.entry) for row in rows if row.entry]
    entries.sort(key=lambda item: (item[1].name, item[1].added_at, item[0]))
    current = {entry.name: folder for folder, entry in entries if not entry.retired_at}
    return [
        Template(
            folder,
            entry,
            RETIRED
            if entry.retired_at
            else (CURRENT if current[entry.name] == folder else PREVIOUS),
        )
        for folder, entry in entries
    ]


def _check_there(template: Template) -> None:
    if not template.folder.is_dir():
        raise MissingError(messages.JUST_REMOVED_FROM_SHELF.format(title=template.entry.title))
