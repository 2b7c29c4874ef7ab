"""Giving a logical volume all free extents of its group: what ``lvextend -l +100%FREE`` does."""

from __future__ import annotations

import re
from collections.abc import Sequence

from zeroseal.blocks.ranges import RangeSet
from zeroseal.errors import UnsupportedError
from zeroseal.messages import volumes as messages
from zeroseal.volumes.lvm import layout
from zeroseal.volumes.lvm.read import (
    PhysicalVolume,
    iter_taken,
    read_logical_volumes,
    read_physical_volume,
)
from zeroseal.volumes.lvm.rewrite import next_number, rewrite_texts
from zeroseal.volumes.lvm.text import Section, list_of, number_of, sections_of, segments_of

_SECTOR = layout.SECTOR_BYTES


def extend_logical_volume(volumes: Sequence[PhysicalVolume], group: str, name: str) -> int:
    """Appends all free extents of a group to one of its volumes.

    Args:
        volumes: all physical volumes of the disk.
        group: the group's name.
        name: the logical volume's.

    Returns:
        How many bytes it gained.

    Raises:
        UnsupportedError: it is striped or of another kind, or the metadata is not writable.
    """
    members = [volume for volume in volumes if group in volume.text]
    section = members[0].text[group] if members else None
    if not isinstance(section, dict) or name not in sections_of(section, "logical_volumes"):
        raise UnsupportedError(messages.LVM_METADATA_NOT_WRITABLE.format(name=f"{group}/{name}"))
    segments = segments_of(sections_of(section, "logical_volumes")[name])
    if any(one.get("type") != "striped" or one.get("stripe_count") != 1 for one in segments):
        raise UnsupportedError(messages.LOGICAL_VOLUME_NOT_EXTENDED.format(name=f"{group}/{name}"))
    free = _free_extents(section)
    if not free:
        return 0
    end = number_of(segments[-1], "start_extent") + number_of(segments[-1], "extent_count")
    added, count = [], len(segments)
    for key, first, length in free:
        count += 1
        added.append(_segment_text(count, end, length, key, first))
        end += length
    gained = sum(length for _key, _first, length in free)

    def change(text: bytes) -> bytes:
        words = text.decode("utf-8", "surrogateescape")
        made = _with_segments(words, name, count, "".join(added))
        return next_number(made).encode("utf-8", "surrogateescape")

    for volume in members:
        rewrite_texts(volume, change)
    read_logical_volumes([read_physical_volume(one.name, one.store) for one in volumes])
    return gained * number_of(section, "extent_size") * _SECTOR


def _free_extents(group: Section) -> list[tuple[str, int, int]]:
    """(key of the physical volume, first extent, number) of every free run, in order."""
    taken: dict[str, RangeSet] = {}
    for key, first, count in iter_taken(group):
        taken.setdefault(key, RangeSet()).add(first, first + count)
    found = []
    for key, member in sections_of(group, "physical_volumes").items():
        if "ALLOCATABLE" in list_of(member, "status"):
            free = RangeSet([(0, number_of(member, "pe_count"))])
            for start, end in taken.get(key, RangeSet()):
                free.discard(start, end)
            found += [(key, start, end - start) for start, end in free]
    return found


def _with_segments(words: str, name: str, count: int, added: str) -> str:
    """The text with more segments of a volume; those stand at the end of its section."""
    begin = words.find("logical_volumes {")
    head = re.compile(rf"\n\s*{re.escape(name)} {{").search(words, max(0, begin))
    number = re.compile(r"segment_count = \d+").search(words, head.end()) if head else None
    if begin < 0 or head is None or number is None:
        raise UnsupportedError(messages.LVM_METADATA_NOT_WRITABLE.format(name=name))
    depth, place = 1, head.end()
    while depth and place < len(words):
        depth += {"{": 1, "}": -1}.get(words[place], 0)
        place += 1
    end = words.rindex("\n", 0, place) + 1
    words = words[:end] + added + words[end:]
    return words[: number.start()] + f"segment_count = {count}" + words[number.end() :]


def _segment_text(number: int, start: int, length: int, key: str, first: int) -> str:
    return (
        f"\nsegment{number} {{\nstart_extent = {start}\nextent_count = {length}\n\n"
        f'type = "striped"\nstripe_count = 1\n\nstripes = [\n"{key}", {first}\n]\n}}\n'
    )
