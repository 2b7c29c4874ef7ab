"""Taking a sealed image onto the shelf: checked, copied, checked again, and then given a name."""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass, field, replace
from pathlib import Path

from zeroseal.documents import convert
from zeroseal.errors import OutputExistsError, RefusedError, environment_error
from zeroseal.images.copying import copy_image_file
from zeroseal.images.facts import read_image_facts
from zeroseal.images.output_folder import OutputFolder, sweep_unfinished
from zeroseal.machines.definition import Hardware, MachineDefinition
from zeroseal.machines.firmware import guess_firmware
from zeroseal.machines.readiness import hardware_of
from zeroseal.messages import templates as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.check import CheckResult, check_image, check_record
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy
from zeroseal.sealing.record import SealRecord, record_path
from zeroseal.sealing.signing import TrustedKey
from zeroseal.sealing.trust import require_signature
from zeroseal.sealing.verdict import Level, Verdict
from zeroseal.templates.ability_reading import read_abilities
from zeroseal.templates.shelf.contents_file import keep_contents
from zeroseal.templates.shelf.entry import (
    ShelfEntry,
    Template,
    check_names,
    check_tag,
    write_entry,
)
from zeroseal.templates.shelf.shelf import CURRENT, Shelf, with_states


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


def take_in(
    shelf: Shelf, image: Path, new: NewTemplate, now: int, progress: Progress = quiet
) -> Template:
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
    target = shelf.folder / new.name / new.version
    _check_free(target)
    checked = _check_sealed(image, new, progress)
    record = checked.record
    assert record is not None  # it is SEALED
    _check_other_disk(shelf.templates(), record.root)
    facts = read_image_facts(image, new.policy.reach)
    if facts.other_files:
        raise RefusedError(
            messages.DISK_NEEDS_OTHER_FILES.format(image=image, other_files=facts.other_files[0])
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
    _fill(shelf, image, entry, target, new.move, progress)
    if new.move:
        image.unlink()
        record_path(image).unlink(missing_ok=True)
    return shelf.get(entry.title)


def _fill(
    shelf: Shelf, image: Path, entry: ShelfEntry, target: Path, move: bool, progress: Progress
) -> None:
    """Fills a hidden folder; it gets its name when its disk checks SEALED too."""
    for parent in shelf.folder.glob("[!.]*/"):
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
            keep_contents(output.path, disk, progress)
            if not shares_file:
                _check_copy(image, disk, progress)
            with shelf.index.locked() as rows:
                _check_free(target)
                others = with_states(rows)
                _check_other_disk(others, entry.digest)
                same = [item for item in others if item.entry.name == entry.name]
                last = next((item.entry for item in same if item.state == CURRENT), None)
                write_entry(output.path, replace(entry, previous=last.version if last else ""))
                output.commit()
            (target / entry.disk).chmod(0o444)
    except OSError as error:
        raise environment_error(error, target, "writing") from error


def _check_free(target: Path) -> None:
    if target.exists():
        raise OutputExistsError(
            messages.VERSION_TAKEN.format(name=target.parent.name, version=target.name)
        )


def _check_other_disk(others: list[Template], digest: str) -> None:
    for other in others:
        if other.entry.digest == digest:
            raise OutputExistsError(messages.SAME_DISK_ON_SHELF.format(title=other.entry.title))


def _check_sealed(image: Path, new: NewTemplate, progress: Progress) -> CheckResult:
    checked = check_image(image, Level.FULL, progress, policy=new.policy)
    if new.trusted:
        checked = require_signature(checked, new.trusted)
    if checked.verdict is not Verdict.SEALED:
        raise RefusedError(
            messages.SHELF_NEEDS_SEALED.format(
                image=image, verdict=checked.verdict.value, reason=checked.reason
            )
        )
    return checked


def _check_copy(image: Path, disk: Path, progress: Progress) -> None:
    if check_record(disk, progress).verdict is not Verdict.SEALED:
        raise RefusedError(messages.COPY_DOES_NOT_READ_BACK.format(image=image))


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
