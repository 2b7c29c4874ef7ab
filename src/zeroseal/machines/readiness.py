"""Is a machine fit to be sealed, by its definition and its host? The disk is judged elsewhere."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path

from zeroseal.errors import ImageError, RefusedError
from zeroseal.machines import VARIABLES_FILE
from zeroseal.machines.definition import Hardware, MachineDefinition
from zeroseal.machines.firmware_variables import read_boot_entries
from zeroseal.machines.journal import journal_digest
from zeroseal.machines.outside_values import values_outside
from zeroseal.machines.yard import YardMachine
from zeroseal.messages import machines as messages
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.policy import MachineKnowledge, resolve
from zeroseal.sealing.survey import Survey, survey_image

_PURPOSES = {
    "seed": (
        "the seed medium of this tool, which holds keys and would give every clone the same seed"
    ),
    "install": "an installation medium, from which clones could boot",
}


@dataclass(frozen=True)
class MachineReadiness:
    """What speaks for and against sealing a machine now.

    Attributes:
        survey: of its disk; None while it runs, or where the disk cannot be read.
    """

    blockers: tuple[str, ...]
    advice: tuple[str, ...]
    survey: Survey | None

    @property
    def is_ready(self) -> bool:
        """Whether nothing stops a seal."""
        return not self.blockers


def assess_machine(machine: YardMachine, progress: Progress = quiet) -> MachineReadiness:
    """Judges a machine of a yard, its wiring and its disk."""
    knowledge = knowledge_of(machine.definition, machine.folder)
    blockers: list[str] = []
    if machine.state.unfinished:
        blockers.append(messages.BUILD_FAILED.format(unfinished=machine.state.unfinished))
    if machine.state.running:
        blockers.append(messages.MACHINE_RUNS)
        return MachineReadiness((*blockers, *knowledge.blockers), knowledge.hints, None)
    try:
        survey = survey_image(machine.disk, resolve(machine=knowledge), progress)
    except (ImageError, RefusedError) as error:
        blockers.append(messages.DISK_NOT_JUDGED.format(message=error.message))
        return MachineReadiness((*blockers, *knowledge.blockers), knowledge.hints, None)
    blockers += (*survey.readiness.blockers, *survey.guard.lock_outs)
    found = survey.readiness
    advice = found.consequences + found.advice + survey.guard.hints + found.hints
    return MachineReadiness(tuple(blockers), advice, survey)


def knowledge_of(machine: MachineDefinition, folder: Path = Path()) -> MachineKnowledge:
    """What a machine's definition says for and against a seal of its disk.

    Args:
        machine: the definition.
        folder: where the machine's files lie.
    """
    blockers = []
    for medium in machine.media:
        kind = _PURPOSES.get(medium.purpose, "a medium that clones will not have")
        blockers.append(messages.MEDIUM_IN_DRIVE.format(path=medium.path, kind=kind))
    hints = (*_network_hints(machine), *_hardware_hints(machine))
    return MachineKnowledge(
        blockers=tuple(blockers),
        hints=hints,
        throwaway_accounts=machine.throwaway_accounts,
        hardware=asdict(hardware_of(machine)),
        outside=values_outside(machine, folder),
        boot_entries=tuple(
            entry.text for entry in read_boot_entries(folder / VARIABLES_FILE) if entry.loader
        ),
        journal=journal_digest(folder),
    )


def hardware_of(machine: MachineDefinition) -> Hardware:
    """What a machine's definition says of its hardware, but for what makes it itself."""
    model = machine.adapters[0].model if machine.adapters else Hardware.card_model
    return Hardware(
        machine.cpus,
        machine.memory_mib,
        machine.firmware,
        machine.disk_bus,
        model,
        tpm=machine.tpm,
        secure_boot=machine.secure_boot,
    )


def _network_hints(machine: MachineDefinition) -> Iterator[str]:
    if not machine.adapters:
        yield "It has no network card: clones made like it have no network."
    for card in machine.adapters:
        if not card.connected:
            yield f"The network card {card.mac} is not connected when it starts."
        if card.vlan:
            yield (
                f"The network card {card.mac} is in VLAN {card.vlan}: check that clones "
                "belong there."
            )


def _hardware_hints(machine: MachineDefinition) -> Iterator[str]:
    if machine.boot_order[:1] != ("disk",):
        first = machine.boot_order[0] if machine.boot_order else "nothing"
        yield f"It boots from {first} first: clones should boot from their disk."
    if machine.devices:
        yield f"It has devices that a server does not need: {', '.join(machine.devices)}."
    if machine.restart != "never":
        yield "Its host starts it again after a shutdown: a sealed clone would boot at once."
    if machine.linked:
        yield "Its disk depends on a template's disk: a seal creates a complete disk."
    if machine.more_disks:
        count = len(machine.more_disks)
        yield (f"It has {count} more disks, which a seal of its boot disk does not include.")
    if not machine.serial_console:
        yield "It has no serial console: nothing shows why a clone does not boot."
    if machine.unknown:
        words = ", ".join(machine.unknown)
        yield f"Its definition also has elements that are not supported here: {words}."
