"""The shelf: a folder of sealed templates, ``NAME/VERSION/``, each with its record and entry."""

from __future__ import annotations

import json
import os
import re
import shutil
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path

from zeroseal.errors import (
    DamagedError,
    MissingError,
    OutputExistsError,
    RefusedError,
    UsageError,
    environment_error,
)
from zeroseal.images.copying import copy_image_file
from zeroseal.machines.sheet.model import NAME_PATTERN
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.check import Level, Verdict, check_image
from zeroseal.sealing.record import find_record, record_path
from zeroseal.sealing.survey import read_image_facts

ENTRY_FILE = "entry.json"
VERSION_PATTERN = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$"
_SCHEMA = "zeroseal.shelf-entry"


@dataclass(frozen=True)
class ShelfEntry:
    """One template.

    Attributes:
        name, version: what it is asked for by.
        disk: the file name of its image.
        digest: of the disk's contents, as in the seal record.
        system: the long name of the guest's system.
        added_at, sealed_at: seconds since 1970.
    """

    name: str
    version: str
    disk: str
    format_name: str
    size_bytes: int
    digest: str
    system: str
    added_at: int
    sealed_at: int
    notes: str = ""

    @property
    def title(self) -> str:
        """``NAME@VERSION``, as commands take it."""
        return f"{self.name}@{self.version}"


@dataclass(frozen=True)
class Template:
    """An entry and where it lies."""

    folder: Path
    entry: ShelfEntry

    @property
    def disk(self) -> Path:
        """Its image."""
        return self.folder / self.entry.disk


class Shelf:
    """A folder of templates; a folder that is not there yet is an empty shelf."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        if folder.exists() and not folder.is_dir():
            raise MissingError(f"{folder} is no folder: name the shelf's folder with --shelf")

    def templates(self) -> list[Template]:
        """All templates, by name and the time they were added."""
        if not self.folder.is_dir():
            return []
        found = [_read_template(path.parent) for path in self.folder.glob(f"*/[!.]*/{ENTRY_FILE}")]
        return sorted(found, key=lambda item: (item.entry.name, item.entry.added_at))

    def get(self, wanted: str) -> Template:
        """The template ``NAME@VERSION``, or the last added one of ``NAME``.

        Raises:
            MissingError: there is none; names what is there.
        """
        name, _at, version = wanted.partition("@")
        fitting = [
            item
            for item in self.templates()
            if item.entry.name == name and version in ("", item.entry.version)
        ]
        if not fitting:
            titles = ", ".join(item.entry.title for item in self.templates())
            raise MissingError(
                f"the shelf {self.folder} has no template {wanted}; it has {titles or 'none'}"
            )
        return fitting[-1]

    def add(
        self, image: Path, name: str, version: str, notes: str, now: int, progress: Progress = quiet
    ) -> Template:
        """Takes a copy of a sealed image onto the shelf, read-only.

        Raises:
            UsageError: a name or version that cannot be one.
            OutputExistsError: the shelf has that version, or that disk, already.
            RefusedError: the image does not check SEALED.
        """
        _check_names(name, version)
        target = self.folder / name / version
        if target.exists():
            raise OutputExistsError(
                f"the shelf has {name}@{version} already: choose another --version"
            )
        checked = check_image(image, Level.FULL, progress)
        if checked.verdict is not Verdict.SEALED or checked.record is None:
            raise RefusedError(
                f"{image} is {checked.verdict.value}, and the shelf takes only SEALED: "
                f"{checked.reason}"
            )
        for other in self.templates():
            if other.entry.digest == checked.record.root:
                raise OutputExistsError(
                    f"the shelf has the same disk already, as {other.entry.title}"
                )
        facts = read_image_facts(image)
        if facts.other_files:
            raise RefusedError(
                f"{image} needs {facts.other_files[0]} too: give the shelf a disk that is one "
                "whole file"
            )
        entry = ShelfEntry(
            name=name,
            version=version,
            disk=f"disk.{facts.format_name}",
            format_name=facts.format_name,
            size_bytes=facts.size_bytes,
            digest=checked.record.root,
            system=checked.record.system_name,
            added_at=now,
            sealed_at=checked.record.sealed_at,
            notes=notes,
        )
        self._copy_in(image, entry, target, progress)
        return _read_template(target)

    def _copy_in(self, image: Path, entry: ShelfEntry, target: Path, progress: Progress) -> None:
        """Fills a hidden folder and gives it its name when its copy checks SEALED too."""
        hidden = target.parent / f".{target.name}.{os.getpid()}.part"
        try:
            hidden.mkdir(parents=True)
            disk = hidden / entry.disk
            copy_image_file(image, disk)
            shutil.copyfile(record_path(image), record_path(disk))
            text = {"schema": _SCHEMA, "version": 1, "entry": asdict(entry)}
            (hidden / ENTRY_FILE).write_text(json.dumps(text, indent=1) + "\n")
            if check_image(disk, Level.QUICK, progress).verdict is not Verdict.SEALED:
                raise RefusedError(f"the copy of {image} does not read back: is the disk failing?")
            for path in (disk, record_path(disk)):
                path.chmod(0o444)
            hidden.rename(target)
        except OSError as error:
            raise environment_error(error, target, "writing") from error
        finally:
            shutil.rmtree(hidden, ignore_errors=True)
            if target.parent.is_dir() and not any(target.parent.iterdir()):
                target.parent.rmdir()


def sealed_on(entry: ShelfEntry) -> str:
    """The day of the seal, for people."""
    return datetime.fromtimestamp(entry.sealed_at, UTC).strftime("%Y-%m-%d")


def check_template(template: Path, progress: Progress = quiet) -> str:
    """Raises RefusedError unless an image is sealed, by its record; returns the disk's digest."""
    checked = check_image(template, Level.QUICK, progress)
    if checked.verdict is not Verdict.SEALED or checked.record is None:
        raise RefusedError(
            f"{template} is {checked.verdict.value}, and only a sealed template may be cloned: "
            f"{checked.reason}"
        )
    return checked.record.root


def _check_names(name: str, version: str) -> None:
    if not re.match(NAME_PATTERN, name):
        raise UsageError(f"{name!r} cannot be a template's name: use a-z, 0-9 and -")
    if not re.match(VERSION_PATTERN, version):
        raise UsageError(f"{version!r} cannot be a version: use letters, digits, dot, - and _")


def _read_template(folder: Path) -> Template:
    path = folder / ENTRY_FILE
    try:
        value = json.loads(path.read_text("utf-8"))
        if value["schema"] != _SCHEMA or value["version"] != 1:
            raise ValueError("it is of another version")
        template = Template(folder, ShelfEntry(**value["entry"]))
        find_record(template.disk)
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise DamagedError(f"{path} is no shelf entry that can be understood: {error}") from error
    return template
