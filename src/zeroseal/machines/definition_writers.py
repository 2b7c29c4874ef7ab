"""Definitions of a machine for hosts elsewhere: libvirt's domain, OVF, a QEMU command line."""

from __future__ import annotations

import shlex
from dataclasses import replace
from pathlib import Path

from zeroseal.errors import UnsupportedError, UsageError
from zeroseal.images.facts import read_image_facts
from zeroseal.images.ova.descriptor import Appliance, Card, DescribedDisk, build_descriptor
from zeroseal.machines import VARIABLES_FILE
from zeroseal.machines.domain_xml import build_domain
from zeroseal.machines.hosts.qemu.command import Wiring, build_command
from zeroseal.machines.hosts.qemu.programs import PROGRAM, find_firmware
from zeroseal.machines.yard import YardMachine
from zeroseal.messages import machines as messages

DOMAIN, OVF, QEMU = "domain", "ovf", "qemu"
KINDS = (DOMAIN, OVF, QEMU)
FILE_NAMES = {DOMAIN: "domain.xml", OVF: "machine.ovf", QEMU: "start.sh"}
_FIRST_PORT, _PORTS = 22_000, 20_000


def build_definition_text(machine: YardMachine, kind: str, final: Path | None = None) -> str:
    """A machine's definition in one of the forms of ``KINDS``.

    Args:
        machine: whose disk is read.
        kind: the form.
        final: the folder where the machine will be; None where it stays where it is.

    Raises:
        UsageError: there is no such form.
        UnsupportedError: the form cannot say what the machine is.
        MissingError: its disk, or for ``qemu`` the firmware, is not there.
    """
    folder = (final or machine.folder).resolve()
    match kind:
        case "domain":
            return _domain(machine, folder)
        case "ovf":
            return _ovf(machine)
        case "qemu":
            return _command(machine, folder)
    raise UsageError(messages.FORMAT_NOT_KNOWN.format(kind=kind, kinds=", ".join(KINDS)))


def _domain(machine: YardMachine, folder: Path) -> str:
    media = tuple(replace(item, path=str(folder / item.path)) for item in machine.definition.media)
    more = tuple(str(folder / path) for path in machine.definition.more_disks)
    definition = replace(machine.definition, media=media, more_disks=more)
    disk = str(folder / definition.disk)
    return build_domain(definition, disk, read_image_facts(machine.disk).format_name)


def _ovf(machine: YardMachine) -> str:
    definition = machine.definition
    disks = []
    for path in (definition.disk, *definition.more_disks):
        facts = read_image_facts(machine.folder / path)
        if facts.chain:
            raise UnsupportedError(messages.LINKED_CLONE_HAS_NO_OVF.format(name=definition.name))
        disks.append(
            DescribedDisk(Path(path).name, facts.file_bytes, facts.size_bytes, facts.format_name)
        )
    appliance = Appliance(
        name=definition.name,
        cpus=definition.cpus,
        memory_bytes=definition.memory_mib << 20,
        uefi=definition.firmware == "uefi",
        cards=tuple(Card(card.mac, card.network, card.model) for card in definition.adapters),
        uuid=definition.uuid,
        seed=_seed_file(machine),
    )
    return build_descriptor(appliance, tuple(disks)).decode()


def _seed_file(machine: YardMachine) -> tuple[str, int] | None:
    path = machine.folder / machine.definition.seed
    if not machine.definition.seed or not path.is_file():
        return None
    return path.name, path.stat().st_size


def _command(machine: YardMachine, folder: Path) -> str:
    """A shell script that starts it in its folder; its sockets and console lie there too."""
    definition = machine.definition
    firmware = find_firmware() if definition.firmware == "uefi" else None
    port = _FIRST_PORT + int(definition.uuid[:8], 16) % _PORTS
    paths = (definition.disk, *definition.more_disks)
    formats = tuple(read_image_facts(machine.folder / path).format_name for path in paths)
    wiring = Wiring(port, formats, firmware, accelerated=False)
    words = build_command(PROGRAM, definition, wiring)
    lines = [
        "#!/bin/sh",
        f"# Starts {definition.name}; SSH is at port {port} of 127.0.0.1.",
        f"cd {shlex.quote(str(folder))} || exit 1",
    ]
    if firmware:
        variables = shlex.quote(str(firmware.variables))
        lines.append(f"[ -e {VARIABLES_FILE} ] || cp {variables} {VARIABLES_FILE}")
    lines.append("exec " + " \\\n  ".join(_grouped(words)))
    return "\n".join(lines) + "\n"


def _grouped(words: list[str]) -> list[str]:
    """Each option with its value on a line."""
    lines: list[str] = []
    for word in words:
        quoted = shlex.quote(word)
        if (
            lines
            and lines[-1].startswith("-")
            and " " not in lines[-1]
            and not word.startswith("-")
        ):
            lines[-1] += f" {quoted}"
        else:
            lines.append(quoted)
    return lines


def write_definition_files(machine: YardMachine, kinds: tuple[str, ...], final: Path) -> None:
    """Writes definitions beside a machine's disk, for the folder where it will be.

    Raises:
        UsageError, UnsupportedError, MissingError: as ``build_definition_text``.
    """
    for kind in kinds:
        path = machine.folder / FILE_NAMES[kind]
        path.write_text(build_definition_text(machine, kind, final), "utf-8")
        if kind == QEMU:
            path.chmod(0o755)
