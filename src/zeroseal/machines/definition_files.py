"""Definitions of machines from elsewhere: a libvirt domain, an OVF descriptor, our own file."""

from __future__ import annotations

from pathlib import Path
from xml.etree import ElementTree

from zeroseal.errors import DamagedError, MissingError, environment_error
from zeroseal.machines.definition import MachineDefinition, read_machine_file
from zeroseal.machines.domain_xml import parse_domain
from zeroseal.machines.ovf import parse_ovf_machine
from zeroseal.messages import machines as messages

_MAX_BYTES = 16 << 20


def read_definition_file(path: Path) -> MachineDefinition:
    """Reads a definition in whichever of the three forms it is.

    Raises:
        MissingError: it is not there.
        DamagedError: it is none of them.
    """
    try:
        with path.open("rb") as file:
            raw = file.read(_MAX_BYTES + 1)
    except FileNotFoundError as error:
        raise MissingError(messages.MACHINE_DEFINITION_NOT_FOUND.format(path=path)) from error
    except OSError as error:
        raise environment_error(error, path, "reading") from error
    if not raw.lstrip().startswith(b"<"):
        return read_machine_file(path)
    root = parse_xml(path, raw)
    if root.tag == "domain":
        return parse_domain(root, str(path))
    if root.tag.endswith("}Envelope"):
        return parse_ovf_machine(root, str(path))
    raise DamagedError(messages.DOES_NOT_DESCRIBE_MACHINE.format(path=path))


def parse_xml(path: Path, raw: bytes) -> ElementTree.Element:
    """Parses XML without any document type: entities can hold a lot in little.

    Raises:
        DamagedError: it is none, too large, or has a document type.
    """
    if len(raw) > _MAX_BYTES or b"<!DOCTYPE" in raw or b"<!ENTITY" in raw:
        raise DamagedError(messages.NOT_MACHINE_DEFINITION.format(path=path))
    try:
        return ElementTree.fromstring(raw)
    except ElementTree.ParseError as error:
        raise DamagedError(messages.NOT_VALID_XML.format(path=path, error=error)) from error
