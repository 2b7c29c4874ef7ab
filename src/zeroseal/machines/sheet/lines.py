"""On which line of a TOML text a key stands, so that an error can say it.

``tomllib`` gives values without places. This walks the lines once and notes where each table and
key begins; what stands inside inline tables and arrays has the line of the key that holds it.
"""

from __future__ import annotations

import re

from zeroseal.documents import KeyPath

_KEY = r"""(?:[A-Za-z0-9_-]+|"[^"\n]*"|'[^'\n]*')"""
_DOTTED = rf"{_KEY}(?:\s*\.\s*{_KEY})*"
_TABLE = re.compile(rf"^\s*\[\s*({_DOTTED})\s*\]")
_ARRAY_TABLE = re.compile(rf"^\s*\[\[\s*({_DOTTED})\s*\]\]")
_ASSIGNMENT = re.compile(rf"^\s*({_DOTTED})\s*=\s*(.*)$")
_TOKEN = re.compile(
    r'"""|\'\'\'|"(?:\\.|[^"\\])*"|\'[^\']*\'|#.*|[\[\]{}]',
)


def find_lines(text: str) -> dict[KeyPath, int]:
    """The line (1-based) of every table and key, by its path as ``documents`` names places."""
    found: dict[KeyPath, int] = {}
    counts: dict[KeyPath, int] = {}
    table: KeyPath = ()
    state = _Open()
    for number, line in enumerate(text.splitlines(), 1):
        if state.is_open:
            state.read(line)
        elif match := _ARRAY_TABLE.match(line):
            table = _with_indexes(_parts(match[1]), counts)
            counts[table] = counts.get(table, -1) + 1
            table = (*table, counts[table])
            found.setdefault(table, number)
            found.setdefault(table[:-1], number)
        elif match := _TABLE.match(line):
            table = _with_indexes(_parts(match[1]), counts, is_whole=True)
            found.setdefault(table, number)
        elif match := _ASSIGNMENT.match(line):
            path = (*table, *_parts(match[1]))
            for length in range(len(table) + 1, len(path) + 1):
                found.setdefault(path[:length], number)
            state.read(match[2])
    return found


def line_of(lines: dict[KeyPath, int], path: KeyPath) -> tuple[int, int]:
    """(how many parts of the path are known, the line of the longest known part; 0 for none)."""
    for length in range(len(path), 0, -1):
        if path[:length] in lines:
            return length, lines[path[:length]]
    return 0, 0


class _Open:
    """Whether the text so far ends inside a multi-line string or inside brackets."""

    def __init__(self) -> None:
        self._quotes = ""
        self._depth = 0

    @property
    def is_open(self) -> bool:
        return bool(self._quotes) or self._depth > 0

    def read(self, line: str) -> None:
        position = 0
        while position < len(line):
            if self._quotes:
                end = line.find(self._quotes, position)
                if end < 0:
                    return
                position, self._quotes = end + 3, ""
                continue
            match = _TOKEN.search(line, position)
            if match is None or match[0].startswith("#"):
                return
            position = match.end()
            if match[0] in ('"""', "'''"):
                self._quotes = match[0]
            elif match[0] in "[{":
                self._depth += 1
            elif match[0] in "]}":
                self._depth -= 1


def _parts(dotted: str) -> KeyPath:
    return tuple(part.strip("\"'") for part in re.findall(_KEY, dotted))


def _with_indexes(parts: KeyPath, counts: dict[KeyPath, int], is_whole: bool = False) -> KeyPath:
    """A path with the index of the last entry after each name that is an array of tables."""
    path: KeyPath = ()
    for position, part in enumerate(parts):
        path = (*path, part)
        if path in counts and (is_whole or position < len(parts) - 1):
            path = (*path, counts[path])
    return path
