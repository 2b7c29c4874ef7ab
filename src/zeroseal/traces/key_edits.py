"""Edits of single keys in text formats, line by line, so that comments and order survive.

Formats: ``assignments`` (shell: ``KEY=value``), ``ini`` (sections in brackets; also units of
systemd, keyfiles and TOML), ``yaml`` (block style), ``words`` (a keyword, then its value) and
``lines`` (the key is a whole line). Keys are patterns (``HWADDR*``), compared without regard to
case.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass

FORMATS = ("assignments", "ini", "yaml", "words", "lines")
_COMMENTS = ("#", ";")


@dataclass(frozen=True)
class KeyEdit:
    """What becomes of some keys of a text.

    Attributes:
        format: one of ``FORMATS``.
        section: with ``ini``, a pattern of the sections that are meant, with ``yaml`` of the keys
            that the lines hang on; empty for all.
        drop: patterns of keys whose lines go.
        replace: (pattern of a key, the line that takes its place) pairs; indentation stays.
        values: a pattern: only keys with such values are meant; empty for all.
    """

    format: str
    section: str = ""
    drop: tuple[str, ...] = ()
    replace: tuple[tuple[str, str], ...] = ()
    values: str = ""

    def new_line(self, key: str, value: str) -> str | None:
        """What takes the place of a key's line: empty to drop it, None to let it be."""
        if self.values and not fnmatch.fnmatchcase(value.lower(), self.values.lower()):
            return None
        for pattern, line in self.replace:
            if fnmatch.fnmatchcase(key.lower(), pattern.lower()):
                return line
        dropped = any(fnmatch.fnmatchcase(key.lower(), item.lower()) for item in self.drop)
        return "" if dropped else None


def edit_keys(text: str, edit: KeyEdit) -> str:
    """The text with the edit done; the same text where it has nothing to do."""
    return "".join(_iter_edited(text, edit))


def edited_values(text: str, edit: KeyEdit) -> list[str]:
    """The values that an edit takes out of a text."""
    return [
        value
        for line, key, value, _indent in _iter_lines(text, edit)
        if key and edit.new_line(key, value) not in (None, line.strip())
    ]


def _iter_edited(text: str, edit: KeyEdit) -> Iterator[str]:
    dropped_below: int | None = None
    for line, key, value, indent in _iter_lines(text, edit):
        if dropped_below is not None:
            # what hangs on a dropped key of YAML goes with it, as do the lines that go on a value
            if line.strip() and indent > dropped_below:
                continue
            dropped_below = None
        new = edit.new_line(key, value) if key else None
        if new is None:
            yield line
            continue
        if edit.format in ("yaml", "ini", "words"):
            dropped_below = indent
        end = "\n" if line.endswith("\n") else ""
        if new and new + end != line.lstrip():
            yield " " * indent + new + end
        elif new:
            yield line


def _iter_lines(text: str, edit: KeyEdit) -> Iterator[tuple[str, str, str, int]]:
    """Yields (line, key, value, indentation); the key is empty where a line is none of ours."""
    split = _SPLITTERS[edit.format]
    section = ""
    above: list[tuple[int, str]] = []  # (indentation, key) of what a line of YAML hangs on
    for line in text.splitlines(keepends=True):
        bare = line.strip()
        indent = len(line) - len(line.lstrip(" \t"))
        if edit.format == "ini" and bare.startswith("["):
            section = bare.strip("[]")
        if edit.format == "yaml" and bare and not bare.startswith("#"):
            above = [item for item in above if item[0] < indent]
            section = above[-1][1] if above else ""
            above.append((indent, split(bare)[0]))
        is_meant = not edit.section or fnmatch.fnmatchcase(section.lower(), edit.section.lower())
        if not bare or bare.startswith(_COMMENTS) or not is_meant:
            yield line, "", "", indent
            continue
        key, value = split(bare)
        yield line, key, value, indent


def _by_equals(line: str) -> tuple[str, str]:
    key, equals, value = line.removeprefix("export ").partition("=")
    return (key.strip(), value.strip().strip("'\"")) if equals else ("", "")


def _by_colon(line: str) -> tuple[str, str]:
    found = re.match(r"""(?:-\s+)?["']?([^\s"':]+)["']?\s*:(?:\s+(.*))?$""", line)
    return (found[1], (found[2] or "").strip("'\"")) if found else ("", "")


def _by_words(line: str) -> tuple[str, str]:
    key, _space, value = line.partition(" ")
    return key, value.strip()


def _whole(line: str) -> tuple[str, str]:
    return line, line


_SPLITTERS: dict[str, Callable[[str], tuple[str, str]]] = {
    "assignments": _by_equals,
    "ini": _by_equals,
    "yaml": _by_colon,
    "words": _by_words,
    "lines": _whole,
}
