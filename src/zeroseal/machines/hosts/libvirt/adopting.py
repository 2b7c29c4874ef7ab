"""Taking in a domain that libvirt knows: its definition, and where its disks lie on this computer.

Source: libvirt, "Domain XML format" (disk sources), "Storage pool and volume XML format".
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import libvirt

from zeroseal.errors import MissingError, RefusedError
from zeroseal.machines.definition import MachineDefinition
from zeroseal.machines.domain_xml import parse_domain
from zeroseal.machines.hosts.libvirt.connection import open_connection, refusals, shown_name
from zeroseal.messages import machines as messages


def read_domain(connection: str, name: str) -> MachineDefinition:
    """The definition of a domain that does not run; its disks are named by their paths.

    Disks in a storage pool are found by their volumes: files, or block devices of a logical pool.

    Raises:
        HostError: the connection cannot be opened, or a volume is not known.
        MissingError: there is no such domain, or its disk is not on this computer.
        RefusedError: it runs, has a saved memory, or has snapshots.
    """
    opened = open_connection(connection)
    try:
        domain = _find(opened, connection, name)
        _check_resting(domain, name)
        with refusals(connection):
            root = ElementTree.fromstring(domain.XMLDesc(libvirt.VIR_DOMAIN_XML_INACTIVE))
        for source in root.iterfind("devices/disk/source"):
            _resolve(opened, connection, source)
    finally:
        opened.close()
    definition = parse_domain(root, name)
    for path in (definition.disk, *definition.more_disks):
        if not Path(path).exists():
            raise MissingError(
                messages.DOMAIN_DISK_ELSEWHERE.format(
                    name=name, path=path, connection=shown_name(connection)
                )
            )
    return replace(definition, host="libvirt", connection=connection)


def _find(opened: Any, connection: str, name: str) -> Any:
    with suppress(libvirt.libvirtError):
        return opened.lookupByName(name)
    with refusals(connection):
        names = sorted(item.name() for item in opened.listAllDomains())
    raise MissingError(
        messages.NO_SUCH_DOMAIN.format(
            connection=shown_name(connection), name=name, names=", ".join(names) or "no domains"
        )
    )


def _check_resting(domain: Any, name: str) -> None:
    if domain.isActive():
        raise RefusedError(messages.DOMAIN_RUNS.format(name=name))
    if domain.hasManagedSaveImage():
        raise RefusedError(messages.DOMAIN_SLEEPS.format(name=name))
    snapshots = [item.getName() for item in domain.listAllSnapshots()]
    if snapshots:
        raise RefusedError(
            messages.DOMAIN_HAS_SNAPSHOTS.format(name=name, snapshots=", ".join(snapshots))
        )


def _resolve(opened: Any, connection: str, source: ElementTree.Element) -> None:
    """Puts a path where a source names a pool and its volume."""
    pool, volume = source.get("pool"), source.get("volume")
    if not pool or not volume:
        return
    with refusals(connection):
        found = opened.storagePoolLookupByName(pool).storageVolLookupByName(volume)
        source.set("file", found.path())
