"""The clones that were made of a template, and whether they still hang on it.

Each is a small file in the template's folder, ``clones/UUID.json``. A linked clone is lost without
its template, so the shelf asks its disk; one whose folder cannot be seen from here counts as
hanging until somebody says ``shelf forget``.
"""

from __future__ import annotations

import json
from contextlib import suppress
from dataclasses import asdict, dataclass
from enum import Enum
from pathlib import Path

from zeroseal.documents import convert
from zeroseal.errors import DamagedError, MissingError, ZeroSealError, environment_error
from zeroseal.images.container_file import BorrowedFile
from zeroseal.images.host_file import HostFile
from zeroseal.images.output import replace_small_file
from zeroseal.images.qcow2.layout import MAGIC
from zeroseal.images.qcow2.read import Qcow2Image
from zeroseal.machines.yard import YardMachine
from zeroseal.messages import templates as messages
from zeroseal.templates.shelf.entry import CLONES_FOLDER, ENTRY_FILE, Template


class Hold(Enum):
    """How a clone stands to its template."""

    FULL = "full"
    DEPENDS = "depends on it"
    ELSEWHERE = "elsewhere"
    GONE = "gone"

    @property
    def needs_template(self) -> bool:
        """Whether it would be lost with its template, as far as can be told."""
        return self in (Hold.DEPENDS, Hold.ELSEWHERE)


@dataclass(frozen=True)
class NotedClone:
    """A clone as it was made.

    Attributes:
        disk: absolute, on the host that made it.
        macs: of its network cards.
        batch: what was made together.
        made_at: seconds since 1970.
    """

    uuid: str
    name: str
    disk: str
    linked: bool
    macs: tuple[str, ...] = ()
    batch: str = ""
    made_at: int = 0


@dataclass(frozen=True)
class ShelfClone:
    """A noted clone, and how it stands to its template now."""

    noted: NotedClone
    hold: Hold


def note_clone(template: Template, clone: NotedClone) -> None:
    """Notes a clone; before it gets its name, so that it is never without its note.

    Raises:
        UnfinishedError: the shelf cannot be written to.
    """
    try:
        template.clones_folder.mkdir(exist_ok=True)
    except OSError as error:
        raise environment_error(error, template.clones_folder, "writing") from error
    text = json.dumps(asdict(clone), indent=1).encode() + b"\n"
    replace_small_file(template.clones_folder / f"{clone.uuid}.json", text)


def forget_clone(template: Template, uuid: str) -> None:
    """Drops a clone's note; one that is not there is no matter."""
    with suppress(OSError):
        (template.clones_folder / f"{uuid}.json").unlink()
        template.clones_folder.rmdir()  # if it was the last one


def noted_clones(template: Template) -> list[NotedClone]:
    """All notes, by name.

    Raises:
        DamagedError: one cannot be understood.
    """
    found = []
    for path in template.clones_folder.glob("[!.]*.json"):
        try:
            found.append(convert(json.loads(path.read_bytes()), NotedClone))
        except FileNotFoundError:
            continue  # it goes just now
        except (OSError, ValueError, RecursionError) as error:
            raise DamagedError(messages.CLONE_RECORD_UNREADABLE.format(path=path)) from error
    return sorted(found, key=lambda clone: clone.name)


def clones_of(template: Template) -> list[ShelfClone]:
    """All clones that were made of a template, each with how it stands to it now."""
    return [ShelfClone(clone, hold_of(template, clone)) for clone in noted_clones(template)]


def hold_of(template: Template, clone: NotedClone) -> Hold:
    """How a clone stands to its template, by what lies where it was made."""
    disk = Path(clone.disk)
    if disk.is_file():
        depends = backing_of(disk) == template.disk.resolve()
        return Hold.DEPENDS if depends else Hold.FULL
    # its yard is here and it is not: it was removed, not only out of sight
    if disk.parent.parent.is_dir():
        return Hold.GONE
    return Hold.ELSEWHERE if clone.linked else Hold.GONE


def backing_of(disk: Path) -> Path | None:
    """What a qcow2 overlay hangs on, by its header alone: it may be in use."""
    try:
        file = HostFile(disk)
    except ZeroSealError:
        return None
    try:
        if file.read(0, min(file.size_bytes, len(MAGIC))) != MAGIC:
            return None
        name = Qcow2Image(BorrowedFile(file)).backing_name.removeprefix("file:")
        return (disk.parent / name).resolve() if name else None
    except ZeroSealError:
        return None
    finally:
        file.close()


def forget_machine(machine: YardMachine) -> None:
    """Drops the note of a machine that is about to go, wherever its template's shelf is."""
    uuid = machine.definition.uuid
    folders = [Path(machine.definition.template_folder)] if machine.definition.template else []
    backing = backing_of(machine.disk) if machine.definition.linked else None
    folders += [backing.parent] if backing else []
    for folder in folders:
        note = folder / CLONES_FOLDER / f"{uuid}.json"
        if (folder / ENTRY_FILE).is_file() and note.is_file():
            with suppress(OSError):
                note.unlink()


def find_noted(templates: list[Template], wanted: str) -> tuple[Template, NotedClone]:
    """A noted clone by its name or UUID.

    Raises:
        MissingError: there is none, or there are several of that name.
    """
    found = [
        (template, clone)
        for template in templates
        for clone in noted_clones(template)
        if wanted in (clone.name, clone.uuid)
    ]
    if len(found) == 1:
        return found[0]
    if not found:
        raise MissingError(messages.NO_SUCH_CLONE.format(wanted=wanted))
    uuids = ", ".join(clone.uuid for _template, clone in found)
    raise MissingError(messages.SEVERAL_CLONES_OF_NAME.format(wanted=wanted, uuids=uuids))
