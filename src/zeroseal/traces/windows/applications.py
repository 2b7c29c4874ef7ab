"""Finding the registrations of packaged applications that belong to removed accounts."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.guest import Guest
from zeroseal.guests.windows.sids import sid_raw
from zeroseal.guests.windows.sqlite_rows import without_rows
from zeroseal.traces.changes import PathChange, RemovePath, Workbench
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.model import Treatment
from zeroseal.traces.windows.context import WindowsContext

_FOLDER = "/ProgramData/Microsoft/Windows/AppRepository"
_DATABASES = f"{_FOLDER}/*.srd"
_SIDE_FILES = ("-wal", "-shm")
_LONGEST = 1 << 29


@dataclass(frozen=True)
class DropRows(PathChange):
    """Takes the rows that name removed accounts out of a database, and empties its side files."""

    treatment = Treatment.REWRITE

    names: tuple[bytes, ...]

    def edited(self, guest: Guest) -> bytes | None:
        """The new content; None where nothing is to be done, or where it cannot be.

        What cannot be changed stays, and the search of the seal finds what it holds.
        """
        log_path = f"{self.path}-wal"
        log = guest.read_file(log_path, _LONGEST) if guest.is_file(log_path) else b""
        try:
            return without_rows(guest.read_file(self.path, _LONGEST), self.names, log)
        except ValueError:
            return None

    def apply(self, bench: Workbench) -> None:  # noqa: D102 - as in Change
        content = self.edited(bench.guest)
        if content is None:
            return
        bench.guest.replace_content(self.path, content)
        for ending in _SIDE_FILES:
            if bench.guest.is_file(self.path + ending):
                bench.guest.remove(self.path + ending)


class PackagedApplications(Finder[WindowsContext]):
    """Finds databases of packaged applications with rows of removed accounts."""

    name = "packaged-applications"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        names = [
            name.lower().encode() for name in (*context.removed_sids, *context.removed_folders)
        ]
        names += [sid_raw(sid) for sid in context.removed_sids]
        if not names:
            return
        for path in context.guest.glob(_DATABASES):
            change = DropRows(path, tuple(names))
            if change.edited(context.guest) is not None:
                yield change, "rows of an account that is removed"
        for name in context.removed_sids:
            for path in context.guest.glob(f"{_FOLDER}/Packages/*/{name}*"):
                yield RemovePath(path), "of an account that is removed"
            for path in context.guest.glob(f"{_FOLDER}/Families/*/{name}*"):
                yield RemovePath(path), "of an account that is removed"
