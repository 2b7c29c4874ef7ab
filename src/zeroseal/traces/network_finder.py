"""Finding static addresses that are to become DHCP."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.guests.static_addresses import find_static_addresses
from zeroseal.traces.changes import AskDhcp, Change
from zeroseal.traces.context import FindContext


def find_static_files(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the files that give static addresses, where clones are to ask for theirs."""
    if not context.asks_dhcp:
        return
    for path, addresses in find_static_addresses(context.guest):
        yield AskDhcp(path), f"{', '.join(addresses)} becomes DHCP"
