"""Commands on a shelf and a yard that are killed at any of their calls to the host.

``python -m tests.templates.killing WHAT SEALED FOLDER`` prints at how many places it was killed.
"""

from __future__ import annotations

import os
import shutil
import sqlite3
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.killing import count_calls, die_at
from tests.templates.conftest import add, make
from zeroseal.errors import ZeroSealError
from zeroseal.machines.yard import Yard
from zeroseal.sealing.check import check_record
from zeroseal.sealing.verdict import Verdict
from zeroseal.templates.shelf.clone_links import clones_of
from zeroseal.templates.shelf.shelf import Shelf

_MOST_PLACES = int(os.environ.get("ZEROSEAL_KILL_PLACES", "30"))  # more by hand
_CALLS = ("rename", "replace", "mkdir", "rmdir", "chmod", "link", "pwrite", "open")


def count_more_calls(patched: pytest.MonkeyPatch, told: Callable[[], None]) -> None:
    """As ``count_calls``, and also before names are given and taken."""
    count_calls(patched, told)

    def counted(real: Callable[..., Any]) -> Callable[..., Any]:
        def call(*words: Any, **more: Any) -> Any:
            told()
            return real(*words, **more)

        return call

    for name in _CALLS:
        patched.setattr(os, name, counted(getattr(os, name)))
    patched.setattr(shutil, "copyfile", counted(shutil.copyfile))
    patched.setattr(sqlite3, "connect", counted(sqlite3.connect))


def kill_everywhere(action: Callable[[], object], again: Callable[[bool], None]) -> int:
    """Kills an action at calls spread over all it makes, and looks after each kill.

    Args:
        action: does its work, from the same beginning each time.
        again: looks at what is there, told whether the action was killed; puts the beginning back.
    """
    calls: list[None] = []
    with pytest.MonkeyPatch.context() as patched:
        count_more_calls(patched, lambda: calls.append(None))
        action()
    again(False)  # noqa: FBT003 - a callable's arguments have no names
    places = sorted({n * len(calls) // _MOST_PLACES for n in range(_MOST_PLACES)})
    for place in places:
        again(die_at(place, action, count_more_calls))
    return len(places)


def kill_adding(sealed: Path, folder: Path) -> int:
    """A template is on the shelf, whole, or it is not."""
    seen = set()

    def look(was_killed: bool) -> None:
        shelf = Shelf(folder / "shelf")
        assert shelf.problems() == []
        found = shelf.templates()
        seen.add(bool(found))
        assert found or was_killed
        for template in found:
            assert check_record(template.disk).verdict is Verdict.SEALED
            shelf.remove(template)
        add(shelf, sealed, "other", "1")  # what a killed command left is swept away
        assert list((folder / "shelf").rglob(".other*")) == []
        shutil.rmtree(folder / "shelf")

    count = kill_everywhere(lambda: add(Shelf(folder / "shelf"), sealed, "gate", "1"), look)
    assert seen == {False, True}
    return count


def kill_cloning(sealed: Path, folder: Path) -> int:
    """All clones of a batch are in the yard, or none; each linked one is noted on the shelf."""
    template = add(Shelf(folder / "shelf"), sealed, "gate", "1")
    seen = set()

    def look(was_killed: bool) -> None:
        yard = Yard(folder / "yard")
        names = [item.definition.name for item in yard.machines()]
        assert names in ([], ["north", "south"])
        assert names or was_killed
        noted = {item.noted.name for item in clones_of(template) if item.hold.needs_template}
        assert noted >= set(names)
        seen.add(bool(names))
        if not names:
            make(template, yard, "north", "south", linked=True)  # nothing stands in its way
        for item in yard.machines():
            yard.remove(item.definition.name, with_disk=True)
        for left in yard.folder.iterdir():  # what was killed before it had a lock holds nothing
            assert left.is_file() or {path.suffix for path in left.iterdir()} <= {".part"}
        shutil.rmtree(folder / "yard")
        shutil.rmtree(template.clones_folder, ignore_errors=True)

    count = kill_everywhere(
        lambda: make(template, Yard(folder / "yard"), "north", "south", linked=True), look
    )
    assert seen == {False, True}
    return count


def kill_renaming(sealed: Path, folder: Path) -> int:
    """All versions have the old name, or the new one."""
    shelf, seen = Shelf(folder / "shelf"), set()
    add(shelf, sealed, "gate", "1")

    def look(_was_killed: bool) -> None:
        (template,) = shelf.templates()
        seen.add(template.entry.title)
        if template.entry.name == "pier":
            shelf.rename("pier", "gate")

    count = kill_everywhere(lambda: shelf.rename("gate", "pier"), look)
    assert seen == {"gate@1", "pier@1"}
    return count


KINDS = {"adding": kill_adding, "cloning": kill_cloning, "renaming": kill_renaming}

if __name__ == "__main__":
    what, image, place = sys.argv[1:]
    pytest.MonkeyPatch().setattr(os, "fsync", lambda _descriptor: None)
    try:
        sys.stdout.write(f"{KINDS[what](Path(image), Path(place))}\n")
    except ZeroSealError as error:
        sys.exit(error.message)
