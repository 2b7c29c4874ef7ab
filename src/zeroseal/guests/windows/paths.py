"""Folders of a Windows by the names of its environment, as patterns of the guest's tree."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from zeroseal.guests.registry import values
from zeroseal.guests.registry.paths import guest_path

_ANY_VOLUME = "%AnyVolume%"


def guest_patterns(pattern: str, variables: Mapping[str, str]) -> Iterator[str]:
    """The patterns of the guest's tree that one stands for.

    Args:
        pattern: begins with ``/``, with a variable (``%ProgramData%/ssh``), or with
            ``%AnyVolume%`` for the topmost folder of each volume.
        variables: as ``Registry.variables`` gives them.
    """
    if pattern.startswith(_ANY_VOLUME):
        rest = pattern.removeprefix(_ANY_VOLUME)
        yield rest
        yield f"/*:{rest}"
    elif pattern.startswith("%"):
        name, _percent, rest = pattern[1:].partition("%")
        yield guest_path(values.expand(f"%{name}%", variables)).rstrip("/") + rest
    else:
        yield pattern
