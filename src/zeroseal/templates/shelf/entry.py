"""What is known of one template: ``entry.json`` beside its disk and its seal record.

The file is the truth; the shelf's index only says it again. Notes, tags and whether a template
is retired can change; they are part of no digest.
"""

from __future__ import annotations

import json
import re
from dataclasses import asdict, dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from zeroseal.documents import WrongValueError, build_json, convert
from zeroseal.errors import DamagedError, UsageError
from zeroseal.images.output import replace_small_file
from zeroseal.images.reach import Reach
from zeroseal.machines.definition import Hardware
from zeroseal.machines.sheet.model import NAME_PATTERN
from zeroseal.messages import templates as messages
from zeroseal.templates.abilities import Abilities

ENTRY_FILE, CLONES_FOLDER = "entry.json", "clones"
VERSION_PATTERN = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,63}\Z"
_TAG_PATTERN = r"^[a-z0-9][a-z0-9._=-]{0,39}\Z"
_SCHEMA = "zeroseal.shelf-entry"
_FORM = 2


@dataclass(frozen=True)
class ShelfEntry:
    """One template.

    Attributes:
        name, version: what it is asked for by.
        disk: the file name of its image.
        digest: of the disk's contents, as in the seal record.
        system: the long name of the guest's system.
        added_at, sealed_at, retired_at: seconds since 1970; 0 for one that is not retired.
        previous: the version that was current when this one came.
        signers: the key IDs that its record names.
        abilities: what its guest takes; None in entries of the first form.
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
    tags: tuple[str, ...] = ()
    retired_at: int = 0
    previous: str = ""
    signers: tuple[str, ...] = ()
    hardware: Hardware = field(default_factory=Hardware)
    abilities: Abilities | None = None

    @property
    def title(self) -> str:
        """``NAME@VERSION``, as commands take it."""
        return f"{self.name}@{self.version}"

    @property
    def clone_bytes(self) -> int:
        """How large the disk of a clone should be."""
        return max(self.size_bytes, self.hardware.disk_bytes)


@dataclass(frozen=True)
class Template:
    """An entry, where it lies, and whether it is ``current``, ``previous`` or ``retired``."""

    folder: Path
    entry: ShelfEntry
    state: str = "current"

    @property
    def disk(self) -> Path:
        """Its image."""
        return self.folder / self.entry.disk

    @property
    def reach(self) -> Reach:
        """What the shelf knows its image to be, whatever a guest wrote into it."""
        return Reach(self.entry.format_name)

    @property
    def disk_usage(self) -> int:
        """How many bytes its image takes on the host; 0 where it is not there."""
        try:
            facts = self.disk.stat()
        except OSError:
            return 0
        return getattr(facts, "st_blocks", -(-facts.st_size // 512)) * 512

    @property
    def clone_count(self) -> int:
        """How many clones are noted."""
        return sum(1 for _path in self.clones_folder.glob("[!.]*.json"))

    @property
    def clones_folder(self) -> Path:
        """Where the clones that were made of it are noted."""
        return self.folder / CLONES_FOLDER


def build_entry(entry: ShelfEntry) -> bytes:
    """The text of an entry file."""
    text = {"schema": _SCHEMA, "version": _FORM, "entry": asdict(entry)}
    return build_json(text, indent=1)


def parse_entry(raw: bytes) -> ShelfEntry:
    """Parses an entry file, also one of the first form.

    Raises:
        ValueError: it is none, or of a newer form.
    """
    value: Any = json.loads(raw)
    if not isinstance(value, dict) or value.get("schema") != _SCHEMA:
        raise ValueError(messages.NOT_SHELF_ENTRY)
    if value.get("version") not in (1, _FORM):
        raise ValueError(messages.ANOTHER_VERSION)
    try:
        entry = convert(value.get("entry"), ShelfEntry)
    except WrongValueError as error:
        raise ValueError(messages.KEY_WRONG.format(key=error.key or "entry")) from error
    if "/" in entry.disk or entry.disk.startswith("."):
        raise ValueError(messages.DISK_NOT_FILE_BESIDE)
    check_names(entry.name, entry.version)
    return entry


def read_entry(folder: Path) -> ShelfEntry:
    """Reads the entry of a template's folder, whose names count: a rename is a folder's.

    Raises:
        DamagedError: it cannot be understood.
    """
    path = folder / ENTRY_FILE
    try:
        name, version = folder.parent.name, folder.name
        check_names(name, version)
        entry = replace(parse_entry(path.read_bytes()), name=name, version=version)
    except (OSError, ValueError, UsageError, RecursionError) as error:
        raise DamagedError(
            messages.SHELF_ENTRY_UNREADABLE.format(path=path, error=error)
        ) from error
    return entry


def write_entry(folder: Path, entry: ShelfEntry) -> None:
    """Writes the entry of a template's folder; an older one is replaced at once."""
    replace_small_file(folder / ENTRY_FILE, build_entry(entry))


def check_names(name: str, version: str) -> None:
    """Raises UsageError where a template cannot be called so."""
    if not re.match(NAME_PATTERN, name):
        raise UsageError(messages.NOT_VALID_TEMPLATE_NAME.format(name=name))
    if not re.match(VERSION_PATTERN, version):
        raise UsageError(messages.NOT_VALID_VERSION.format(version=version))


def check_tag(tag: str) -> None:
    """Raises UsageError where a tag cannot be one."""
    if not re.match(_TAG_PATTERN, tag):
        raise UsageError(messages.NOT_VALID_TAG.format(tag=tag))


def sealed_on(entry: ShelfEntry) -> str:
    """The day of the seal, for people."""
    return datetime.fromtimestamp(entry.sealed_at, UTC).strftime("%Y-%m-%d")
