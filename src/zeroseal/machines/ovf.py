"""The hardware that an OVF descriptor describes, as a machine definition.

Source: DMTF DSP0243 (OVF) and the CIM classes that its items are of (resource types of DSP1041).
"""

from __future__ import annotations

import re
from xml.etree import ElementTree

from zeroseal.errors import DamagedError
from zeroseal.machines.definition import MachineDefinition, NetworkCard, new_uuid
from zeroseal.messages import machines as messages

Element = ElementTree.Element
_CPU, _MEMORY, _NETWORK, _FLOPPY, _USB, _SOUND, _SERIAL = "3", "4", "10", "14", "23", "35", "21"
_IDE, _SCSI, _DISK = "5", "6", "17"
_NEEDLESS = {_FLOPPY: "floppy", _USB: "usb", _SOUND: "sound"}
_UUID = re.compile(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}")
_ALLOCATION = {"byte * 2^20": 1, "megabytes": 1, "mb": 1, "byte * 2^30": 1024, "gigabytes": 1024}
_CARDS = {"e1000": "e1000", "e1000e": "e1000e", "vmxnet3": "vmxnet3", "pcnet32": "e1000"}


def parse_ovf_machine(root: Element, where: str) -> MachineDefinition:
    """Parses the one machine of a descriptor.

    Raises:
        DamagedError: it describes no machine, or several.
    """
    systems = _all(root, "VirtualSystem")
    if len(systems) != 1:
        raise DamagedError(
            messages.DESCRIBES_SEVERAL_MACHINES.format(where=where, systems=len(systems))
        )
    hardware = _all(systems[0], "VirtualHardwareSection")
    items = [item for section in hardware for item in section if _tag(item).endswith("Item")]
    name = next((child.text or "" for child in systems[0] if _tag(child) == "Name"), "")
    uuids = [_UUID.fullmatch(_value(item, "VirtualSystemIdentifier")) for item in root.iter()]
    own = next((found[0] for found in uuids if found), "")
    identifier = next((v for k, v in systems[0].attrib.items() if k.endswith("}id")), "machine")
    memory = _first(items, _MEMORY)
    cpu = _first(items, _CPU)
    disks = _disk_files(root, items)
    cards = [_read_card(item) for item in items if _value(item, "ResourceType") == _NETWORK]
    return MachineDefinition(
        name=name.strip() or identifier,
        uuid=own.lower() or new_uuid(),
        disk=disks[0] if disks else "disk",
        more_disks=tuple(disks[1:]),
        disk_bus=_disk_bus(items),
        adapters=tuple(cards),
        cpus=_count(cpu, 1),
        memory_mib=_count(memory, 1024) * _scale(memory),
        firmware=_firmware(hardware),
        serial_console=_first(items, _SERIAL) is not None,
        display="vga",
        devices=tuple(
            dict.fromkeys(
                _NEEDLESS[kind]
                for item in items
                if (kind := _value(item, "ResourceType")) in _NEEDLESS
            )
        ),
        agent=False,
    )


def _disk_files(root: Element, items: list[Element]) -> list[str]:
    """The names of the files that hold the machine's disks, in the order of its hardware."""
    files = {_attribute(item, "id"): _attribute(item, "href") for item in _all(root, "File")}
    by_disk = {
        _attribute(item, "diskId"): files.get(_attribute(item, "fileRef"), "")
        for item in _all(root, "Disk")
    }
    wanted = [
        _value(item, "HostResource").rpartition("/")[2]
        for item in items
        if _value(item, "ResourceType") == _DISK
    ]
    return [by_disk[name] for name in wanted if by_disk.get(name)]


def _disk_bus(items: list[Element]) -> str:
    """By the controller that the first disk hangs on; what is not known is SCSI's most common."""
    disk = _first(items, _DISK)
    parent = _value(disk, "Parent") if disk is not None else ""
    for item in items:
        if parent and _value(item, "InstanceID") == parent:
            kind = _value(item, "ResourceType")
            words = f"{_value(item, 'ResourceSubType')} {_value(item, 'ElementName')}".lower()
            if "virtio" in words:
                return "virtio"
            if "nvme" in words:
                return "nvme"
            return {_IDE: "sata", _SCSI: "scsi"}.get(kind, "sata")
    return "virtio"


def _read_card(item: Element) -> NetworkCard:
    kind = _value(item, "ResourceSubType").lower()
    return NetworkCard(
        mac=_value(item, "Address").lower(),
        model=_CARDS.get(kind, "virtio"),
        network=_value(item, "Connection") or "user",
        connected=_value(item, "AutomaticAllocation").lower() != "false",
    )


def _firmware(hardware: list[Element]) -> str:
    for section in hardware:
        for item in section.iter():
            values = {key.rpartition("}")[2]: value for key, value in item.attrib.items()}
            if values.get("key") == "firmware" and values.get("value", "").lower() == "efi":
                return "uefi"
    return "bios"


def _scale(item: Element | None) -> int:
    unit = _value(item, "AllocationUnits").lower() if item is not None else ""
    return _ALLOCATION.get(unit, 1)


def _count(item: Element | None, default: int) -> int:
    text = _value(item, "VirtualQuantity") if item is not None else ""
    return int(text) if text.isdigit() and 0 < int(text) < 1 << 26 else default


def _first(items: list[Element], kind: str) -> Element | None:
    return next((item for item in items if _value(item, "ResourceType") == kind), None)


def _value(item: Element, name: str) -> str:
    return next(((child.text or "").strip() for child in item if _tag(child) == name), "")


def _attribute(item: Element, name: str) -> str:
    return next((v for k, v in item.attrib.items() if k.rpartition("}")[2] == name), "")


def _all(root: Element, name: str) -> list[Element]:
    return [item for item in root.iter() if _tag(item) == name]


def _tag(item: Element) -> str:
    return item.tag.rpartition("}")[2]
