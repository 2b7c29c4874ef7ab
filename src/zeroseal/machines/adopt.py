"""Taking in a machine that exists: its disk, and its definition where there is one."""

from __future__ import annotations

import re
import shutil
from dataclasses import dataclass, replace
from pathlib import Path

from zeroseal.errors import MissingError, RefusedError, UsageError
from zeroseal.images.copying import copy_image_file
from zeroseal.images.facts import read_image_facts
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.machines.definition import (
    MachineDefinition,
    NetworkCard,
    new_mac,
    new_uuid,
    write_definition,
)
from zeroseal.machines.firmware import guess_firmware
from zeroseal.machines.sheet.model import NAME_PATTERN
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import machines as messages
from zeroseal.sealing.record import record_path


@dataclass(frozen=True)
class Adoption:
    """How a machine is taken in.

    Attributes:
        definition: its hardware, from where it lived; None for plain hardware.
        beside: the folder that paths of further disks in the definition are relative to.
        in_place: leave the disk where it is instead of copying it.
        origin: what it was made from, such as a template's title.
        host: where it is started here.
        reach: what the disk is, and what may be read for it.
    """

    definition: MachineDefinition | None = None
    beside: Path = Path()
    in_place: bool = False
    origin: str = ""
    host: str = "simulated"
    reach: Reach = OWN_FOLDER


def adopt_image(
    yard: Yard,
    image: Path,
    name: str,
    how: Adoption = Adoption(),
) -> YardMachine:
    """Takes a disk into the yard as a machine, with its seal record if it has one.

    Raises:
        UsageError: a name that cannot be one.
        OutputExistsError: there is a machine of that name.
        ImageError: the image cannot be read.
        RefusedError: it is no whole file.
    """
    if not re.match(NAME_PATTERN, name):
        raise UsageError(messages.NOT_VALID_MACHINE_NAME.format(name=name))
    source = read_image_facts(image, how.reach)
    if source.other_files and not how.in_place:
        raise RefusedError(
            messages.DISK_NEEDS_OTHER_FILES.format(image=image, other_files=source.other_files[0])
        )
    more = _more_disks(how)
    disk = str(image.resolve()) if how.in_place else f"disk.{source.format_name}"
    with yard.new_machine(name) as folder:
        if not how.in_place:
            copy_image_file(image, folder / disk)
            (folder / disk).chmod(0o644)  # what lies on a shelf may only be read
            if record_path(image).is_file():
                shutil.copyfile(record_path(image), record_path(folder / disk))
            for path, kept in more:
                copy_image_file(path, folder / kept)
                (folder / kept).chmod(0o644)
        definition = _definition(yard, name, disk, image, how)
        names = tuple(str(path.resolve()) if how.in_place else kept for path, kept in more)
        write_definition(folder, replace(definition, more_disks=names))
    return yard.get(name)


def _more_disks(how: Adoption) -> list[tuple[Path, str]]:
    """The machine's further disks, and what each is called in its folder.

    Raises:
        MissingError: one is not there.
        RefusedError: one is no whole file.
    """
    found = []
    for number, given in enumerate(how.definition.more_disks if how.definition else (), 2):
        path = how.beside / given
        if not path.is_file():
            raise MissingError(messages.FURTHER_DISK_NOT_FOUND.format(path=path))
        facts = read_image_facts(path, how.reach)
        if facts.other_files and not how.in_place:
            raise RefusedError(
                messages.DISK_NEEDS_OTHER_FILES.format(image=path, other_files=facts.other_files[0])
            )
        found.append((path, f"disk{number}.{facts.format_name}"))
    return found


def _definition(yard: Yard, name: str, disk: str, image: Path, how: Adoption) -> MachineDefinition:
    given = how.definition
    taken, uuids = yard.macs(), {machine.definition.uuid for machine in yard.machines()}
    if given is None:
        card = NetworkCard(new_mac(taken))
        firmware = guess_firmware(image, how.reach)
        given = MachineDefinition(name, new_uuid(), disk, adapters=(card,), firmware=firmware)
    cards = []
    for card in given.adapters:
        if not card.mac or card.mac in taken:  # the machine it was taken from is here too
            card = replace(card, mac=new_mac(taken))
        taken.add(card.mac)
        cards.append(card)
    return replace(
        given,
        name=name,
        uuid=new_uuid() if given.uuid in ("", *uuids) else given.uuid,
        # a copy of a disk is another generation of its machine
        generation_id=new_uuid() if given.generation_id else "",
        adapters=tuple(cards),
        disk=disk,
        host=how.host,
        template=how.origin,
        linked=False,
    )
