"""From a value that was found in a hive's file to the keys that hold it."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from zeroseal.blocks.search import Needle
from zeroseal.errors import ZeroSealError
from zeroseal.guests.registry.hive import Hive, Key
from zeroseal.guests.windows.hives import GuestRegistry, hive_title

_MOST_NAMED = 5


def keys_of(registry: GuestRegistry, path: str, needles: Collection[Needle]) -> list[str]:
    """The first keys of a hive that hold a value by name or by content; none for another file."""
    if path not in registry.files:
        return []
    found: list[str] = []
    try:
        hive = registry.hive(path)
        for place in _iter_places(hive, needles) if hive else ():
            found.append(f"{hive_title(path)}\\{place}")
            if len(found) >= _MOST_NAMED:
                break
    except ZeroSealError:
        return []  # the file itself is told
    return found


def _iter_places(hive: Hive, needles: Collection[Needle]) -> Iterator[str]:
    for path, key in hive.walk():
        own = path or "(root)"
        if _holds(key.name.encode("latin-1", "replace"), needles) or _holds(
            _wide(key.name), needles
        ):
            yield own
        yield from _in_values(hive, key, own, needles)


def _in_values(hive: Hive, key: Key, path: str, needles: Collection[Needle]) -> Iterator[str]:
    for item in hive.values(key):
        if _holds(item.data, needles) or _holds(_wide(item.name), needles):
            yield f"{path} : {item.name or '(default)'}"


def _wide(text: str) -> bytes:
    return text.encode("utf-16-le", "surrogatepass")


def _holds(content: bytes, needles: Collection[Needle]) -> bool:
    folded = content.lower()
    return any(needle.pattern in (folded if needle.caseless else content) for needle in needles)
