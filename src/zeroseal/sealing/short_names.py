"""Names that are too short for a search of the disk's bytes: looked for as whole words in files.

``web1`` or ``maja`` would be found by chance in any large disk. As a whole word in a text file
below the folders where machines keep what is theirs, or in a file's name there, it is no chance. A
name that stands in very many such places is a common word, and is reported once.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.system import GuestSystem
from zeroseal.sealing.place_finder import NAMES_SUFFIX

_MOST_BYTES = 1 << 20
_MANY = 25  # places of a name that is a common word


def find_short_names(
    system: GuestSystem, names: dict[str, str]
) -> tuple[list[tuple[str, str]], list[str]]:
    """((label, place) of what was found, sentences about names that are common words).

    Args:
        system: where.
        names: {name: label}.
    """
    if not names or not system.word_places:
        return [], []
    found: dict[str, dict[str, None]] = {label: {} for label in names.values()}
    for word, place in _iter_places(system, names):
        found[names[word]][place] = None
    messages = [
        (
            f"The {label} is too short for a search of the disk's bytes: it was "
            "searched for as a whole word in the text files and names below "
            f"{', '.join(system.word_places)} and in home folders."
        )
        for label in names.values()
    ]
    messages += [
        (
            f" The {label} is also a common word: it occurs in {len(places)} files "
            f"and names, such as {next(iter(places))}; check them yourself."
        )
        for label, places in found.items()
        if len(places) > _MANY
    ]
    kept = [
        (label, place)
        for label, places in found.items()
        for place in places
        if len(places) <= _MANY
    ]
    return kept, messages


def word_pattern(names: list[str]) -> re.Pattern[bytes]:
    """Names as whole words: no letter, digit, dash or underscore beside them."""
    words = b"|".join(re.escape(name.encode()) for name in names)
    return re.compile(rb"(?i)(?<![A-Za-z0-9_-])(" + words + rb")(?![A-Za-z0-9_-])")


def _iter_places(system: GuestSystem, names: dict[str, str]) -> Iterator[tuple[str, str]]:
    pattern, guest = word_pattern(list(names)), system.guest
    for top in dict.fromkeys((*system.word_places, *system.human_homes)):
        if not guest.is_folder(top):
            continue
        for path, facts in guest.walk(top):
            folder, _slash, name = path.rpartition("/")
            for match in pattern.findall(name.encode("utf-8", "surrogateescape")):
                yield match.decode().lower(), folder + NAMES_SUFFIX
            is_text_size = facts.kind is Kind.FILE and 0 < facts.size_bytes <= _MOST_BYTES
            if not is_text_size:
                continue
            content = guest.read_file(path, _MOST_BYTES)
            words = set() if b"\0" in content[:1024] else set(pattern.findall(content))
            if words and not system.is_shipped(path):
                yield from ((word.decode().lower(), path) for word in words)
