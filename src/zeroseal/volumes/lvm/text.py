"""The text form of LVM2's metadata: sections, assignments, lists (``lvm.conf``'s grammar)."""

from __future__ import annotations

import re

from zeroseal.errors import DamagedError
from zeroseal.messages import volumes as messages

Value = str | int | list["str | int"]
Section = dict[str, "Value | Section"]

_TOKEN = re.compile(
    r"""\s+|\#[^\n]*|(?P<text>"(?:[^"\\]|\\.)*")|(?P<number>-?\d+(?:\.\d+)?)"""
    r"""|(?P<word>[A-Za-z_][\w.+/-]*)|(?P<sign>[{}=\[\],])"""
)
_MAX_DEPTH = 16
_MOST_SEGMENTS = 65536


def parse_text(raw: bytes, where: str) -> Section:
    """Parses a metadata text.

    Raises:
        DamagedError: it does not follow the grammar; ``where`` names it.
    """
    tokens = _tokens(raw.split(b"\0")[0].decode("utf-8", "replace"), where)
    root, position = _parse_section(tokens, 0, where, 0)
    if position != len(tokens):
        raise DamagedError(messages.TRUNCATED_LVM_METADATA.format(where=where))
    return root


def number_of(section: Section, key: str) -> int:
    """A number of a section; raises DamagedError where it has none."""
    value = section.get(key)
    if not isinstance(value, int):
        raise DamagedError(messages.LVM_NUMBER_MISSING.format(key=key))
    return value


def list_of(section: Section, key: str) -> list[str | int]:
    """A list of a section; empty where it has none."""
    value = section.get(key)
    return value if isinstance(value, list) else []


def sections_of(section: Section, key: str) -> dict[str, Section]:
    """The sections inside one of a section's, by name; none where that is not there."""
    inner = section.get(key)
    if not isinstance(inner, dict):
        return {}
    return {name: item for name, item in inner.items() if isinstance(item, dict)}


def segments_of(section: Section) -> list[Section]:
    """The segments of a logical volume in order; raises DamagedError where one is missing."""
    count = number_of(section, "segment_count")
    if not 0 < count <= _MOST_SEGMENTS:
        raise DamagedError(messages.IMPOSSIBLE_SEGMENT_COUNT.format(count=count))
    segments = [section.get(f"segment{number}") for number in range(1, count + 1)]
    if not all(isinstance(segment, dict) for segment in segments):
        raise DamagedError(messages.SEGMENT_OF_LOGICAL_VOLUME_MISSING)
    return sorted(
        (segment for segment in segments if isinstance(segment, dict)),
        key=lambda segment: number_of(segment, "start_extent"),
    )


def _tokens(text: str, where: str) -> list[tuple[str, str]]:
    found, position = [], 0
    while position < len(text):
        match = _TOKEN.match(text, position)
        if match is None:
            raise DamagedError(
                messages.LVM_METADATA_UNREADABLE_AT.format(where=where, position=position)
            )
        if match.lastgroup:
            found.append((match.lastgroup, match[0]))
        position = match.end()
    return found


def _parse_section(
    tokens: list[tuple[str, str]], position: int, where: str, depth: int
) -> tuple[Section, int]:
    section: Section = {}
    damaged = DamagedError(messages.LVM_METADATA_UNREADABLE.format(where=where))
    if depth > _MAX_DEPTH:
        raise damaged
    while position < len(tokens) and tokens[position] != ("sign", "}"):
        kind, name = tokens[position]
        if kind not in ("word", "number") or position + 2 >= len(tokens):
            raise damaged
        sign = tokens[position + 1][1]
        if sign == "{":
            section[name], position = _parse_section(tokens, position + 2, where, depth + 1)
            if position >= len(tokens):
                raise damaged
            position += 1
        elif sign == "=":
            section[name], position = _parse_value(tokens, position + 2, damaged)
        else:
            raise damaged
    return section, position


def _parse_value(
    tokens: list[tuple[str, str]], position: int, damaged: DamagedError
) -> tuple[Value, int]:
    if tokens[position] != ("sign", "["):
        return _scalar(tokens[position], damaged), position + 1
    items: list[str | int] = []
    position += 1
    while position < len(tokens) and tokens[position] != ("sign", "]"):
        if tokens[position] != ("sign", ","):
            items.append(_scalar(tokens[position], damaged))
        position += 1
    if position >= len(tokens):
        raise damaged
    return items, position + 1


def _scalar(token: tuple[str, str], damaged: DamagedError) -> str | int:
    kind, raw = token
    if kind == "text":
        return re.sub(r"\\(.)", r"\1", raw[1:-1])
    if kind == "number":
        return int(float(raw)) if "." in raw else int(raw)
    raise damaged
