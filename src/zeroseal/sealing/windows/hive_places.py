"""From a value that was found in a hive's file to the keys that hold it."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.errors import ZeroSealError
from zeroseal.guests.guest import Guest
from zeroseal.guests.registry.hive import Hive, Key
from zeroseal.guests.windows.hives import find_hives, hive_title, open_registry
from zeroseal.sealing.searched_value import SearchedValue

_MOST_NAMED = 5


class HivePlaces:
    """Names keys of one guest; its hives are read at the first question about them."""

    def __init__(self, guest: Guest) -> None:
        self._guest = guest
        self._hives = set(find_hives(guest)) if guest.is_windows else set()

    def keys_of(self, path: str, value: SearchedValue) -> list[str]:
        """The first keys that hold a value by name or by what they hold; none for another file."""
        if path not in self._hives:
            return []
        found: list[str] = []
        try:
            hive = open_registry(self._guest).hive(path)
            for place in _iter_places(hive, value) if hive else ():
                found.append(f"{hive_title(path)}\\{place}")
                if len(found) >= _MOST_NAMED:
                    break
        except ZeroSealError:
            return []  # the file itself is told
        return found


def _iter_places(hive: Hive, value: SearchedValue) -> Iterator[str]:
    for path, key in hive.walk():
        own = path or "(root)"
        if _holds(key.name.encode("latin-1", "replace"), value) or _holds(_wide(key.name), value):
            yield own
        yield from _in_values(hive, key, own, value)


def _in_values(hive: Hive, key: Key, path: str, value: SearchedValue) -> Iterator[str]:
    for item in hive.values(key):
        if _holds(item.data, value) or _holds(_wide(item.name), value):
            yield f"{path} : {item.name or '(default)'}"


def _wide(text: str) -> bytes:
    return text.encode("utf-16-le", "surrogatepass")


def _holds(content: bytes, value: SearchedValue) -> bool:
    folded = content.lower()
    return any(
        needle.pattern in (folded if needle.caseless else content) for needle in value.needles
    )
