"""Is a clone a machine of its own after its first start? What grew anew, and what it shares."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import ZeroSealError
from zeroseal.guests.identity_value import IdentityValue, Severity
from zeroseal.guests.system import as_windows
from zeroseal.images.detect import opened_image
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.machines.definition import MachineDefinition
from zeroseal.machines.yard import Yard
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.compare import read_values
from zeroseal.sealing.inspection import Inspection, recoverable
from zeroseal.templates.clone_check import CloneAnswer
from zeroseal.templates.shelf.entry import read_entry

_GROWN = ("machine ID", "SSH host key", "security identifier", "machine GUID")
_OF_VOLUMES = ("disk GUID", "partition GUID", "volume UUID", "LVM identifier")


@dataclass(frozen=True)
class Relative:
    """Another disk that a clone must share nothing with: its template, or a sibling."""

    name: str
    disk: Path
    reach: Reach = OWN_FOLDER


def find_relatives(definition: MachineDefinition, yard: Yard) -> list[Relative]:
    """The template of a clone where it lies on a shelf, and the yard's other clones of it."""
    found = []
    if definition.template_folder:
        folder = Path(definition.template_folder)
        entry = read_entry(folder)
        found.append(Relative(definition.template, folder / entry.disk, Reach(entry.format_name)))
    for machine in yard.machines():
        other = machine.definition
        is_sibling = other.template and other.template == definition.template
        if is_sibling and other.uuid != definition.uuid:
            found.append(Relative(other.name, machine.disk))
    return found


def answers_after_start(
    disk: Path,
    relatives: Sequence[Relative],
    services: Sequence[str],
    *,
    has_new_ids: bool,
    progress: Progress = quiet,
) -> Iterator[CloneAnswer]:
    """Yields what a started clone's disk says of itself, and what it shares with its relatives.

    Args:
        disk: of the clone; its machine is switched off.
        relatives: see ``find_relatives``.
        services: that its boot must start.
        has_new_ids: whether volumes, too, must share nothing.
        progress: told of each disk that is read.

    Raises:
        ImageError, RefusedError: the clone's disk cannot be read.
    """
    progress(Step("reading identities", 0, len(relatives) + 1, "images"))
    with opened_image(disk) as image, recoverable(image, recover=True) as store:
        inspection = Inspection.read(store, recover=True)
        own = read_values(inspection)
        kinds = {value.kind for value in own}
        for kind in _GROWN:
            if kind in kinds or kind in _expected(inspection):
                yield _answer(kind, "its own", "there" if kind in kinds else "")
        for name in services:
            is_enabled = inspection.system.is_enabled(name)
            yield _answer(f"service {name}", "starts", "starts" if is_enabled else "")
    for number, relative in enumerate(relatives, 1):
        progress(Step("reading identities", number, len(relatives) + 1, "images"))
        yield _compared(own, relative, has_new_ids)


def _expected(inspection: Inspection) -> tuple[str, ...]:
    """What a first start makes in any case."""
    if as_windows(inspection.system):
        return ("machine GUID",)
    has_server = inspection.guest.is_file("/usr/sbin/sshd")
    return ("machine ID", "SSH host key") if has_server else ("machine ID",)


def _compared(own: Sequence[IdentityValue], relative: Relative, has_new_ids: bool) -> CloneAnswer:
    what, asked = f"shared with {relative.name}", "nothing"
    try:
        with (
            opened_image(relative.disk, reach=relative.reach) as image,
            recoverable(image, recover=True) as store,
        ):
            others = set(read_values(Inspection.read(store, recover=True)))
    except ZeroSealError as error:
        return CloneAnswer(what, asked, f"not compared: {error.message}", is_good=False)
    shared = [
        value.kind
        for value in own
        if value in others
        and (value.severity > Severity.BY_DESIGN or (has_new_ids and value.kind in _OF_VOLUMES))
    ]
    return _answer(what, asked, ", ".join(dict.fromkeys(shared)) if shared else asked)


def _answer(what: str, asked: str, found: str) -> CloneAnswer:
    is_good = found in (asked, "there")
    return CloneAnswer(what, asked, asked if is_good else found, is_good)
