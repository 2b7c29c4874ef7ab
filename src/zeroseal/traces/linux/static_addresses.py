"""Finding static addresses that are to become DHCP."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.linux.static_addresses import find_static_addresses, to_dhcp
from zeroseal.traces.changes import TextChange
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.linux.context import LinuxContext


@dataclass(frozen=True)
class AskDhcp(TextChange):
    """Makes a network file ask DHCP instead of giving static addresses."""

    def edited(self, text: str) -> str:  # noqa: D102 - as in TextChange
        return to_dhcp(self.path, text)


class StaticAddresses(Finder[LinuxContext]):
    """Finds the files that give static addresses, where clones are to ask for theirs."""

    name = "static-addresses"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        if not context.asks_dhcp:
            return
        for path, addresses in find_static_addresses(context.guest):
            yield AskDhcp(path), f"{', '.join(addresses)} is replaced by DHCP"
