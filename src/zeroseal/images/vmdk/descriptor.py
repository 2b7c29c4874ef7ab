"""The descriptor of a VMDK: ``key=value`` lines and a line for each extent."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.messages import images as messages

MAX_BYTES = 1 << 20
_ASSIGNMENT = re.compile(r'^\s*([A-Za-z][\w.]*)\s*=\s*"?([^"\n]*?)"?\s*$', re.M)
_EXTENT = re.compile(
    r'^(RW|RDONLY|NOACCESS)\s+(\d+)\s+([A-Z0-9]+)(?:\s+"([^"\n]*)"(?:\s+(\d+))?)?', re.M
)
_MAX_EXTENTS = 4096
_FOREIGN = {
    "VMFSSPARSE": "a sparse extent of an ESX host",
    "SESPARSE": "a space-efficient sparse extent of an ESX host",
    "VMFSRDM": "a raw device",
    "VMFSRAW": "a raw device",
}
FLAT, SPARSE, ZERO = "FLAT", "SPARSE", "ZERO"


@dataclass(frozen=True)
class ExtentLine:
    """One extent; ``offset_sectors`` is where a flat one begins in its file."""

    sectors: int
    kind: str
    name: str
    offset_sectors: int


@dataclass(frozen=True)
class Descriptor:
    """What the text says."""

    create_type: str
    content_id: str
    parent_id: str
    parent_name: str
    extents: list[ExtentLine]


def parse_descriptor(path: Path, raw: bytes) -> Descriptor:
    """Parses a descriptor.

    Raises:
        DamagedError: it names no extent.
        UnsupportedError: an extent is of a kind that we do not read.
    """
    text = raw.split(b"\0")[0].decode("utf-8", "surrogateescape").replace("\r", "")
    values = {key.lower(): value for key, value in _ASSIGNMENT.findall(text)}
    extents = []
    for _access, sectors, kind, name, offset in _EXTENT.findall(text)[:_MAX_EXTENTS]:
        if kind in _FOREIGN:
            raise UnsupportedError(
                messages.VMDK_EXTENT_NOT_SUPPORTED.format(
                    path=path, foreign=_FOREIGN[kind], kind=kind
                ),
                format="vmdk",
            )
        plain = FLAT if kind == "VMFS" else kind
        if plain not in (FLAT, SPARSE, ZERO):
            raise UnsupportedError(
                messages.EXTENT_OF_UNKNOWN_TYPE.format(path=path, kind=kind), format="vmdk"
            )
        extents.append(ExtentLine(int(sectors), plain, name, int(offset or 0)))
    if not extents:
        raise DamagedError(
            messages.VMDK_DESCRIPTOR_WITHOUT_EXTENTS.format(path=path), format="vmdk"
        )
    if sum(extent.sectors for extent in extents) >= 1 << 54:
        raise DamagedError(messages.VMDK_SIZE_TOO_LARGE.format(path=path), format="vmdk")
    return Descriptor(
        create_type=values.get("createtype", ""),
        content_id=_hex_id(values.get("cid", "")),
        parent_id=_hex_id(values.get("parentcid", "ffffffff")),
        parent_name=values.get("parentfilenamehint", ""),
        extents=extents,
    )


def _hex_id(text: str) -> str:
    """An ID in its whole length: some writers leave out leading zeros."""
    return text.lower().rjust(8, "0")


def build_descriptor(create_type: str, sectors: int, name: str, content_id: str) -> bytes:
    """A descriptor for a disk of one sparse extent."""
    cylinders = min(max(sectors // (255 * 63), 1), 65535)
    return (
        "# Disk DescriptorFile\n"
        "version=1\n"
        "encoding=UTF-8\n"
        f"CID={content_id}\n"
        "parentCID=ffffffff\n"
        f'createType="{create_type}"\n'
        "\n"
        "# Extent description\n"
        f'RW {sectors} SPARSE "{name}"\n'
        "\n"
        "# The Disk Data Base\n"
        'ddb.adapterType = "lsilogic"\n'
        f'ddb.geometry.cylinders = "{cylinders}"\n'
        'ddb.geometry.heads = "255"\n'
        'ddb.geometry.sectors = "63"\n'
        'ddb.virtualHWVersion = "7"\n'
    ).encode()
