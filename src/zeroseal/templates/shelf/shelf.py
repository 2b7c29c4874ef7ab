"""The shelf: takes sealed images in, finds them again, and lets them go when nothing needs them."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path

from zeroseal.documents import convert
from zeroseal.errors import (
    DamagedError,
    MissingError,
    OutputExistsError,
    RefusedError,
    environment_error,
)
from zeroseal.images.copying import copy_image_file
from zeroseal.images.facts import read_image_facts
from zeroseal.images.output_folder import OutputFolder, sweep_unfinished
from zeroseal.machines.definition import Hardware, MachineDefinition
from zeroseal.machines.firmware import guess_firmware
from zeroseal.machines.readiness import hardware_of
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.check import CheckResult, check_image, check_record
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy
from zeroseal.sealing.record import SealRecord, record_path
from zeroseal.sealing.signing import TrustedKey
from zeroseal.sealing.trust import require_signature
from zeroseal.sealing.verdict import Level, Verdict
from zeroseal.sentences import counted, some_of
from zeroseal.templates.abilities import read_abilities
from zeroseal.templates.shelf.clone_links import Hold, ShelfClone, clones_of
from zeroseal.templates.shelf.entry import (
    ShelfEntry,
    Template,
    check_names,
    check_tag,
    write_entry,
)
from zeroseal.templates.shelf.index import Row, ShelfIndex

CURRENT, PREVIOUS, RETIRED = "current", "previous", "retired"
STATES = (CURRENT, PREVIOUS, RETIRED)
_MOST_TOLD = 6


@dataclass(frozen=True)
class NewTemplate:
    """How an image comes onto the shelf.

    Attributes:
        definition: the machine that it was sealed from, whose hardware its clones should have.
        hardware: as another shelf knew it; None for what the record says.
        disk_bytes: how large the disks of its clones should be; 0 for the machine's own.
        move: take the file itself instead of a copy.
        policy, trusted: the site's, and whose signatures count (none: anybody's).
    """

    name: str
    version: str
    notes: str = ""
    tags: tuple[str, ...] = ()
    definition: MachineDefinition | None = None
    hardware: Hardware | None = None
    disk_bytes: int = 0
    move: bool = False
    policy: Policy = DEFAULT_POLICY
    trusted: tuple[TrustedKey, ...] = field(default=())


class Shelf:
    """A folder of templates; a folder that is not there yet is an empty shelf."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.index = ShelfIndex(folder)
        if folder.exists() and not folder.is_dir():
            raise MissingError(f"{folder} is no folder: name the shelf's folder with --shelf")

    def templates(self) -> list[Template]:
        """All templates that can be understood, by name and the time they were added."""
        return _with_states(self.index.rows())

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
        found = _with_states(rows)
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
            f"the shelf {self.folder} has no template {wanted}{why}; it has {titles or 'none'}"
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

    def add(self, image: Path, new: NewTemplate, now: int, progress: Progress = quiet) -> Template:
        """Takes a sealed image onto the shelf, read-only.

        Raises:
            UsageError: a name, version or tag that cannot be one.
            OutputExistsError: the shelf has that version, or that disk, already.
            RefusedError: the image does not check SEALED.
            UnfinishedError: no space; nothing is left behind.
        """
        check_names(new.name, new.version)
        for tag in new.tags:
            check_tag(tag)
        target = self.folder / new.name / new.version
        _check_free(target)
        checked = _check_sealed(image, new, progress)
        record = checked.record
        assert record is not None  # it is SEALED
        _check_other_disk(self.templates(), record.root)
        facts = read_image_facts(image, new.policy.reach)
        if facts.other_files:
            raise RefusedError(
                f"{image} needs {facts.other_files[0]} too: give the shelf a disk that is one "
                "whole file"
            )
        entry = ShelfEntry(
            name=new.name,
            version=new.version,
            disk=f"disk.{facts.format_name}",
            format_name=facts.format_name,
            size_bytes=facts.size_bytes,
            digest=record.root,
            system=record.system_name,
            added_at=now,
            sealed_at=record.sealed_at,
            notes=new.notes,
            tags=tuple(dict.fromkeys(new.tags)),
            signers=record.envelope.key_ids if record.envelope else (),
            hardware=_hardware_of(image, new, record),
            abilities=read_abilities(image, new.policy.reach),
        )
        self._take_in(image, entry, target, new.move, progress)
        if new.move:
            image.unlink()
            record_path(image).unlink(missing_ok=True)
        return self.get(entry.title)

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
                raise OutputExistsError(f"the shelf has templates called {new_name} already")
            try:
                (self.folder / name).rename(target)  # at once: a folder's name is the template's
            except OSError as error:
                raise environment_error(error, target, "renaming to") from error
        return self.versions(new_name)

    # -- inside

    def _take_in(
        self, image: Path, entry: ShelfEntry, target: Path, move: bool, progress: Progress
    ) -> None:
        """Fills a hidden folder; it gets its name when its disk checks SEALED too."""
        for parent in self.folder.glob("[!.]*/"):
            sweep_unfinished(parent)
        progress(Step("copying the disk", 0, 0))
        try:
            with OutputFolder(target) as output:
                disk = output.path / entry.disk
                shares_file = move and _link(image, disk)
                if not shares_file:
                    copy_image_file(image, disk)
                    disk.chmod(0o444)
                shutil.copyfile(record_path(image), record_path(disk))
                record_path(disk).chmod(0o444)
                if not shares_file:
                    _check_copy(image, disk, progress)
                with self.index.locked() as rows:
                    _check_free(target)
                    others = _with_states(rows)
                    _check_other_disk(others, entry.digest)
                    same = [item for item in others if item.entry.name == entry.name]
                    last = next((item.entry for item in same if item.state == CURRENT), None)
                    write_entry(output.path, replace(entry, previous=last.version if last else ""))
                    output.commit()
                (target / entry.disk).chmod(0o444)
        except OSError as error:
            raise environment_error(error, target, "writing") from error


def check_lets_go(template: Template, despite: Iterable[str]) -> None:
    """Raises RefusedError where linked clones hang on a template that ``despite`` does not name."""
    named = set(despite)
    hanging = [item for item in clones_of(template) if item.hold.needs_template]
    left = [item for item in hanging if not {item.noted.name, item.noted.uuid} & named]
    if left:
        raise RefusedError(
            f"{template.entry.title} is needed by {name_clones(left)}: make them whole with "
            "zeroseal clone --make-full, forget those that are gone with zeroseal shelf forget, "
            "or name every one of them with --despite"
        )


def name_clones(clones: list[ShelfClone]) -> str:
    """Clones that hang on a template, in a sentence."""
    names = [
        item.noted.name + (" (not seen from here)" if item.hold is Hold.ELSEWHERE else "")
        for item in clones
    ]
    return f"{counted(len(clones), 'linked clone')}: {some_of(names, _MOST_TOLD)}"


def _with_states(rows: list[Row]) -> list[Template]:
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


def _check_free(target: Path) -> None:
    if target.exists():
        raise OutputExistsError(
            f"the shelf has {target.parent.name}@{target.name} already: choose another --version"
        )


def _check_there(template: Template) -> None:
    if not template.folder.is_dir():
        raise MissingError(f"{template.entry.title} was removed from the shelf just now")


def _check_other_disk(others: list[Template], digest: str) -> None:
    for other in others:
        if other.entry.digest == digest:
            raise OutputExistsError(f"the shelf has the same disk already, as {other.entry.title}")


def _check_sealed(image: Path, new: NewTemplate, progress: Progress) -> CheckResult:
    checked = check_image(image, Level.FULL, progress, policy=new.policy)
    if new.trusted:
        checked = require_signature(checked, new.trusted)
    if checked.verdict is not Verdict.SEALED:
        raise RefusedError(
            f"{image} is {checked.verdict.value}, and the shelf takes only SEALED: {checked.reason}"
        )
    return checked


def _check_copy(image: Path, disk: Path, progress: Progress) -> None:
    if check_record(disk, progress).verdict is not Verdict.SEALED:
        raise RefusedError(f"the copy of {image} does not read back: is the disk failing?")


def _link(image: Path, disk: Path) -> bool:
    """Gives a file a second name, so that a move loses it at no moment; not across disks."""
    try:
        os.link(image, disk)
    except OSError:
        return False
    return True


def _hardware_of(image: Path, new: NewTemplate, record: SealRecord) -> Hardware:
    """From the machine as it is named, else from what the record says of it, else plain."""
    known = new.hardware or Hardware(firmware="")
    if new.hardware is None and record.hardware is not None:
        known = convert(record.hardware, Hardware)
    if new.definition:
        known = replace(hardware_of(new.definition), disk_bytes=known.disk_bytes)
    firmware = known.firmware or guess_firmware(image)
    return replace(known, firmware=firmware, disk_bytes=new.disk_bytes or known.disk_bytes)
