"""A template as one file, for another site's shelf: a tar archive of entry, record and disk.

The disk goes in as qcow2 (compressed on request), whatever it is on the shelf: its digest is the
same in every container. What comes in is believed only as far as its record proves it.
"""

from __future__ import annotations

import io
import tarfile
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

from zeroseal.errors import DamagedError, UsageError, environment_error
from zeroseal.images.create import ContainerSpec
from zeroseal.images.output import OutputFile
from zeroseal.messages import templates as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.export import ExportRequest, export_image
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy
from zeroseal.sealing.record import record_path
from zeroseal.sealing.signing import TrustedKey
from zeroseal.templates.shelf.entry import (
    ENTRY_FILE,
    ShelfEntry,
    Template,
    build_entry,
    parse_entry,
)
from zeroseal.templates.shelf.intake import NewTemplate, take_in
from zeroseal.templates.shelf.shelf import Shelf

_DISK = "disk.qcow2"
_RECORD = f"{_DISK}.seal.json"
_NOTES = "patches.txt"
_MOST_TEXT_BYTES = 256 << 20
_PIECE_BYTES = 4 << 20


def pack_template(
    template: Template, output: Path, compress: str = "", progress: Progress = quiet
) -> Path:
    """Writes a template into one file; it appears whole or not at all.

    Raises:
        OutputExistsError: the file is there already.
        UnfinishedError: no space, or the disk does not read back.
    """
    with (
        OutputFile(output) as target,
        TemporaryDirectory(dir=output.parent, prefix=".pack-") as name,
    ):
        disk = Path(name) / _DISK
        container = ContainerSpec("qcow2", compress=compress)
        export_image(template.disk, ExportRequest(disk, container), progress)
        record = record_path(disk).read_bytes()
        entry = replace(template.entry, disk=_DISK, format_name="qcow2")
        texts = {ENTRY_FILE: build_entry(entry), _RECORD: record}
        notes = template.folder / _NOTES
        if notes.is_file():
            texts[_NOTES] = notes.read_bytes()
        progress(Step("packing", 0, 0))
        try:
            _write_archive(target.file.path, texts, disk, entry)
        except OSError as error:
            raise environment_error(error, output, "writing") from error
        target.commit()
    return output


def is_bundle(path: Path) -> bool:
    """Whether a file is one that ``pack_template`` wrote."""
    try:
        with tarfile.open(path, "r:") as archive:
            first = archive.next()
            return first is not None and first.name == ENTRY_FILE
    except (OSError, tarfile.TarError):
        return False


def unpack_template(
    path: Path,
    shelf: Shelf,
    now: int,
    title: str = "",
    policy: Policy = DEFAULT_POLICY,
    trusted: tuple[TrustedKey, ...] = (),
    progress: Progress = quiet,
) -> Template:
    """Takes a packed template onto a shelf, through the same gate as every other.

    Args:
        path: the file.
        shelf: where it goes.
        now: seconds since 1970.
        title: ``NAME@VERSION`` on this shelf; empty for its own.
        policy: the site's.
        trusted: whose signatures count; none for anybody's.
        progress: told of each stage.

    Raises:
        DamagedError: it is no packed template, or is damaged.
        OutputExistsError, RefusedError: as ``Shelf.add``.
    """
    parent = shelf.folder if shelf.folder.is_dir() else path.parent
    try:
        with TemporaryDirectory(dir=parent, prefix=".unpack-") as name:
            disk = Path(name) / _DISK
            entry, notes = _read_archive(path, disk)
            wanted, at, version = title.partition("@")
            if title and not at:
                raise UsageError(messages.NO_VERSION.format(title=title))
            new = NewTemplate(
                name=wanted or entry.name,
                version=version or entry.version,
                notes=entry.notes,
                tags=entry.tags,
                disk_bytes=entry.hardware.disk_bytes,
                hardware=entry.hardware,
                move=True,
                policy=policy,
                trusted=trusted,
            )
            template = take_in(shelf, disk, new, now, progress)
            if notes:
                (template.folder / _NOTES).write_bytes(notes)
            return template
    except OSError as error:
        raise environment_error(error, shelf.folder, "writing to") from error


def _write_archive(target: Path, texts: dict[str, bytes], disk: Path, entry: ShelfEntry) -> None:
    with tarfile.open(target, "w", format=tarfile.PAX_FORMAT) as archive:
        for name, content in texts.items():
            info = tarfile.TarInfo(name)
            info.size, info.mtime, info.mode = len(content), entry.sealed_at, 0o644
            archive.addfile(info, io.BytesIO(content))
        info = tarfile.TarInfo(_DISK)
        info.size, info.mtime, info.mode = disk.stat().st_size, entry.sealed_at, 0o444
        with disk.open("rb") as file:
            archive.addfile(info, file)


def _read_archive(path: Path, disk: Path) -> tuple[ShelfEntry, bytes]:
    """(entry, patch notes) of a packed template; its disk and record go to ``disk``."""
    texts: dict[str, bytes] = {}
    try:
        with tarfile.open(path, "r:") as archive:
            for member in archive:
                if not member.isreg() or member.name not in (ENTRY_FILE, _RECORD, _NOTES, _DISK):
                    raise ValueError(messages.UNEXPECTED_MEMBER.format(name=member.name))
                file = archive.extractfile(member)
                assert file is not None  # a regular file
                if member.name == _DISK:
                    with disk.open("xb") as target:
                        while piece := file.read(_PIECE_BYTES):
                            target.write(piece)
                elif member.size > _MOST_TEXT_BYTES:
                    raise ValueError(messages.MEMBER_TOO_LARGE.format(name=member.name))
                else:
                    texts[member.name] = file.read()
        record_path(disk).write_bytes(texts[_RECORD])
        if not disk.is_file():
            raise ValueError(messages.NO_DISK)
        return parse_entry(texts[ENTRY_FILE]), texts.get(_NOTES, b"")
    except FileNotFoundError as error:
        raise DamagedError(messages.NOT_FOUND.format(path=path)) from error
    except (tarfile.TarError, ValueError, KeyError, UsageError, FileExistsError) as error:
        raise DamagedError(messages.BUNDLE_UNREADABLE.format(path=path, error=error)) from error
