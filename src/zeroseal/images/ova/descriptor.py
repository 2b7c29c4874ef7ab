"""The descriptor of an OVF package: which disk lies in which file, and on what hardware it runs."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.messages import images as messages

if TYPE_CHECKING:
    from xml.etree import ElementTree

from zeroseal.errors import DamagedError, UnsupportedError

MAX_BYTES = 16 << 20
_CARDS = {"virtio": "VirtIO", "e1000": "E1000", "e1000e": "E1000e", "vmxnet3": "VmxNet3"}
_FORMATS = {
    "vmdk": "http://www.vmware.com/interfaces/specifications/vmdk.html#sparse",
    "qcow2": "http://www.gnome.org/~markmc/qcow-image-format.html",
    "vhd": "http://technet.microsoft.com/en-us/library/bb676673.aspx",
    "vhdx": "http://www.microsoft.com/en-us/download/details.aspx?id=34750",
    "vdi": "http://www.virtualbox.org/ovf/diskdesc/1#fixed",
    "raw": "urn:zeroseal:disk:raw",
}
STREAM_FORMAT = "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"
_NAMESPACE = re.compile(r"^\{http://schemas\.dmtf\.org/ovf/envelope/(\d)\}Envelope$")


@dataclass(frozen=True)
class PackagedDisk:
    """The disk of a package.

    Attributes:
        file_name: of the file that holds it.
        is_gzipped: whether that file is compressed as a whole.
        envelope_version: 1 or 2.
    """

    file_name: str
    is_gzipped: bool
    envelope_version: str


@dataclass(frozen=True)
class DescribedDisk:
    """A disk of a written package.

    Attributes:
        file_name: of the file that holds it, and ``file_bytes`` how long that is.
        disk_bytes: of the disk.
        format_name: of the file; empty for the form that packages have.
    """

    file_name: str
    file_bytes: int
    disk_bytes: int
    format_name: str = ""


@dataclass(frozen=True)
class Card:
    """A network card of a written package; an empty MAC is left to the host."""

    mac: str = ""
    network: str = "network"
    model: str = "e1000"


@dataclass(frozen=True)
class Appliance:
    """The machine that a written package describes.

    Attributes:
        name: of the machine, and of the files in the archive.
        memory_bytes: a multiple of 1 MiB.
        uefi: firmware UEFI instead of BIOS.
        moment: the time that the archive's members are given, seconds since 1970.
        uuid: of one machine; empty for what is to become several.
        seed: (file name, size in bytes) of a medium in its drive; None for none.
    """

    name: str
    cpus: int = 2
    memory_bytes: int = 2 << 30
    uefi: bool = False
    moment: int = 0
    cards: tuple[Card, ...] = (Card(),)
    uuid: str = ""
    seed: tuple[str, int] | None = None


def parse_descriptor(path: Path, raw: bytes) -> PackagedDisk:
    """Finds the one disk of a package.

    Raises:
        DamagedError: the descriptor is none, or names a file that it does not list.
        UnsupportedError: no disk, several, or one of a kind that we do not read.
    """
    if b"<!DOCTYPE" in raw or b"<!ENTITY" in raw:
        raise UnsupportedError(messages.DESCRIPTOR_WITH_DOCTYPE.format(path=path))
    from xml.etree import ElementTree  # only a package needs it

    try:
        root = ElementTree.fromstring(raw)
    except (ElementTree.ParseError, ValueError, LookupError) as error:
        raise DamagedError(messages.DESCRIPTOR_NOT_XML.format(path=path, error=error)) from error
    version = _NAMESPACE.match(root.tag)
    if version is None:
        raise UnsupportedError(messages.DESCRIPTOR_NOT_AN_ENVELOPE.format(path=path))
    files = {_attribute(item, "id"): item for item in _find(root, "References", "File")}
    disks = [item for item in _find(root, "DiskSection", "Disk") if _attribute(item, "fileRef")]
    if len(disks) != 1:
        raise UnsupportedError(messages.SEVERAL_DISKS.format(path=path, disks=len(disks)))
    if _attribute(disks[0], "parentRef"):
        raise UnsupportedError(messages.DISK_THAT_DEPENDS_ON_ANOTHER_DISK.format(path=path))
    file = files.get(_attribute(disks[0], "fileRef"))
    if file is None or not _attribute(file, "href"):
        raise DamagedError(messages.DISK_WITHOUT_FILE_REFERENCE.format(path=path))
    name = _attribute(file, "href")
    if _attribute(file, "chunkSize"):
        raise UnsupportedError(messages.DISK_IN_CHUNKS.format(path=path))
    compression = _attribute(file, "compression")
    if compression not in ("", "identity", "gzip"):
        raise UnsupportedError(
            messages.DISK_COMPRESSION_NOT_SUPPORTED.format(path=path, compression=compression)
        )
    if "/" in name or "\\" in name or ":" in name:
        raise UnsupportedError(messages.REFERS_TO_DISK_OUTSIDE_PACKAGE.format(path=path, name=name))
    return PackagedDisk(name, compression == "gzip", version[1])


def _find(root: ElementTree.Element, section: str, item: str) -> Iterator[ElementTree.Element]:
    for outer in root:
        if _local(outer.tag) == section:
            yield from (inner for inner in outer if _local(inner.tag) == item)


def _local(tag: str) -> str:
    return tag.rpartition("}")[2]


def _attribute(element: ElementTree.Element, name: str) -> str:
    for key, value in element.attrib.items():
        if _local(key) == name:
            return value
    return ""


def build_descriptor(appliance: Appliance, disks: tuple[DescribedDisk, ...]) -> bytes:
    """A descriptor of envelope version 1 for one machine.

    Args:
        appliance: the machine.
        disks: what it has; it boots from the first.
    """
    from xml.sax.saxutils import escape, quoteattr

    firmware = (
        '\n      <vmw:Config ovf:required="false" vmw:key="firmware" vmw:value="efi"/>'
        if appliance.uefi
        else ""
    )
    files = [(disk.file_name, disk.file_bytes) for disk in disks]
    files += [appliance.seed] if appliance.seed else []
    references = "".join(
        f'\n    <File ovf:id="file{number}" ovf:href={quoteattr(name)} ovf:size="{size}"/>'
        for number, (name, size) in enumerate(files, 1)
    )
    disk_section = "".join(
        f'\n    <Disk ovf:diskId="disk{number}" ovf:fileRef="file{number}"'
        f' ovf:capacity="{disk.disk_bytes}"\n      ovf:capacityAllocationUnits="byte"'
        f' ovf:format="{_FORMATS.get(disk.format_name, STREAM_FORMAT)}"/>'
        for number, disk in enumerate(disks, 1)
    )
    networks = "".join(
        f"\n    <Network ovf:name={quoteattr(name)}>"
        "\n      <Description>A network of the machine</Description>\n    </Network>"
        for name in dict.fromkeys(card.network for card in appliance.cards)
    )
    system_id = escape(appliance.uuid or appliance.name)
    items = "".join(map(_hardware_item, _hardware(appliance, len(disks))))
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"
  xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
  xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
  xmlns:vssd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData"
  xmlns:vmw="http://www.vmware.com/schema/ovf">
  <References>{references}
  </References>
  <DiskSection>
    <Info>The disks of the machine</Info>{disk_section}
  </DiskSection>
  <NetworkSection>
    <Info>The networks of the machine</Info>{networks}
  </NetworkSection>
  <VirtualSystem ovf:id={quoteattr(appliance.name)}>
    <Info>A machine</Info>
    <Name>{escape(appliance.name)}</Name>
    <OperatingSystemSection ovf:id="101">
      <Info>The system on the disk</Info>
      <Description>Linux, 64 bit</Description>
    </OperatingSystemSection>
    <VirtualHardwareSection>
      <Info>What the machine needs</Info>
      <System>
        <vssd:ElementName>Virtual hardware</vssd:ElementName>
        <vssd:InstanceID>0</vssd:InstanceID>
        <vssd:VirtualSystemIdentifier>{system_id}</vssd:VirtualSystemIdentifier>
        <vssd:VirtualSystemType>vmx-10</vssd:VirtualSystemType>
      </System>{items}{firmware}
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>
""".encode()


Item = dict[str, str | int]


def _hardware(appliance: Appliance, disk_count: int) -> list[Item]:
    """The hardware's items, numbered from 1 on."""
    megabytes = appliance.memory_bytes >> 20
    items: list[Item] = [
        {
            "AllocationUnits": "hertz * 10^6",
            "ElementName": f"{appliance.cpus} virtual CPUs",
            "ResourceType": 3,
            "VirtualQuantity": appliance.cpus,
        },
        {
            "AllocationUnits": "byte * 2^20",
            "ElementName": f"{megabytes} MB of memory",
            "ResourceType": 4,
            "VirtualQuantity": megabytes,
        },
        {
            "Address": 0,
            "ElementName": "SCSI controller",
            "ResourceSubType": "lsilogic",
            "ResourceType": 6,
        },
    ]
    controller = len(items)
    items += [
        {
            "AddressOnParent": number - 1,
            "ElementName": f"Disk {number}",
            "HostResource": f"ovf:/disk/disk{number}",
            "Parent": controller,
            "ResourceType": 17,
        }
        for number in range(1, disk_count + 1)
    ]
    for number, card in enumerate(appliance.cards, 1):
        item: Item = {
            "AutomaticAllocation": "true",
            "Connection": card.network,
            "ElementName": f"Network card {number}",
            "ResourceSubType": _CARDS.get(card.model, "E1000"),
            "ResourceType": 10,
        }
        items.append(item | ({"Address": card.mac} if card.mac else {}))
    if appliance.seed:
        items.append({"Address": 0, "ElementName": "IDE controller", "ResourceType": 5})
        items.append(
            {
                "AddressOnParent": 0,
                "AutomaticAllocation": "true",
                "ElementName": "Drive with the seed medium",
                "HostResource": f"ovf:/file/file{disk_count + 1}",
                "Parent": len(items),
                "ResourceType": 15,
            }
        )
    return [item | {"InstanceID": number} for number, item in enumerate(items, 1)]


def _hardware_item(fields: Item) -> str:
    """One ``Item``; the schema wants its elements in the order of their names."""
    from xml.sax.saxutils import escape

    lines = [
        f"        <rasd:{key}>{escape(str(fields[key]))}</rasd:{key}>" for key in sorted(fields)
    ]
    return "\n      <Item>\n" + "\n".join(lines) + "\n      </Item>"
