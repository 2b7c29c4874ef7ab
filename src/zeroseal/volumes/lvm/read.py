"""From physical volumes to logical ones."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from zeroseal.blocks.pieced import Piece, PiecedStore
from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.messages import volumes as messages
from zeroseal.volumes.lvm import layout
from zeroseal.volumes.lvm.layout import AreaHeader, LabelHeader, PvHeader, TextLocation
from zeroseal.volumes.lvm.text import (
    Section,
    list_of,
    number_of,
    parse_text,
    sections_of,
    segments_of,
)

_SECTOR = layout.SECTOR_BYTES
_MOST_AREAS = 16
_MOST_STRIPES = 1 << 20  # pieces of one striped volume


@dataclass(frozen=True)
class PhysicalVolume:
    """A physical volume and the newest text of its group's metadata.

    Attributes:
        name: of the partition it lies on.
        uuid: without dashes, as in the label.
        areas: (offset, size) of its metadata areas.
        text: empty where it keeps no metadata: other volumes of the group do.
    """

    name: str
    store: Store
    uuid: str
    areas: tuple[tuple[int, int], ...]
    text: Section


@dataclass(frozen=True)
class LogicalVolume:
    """A logical volume that can be read; ``pieces`` are its parts in order."""

    group: str
    name: str
    uuid: str
    store: PiecedStore


def is_physical_volume(store: Store) -> bool:
    """Whether a label lies in one of the first sectors."""
    return find_label(store) is not None


def read_physical_volume(name: str, store: Store) -> PhysicalVolume:
    """Reads the label and the newest metadata.

    Raises:
        DamagedError: they contradict themselves.
    """
    label = find_label(store)
    if label is None:
        raise DamagedError(messages.NO_VALID_LVM_LABEL.format(name=name))
    sector, header = label
    start = sector * _SECTOR + header.offset_bytes
    raw = store.read(start, min(4096, store.size_bytes - start))
    pv = PvHeader.parse(raw[: PvHeader.SIZE])
    lists = _area_lists(raw[PvHeader.SIZE :])
    _data, areas = next(lists, []), next(lists, [])
    texts = [text for area in areas if (text := _read_area(name, store, area))]
    newest = max(texts, key=lambda text: _seqno(name, text), default={})
    return PhysicalVolume(name, store, pv.uuid.decode("ascii", "replace"), tuple(areas), newest)


def read_logical_volumes(volumes: Sequence[PhysicalVolume]) -> list[LogicalVolume]:
    """Puts together all logical volumes of all groups, in the order of their metadata.

    Raises:
        DamagedError: the metadata contradicts itself.
        UnsupportedError: a volume is of a kind that we do not read, or a part of it is elsewhere.
    """
    found = []
    for name, group in _newest_groups(volumes).items():
        found += _volumes_of_group(name, group, {volume.uuid: volume for volume in volumes})
    return found


def _newest_groups(volumes: Sequence[PhysicalVolume]) -> dict[str, Section]:
    groups: dict[str, Section] = {}
    for volume in volumes:
        for name, section in volume.text.items():
            if isinstance(section, dict) and "extent_size" in section:
                known = groups.get(name)
                if known is None or number_of(known, "seqno") < number_of(section, "seqno"):
                    groups[name] = section
    return groups


def used_ranges(
    volume: PhysicalVolume, volumes: Sequence[PhysicalVolume]
) -> list[tuple[int, int]] | None:
    """(offset, length) of what is in use on a physical volume; None where no group has it.

    That is its label, the headers and live texts of its metadata areas, and the extents of all
    logical volumes, hidden ones too.

    Raises:
        DamagedError: the metadata contradicts itself.
    """
    group = next((item for item in _newest_groups(volumes).values() if _has(item, volume)), None)
    if group is None:
        return None
    label = find_label(volume.store)
    used = [(label[0] * _SECTOR, _SECTOR)] if label else []
    for offset, size in volume.areas:
        used.append((offset, layout.AREA_HEADER_BYTES))
        raw = volume.store.read(offset + AreaHeader.SIZE, TextLocation.SIZE)
        location = TextLocation.parse(raw)
        if location.offset and location.length:
            used += [(offset + at, length) for at, length in text_ranges(location, size)]
    extent_bytes = number_of(group, "extent_size") * _SECTOR
    keys = {
        key: number_of(member, "pe_start") * _SECTOR
        for key, member in sections_of(group, "physical_volumes").items()
        if _uuid_of(member) == volume.uuid
    }
    for key, first, count in iter_taken(group):
        if key in keys:
            used.append((keys[key] + first * extent_bytes, count * extent_bytes))
    return used


def iter_taken(group: Section) -> Iterator[tuple[str, int, int]]:
    """Yields (key of a physical volume, first extent, number) of all that logical volumes have.

    Raises:
        DamagedError, UnsupportedError: as ``used_ranges``.
    """
    for section in sections_of(group, "logical_volumes").values():
        for segment in segments_of(section):
            stripes = _stripe_count("of the group", segment)
            count = number_of(segment, "extent_count") // max(1, stripes)
            listed = list_of(segment, "stripes")
            for key, first in zip(listed[::2], listed[1::2], strict=False):
                if isinstance(first, int):
                    yield str(key), first, count


def _has(group: Section, volume: PhysicalVolume) -> bool:
    members = sections_of(group, "physical_volumes").values()
    return any(_uuid_of(member) == volume.uuid for member in members)


def find_label(store: Store) -> tuple[int, LabelHeader] | None:
    """(sector, label) of a physical volume; None where there is none that is sound."""
    for sector in range(layout.LABEL_SECTORS):
        if (sector + 1) * _SECTOR > store.size_bytes:
            return None
        raw = store.read(sector * _SECTOR, _SECTOR)
        header = LabelHeader.parse(raw[: LabelHeader.SIZE])
        if (
            header.magic == layout.LABEL_MAGIC
            and header.kind == layout.LABEL_TYPE
            and header.sector == sector
            and header.crc == layout.crc_of(raw[20:])
        ):
            return sector, header
    return None


def _area_lists(raw: bytes) -> Iterator[list[tuple[int, int]]]:
    """Lists of (offset, size), each ended by a pair of zeros."""
    areas: list[tuple[int, int]] = []
    for start in range(0, len(raw) - 15, 16):
        offset = int.from_bytes(raw[start : start + 8], "little")
        size = int.from_bytes(raw[start + 8 : start + 16], "little")
        if offset:
            areas.append((offset, size))
            if len(areas) > _MOST_AREAS:
                return
        else:
            yield areas
            areas = []


def _read_area(name: str, store: Store, area: tuple[int, int]) -> Section:
    """The live text of a metadata area; empty where it holds none."""
    offset, size = area
    if size < layout.AREA_HEADER_BYTES or offset + size > store.size_bytes:
        raise DamagedError(messages.LVM_METADATA_AREA_OUTSIDE_BOUNDS.format(name=name))
    raw = store.read(offset, layout.AREA_HEADER_BYTES)
    header = AreaHeader.parse(raw[: AreaHeader.SIZE])
    if header.magic != layout.AREA_MAGIC or header.crc != layout.crc_of(raw[4:]):
        raise DamagedError(messages.DAMAGED_LVM_METADATA_AREA.format(name=name))
    location = TextLocation.parse(raw[AreaHeader.SIZE : AreaHeader.SIZE + TextLocation.SIZE])
    if not location.offset or not location.length or location.flags & layout.IGNORED:
        return {}
    text = b"".join(
        store.read(offset + start, length) for start, length in text_ranges(location, size)
    )
    if layout.crc_of(text) != location.crc:
        raise DamagedError(messages.LVM_METADATA_THAT_FAILS_CHECKSUM.format(name=name))
    return parse_text(text, name)


def text_ranges(location: TextLocation, area_bytes: int) -> list[tuple[int, int]]:
    """(offset in the area, length) of the pieces of a text: one, or two where it wraps.

    Raises:
        DamagedError: it does not fit into the area.
    """
    first = layout.AREA_HEADER_BYTES
    room = area_bytes - first
    if not first <= location.offset < area_bytes or location.length > min(
        room, layout.MAX_METADATA_BYTES
    ):
        raise DamagedError(messages.LVM_METADATA_EXTENDS_OUTSIDE_AREA)
    length = min(location.length, area_bytes - location.offset)
    pieces = [(location.offset, length)]
    if length < location.length:
        pieces.append((first, location.length - length))
    return pieces


def _volumes_of_group(
    group_name: str, group: Section, present: Mapping[str, PhysicalVolume]
) -> list[LogicalVolume]:
    extent_bytes = number_of(group, "extent_size") * _SECTOR
    if not 0 < extent_bytes <= 1 << 40:
        raise DamagedError(
            messages.IMPOSSIBLE_EXTENT_SIZE.format(group_name=group_name, extent_bytes=extent_bytes)
        )
    members = sections_of(group, "physical_volumes")
    stores: dict[str, tuple[PhysicalVolume, int]] = {}
    for key, member in members.items():
        uuid = _uuid_of(member)
        volume = present.get(uuid)
        if volume is None:
            raise UnsupportedError(
                messages.PHYSICAL_VOLUME_MISSING.format(
                    group_name=group_name, uuid_text=layout.uuid_text(uuid)
                )
            )
        stores[key] = volume, number_of(member, "pe_start") * _SECTOR
    found = []
    for name, section in sections_of(group, "logical_volumes").items():
        if "VISIBLE" not in list_of(section, "status"):
            _check_kinds(group_name, name, section)
            continue
        pieces = _pieces(f"{group_name}/{name}", section, extent_bytes, stores)
        found.append(
            LogicalVolume(group_name, name, str(section.get("id", "")), PiecedStore(pieces))
        )
    return found


def _check_kinds(group: str, name: str, section: Section) -> None:
    """Hidden volumes are parts of others; the kind of their segments tells what those are."""
    for segment in segments_of(section):
        _stripe_count(f"{group}/{name}", segment)


def _stripe_count(name: str, segment: Section) -> int:
    kind = str(segment.get("type", ""))
    if kind not in ("striped", "linear"):
        raise UnsupportedError(
            messages.LOGICAL_VOLUME_TYPE_NOT_SUPPORTED.format(name=name, kind=kind)
        )
    return number_of(segment, "stripe_count")


def _pieces(
    name: str,
    section: Section,
    extent_bytes: int,
    stores: Mapping[str, tuple[PhysicalVolume, int]],
) -> list[Piece]:
    pieces: list[Piece] = []
    next_extent = 0
    for segment in segments_of(section):
        extents = number_of(segment, "extent_count")
        stripes = _stripe_count(name, segment)
        if number_of(segment, "start_extent") != next_extent or extents <= 0 or extents >= 1 << 40:
            raise DamagedError(messages.LOGICAL_VOLUME_GAPS_BETWEEN_SEGMENTS.format(name=name))
        next_extent += extents
        places = _places(name, segment, stripes, extent_bytes, stores)
        length = extents * extent_bytes
        if stripes == 1:
            pieces.append(_cut(name, places[0], 0, length))
            continue
        stripe_bytes = number_of(segment, "stripe_size") * _SECTOR
        if stripe_bytes <= 0 or length % (stripe_bytes * stripes):
            raise DamagedError(
                messages.IMPOSSIBLE_STRIPE_SIZE.format(name=name, stripe_bytes=stripe_bytes)
            )
        if length // stripe_bytes > _MOST_STRIPES:
            raise UnsupportedError(messages.LOGICAL_VOLUME_TOO_MANY_STRIPES.format(name=name))
        for number in range(length // stripe_bytes):
            row, column = divmod(number, stripes)
            pieces.append(_cut(name, places[column], row * stripe_bytes, stripe_bytes))
    return pieces


def _places(
    name: str,
    segment: Section,
    stripes: int,
    extent_bytes: int,
    stores: Mapping[str, tuple[PhysicalVolume, int]],
) -> list[Piece]:
    """Where each stripe begins, as a piece that reaches to the end of its physical volume."""
    listed = list_of(segment, "stripes")
    if not 0 < stripes <= 128 or len(listed) != 2 * stripes:
        raise DamagedError(messages.LOGICAL_VOLUME_INVALID_LIST_OF_STRIPES.format(name=name))
    found = []
    for key, first in zip(listed[::2], listed[1::2], strict=True):
        if str(key) not in stores or not isinstance(first, int) or first < 0:
            raise DamagedError(messages.UNKNOWN_PHYSICAL_VOLUME.format(name=name))
        volume, start = stores[str(key)]
        offset = start + first * extent_bytes
        found.append(Piece(volume.store, offset, volume.store.size_bytes - offset))
    return found


def _cut(name: str, place: Piece, start: int, length: int) -> Piece:
    if start + length > place.length:
        raise DamagedError(messages.LOGICAL_VOLUME_TOO_LONG.format(name=name))
    return Piece(place.store, place.offset_bytes + start, length)


def _uuid_of(member: Section) -> str:
    """A physical volume's UUID, without dashes as in its label."""
    return str(member.get("id", "")).replace("-", "")


def _seqno(name: str, text: Section) -> int:
    numbers = [
        item["seqno"] for item in text.values() if isinstance(item, dict) and "seqno" in item
    ]
    if len(numbers) != 1 or not isinstance(numbers[0], int):
        raise DamagedError(messages.LVM_METADATA_WITHOUT_SEQUENCE_NUMBER.format(name=name))
    return numbers[0]
