"""Static addresses for clones: ranges from which the next free one is taken, and reservations."""

from __future__ import annotations

import re
from collections.abc import Container, Iterable, Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address, ip_address, ip_interface, ip_network
from pathlib import Path

from zeroseal.errors import MissingError, UsageError, environment_error
from zeroseal.messages import templates as messages

_MAX_BYTES = 16 << 20
_TOKEN = re.compile(r"[0-9A-Fa-f:.]{2,45}")
_COMMENTS = ("#", ";", "//")

Address = IPv4Address | IPv6Address


@dataclass(frozen=True)
class AddressRange:
    """Addresses from ``first`` to ``last`` of one network."""

    first: Address
    last: Address
    prefix: int

    def __iter__(self) -> Iterator[str]:
        """Yields those that a machine can have, with their prefix."""
        network = ip_network(f"{self.first}/{self.prefix}", strict=False)
        is_small = network.prefixlen >= network.max_prefixlen - 1
        for number in range(int(self.first), int(self.last) + 1):
            address = type(self.first)(number)
            if is_small or address not in (network.network_address, network.broadcast_address):
                yield f"{address}/{self.prefix}"


def parse_range(text: str) -> AddressRange:
    """Parses ``FIRST-LAST/PREFIX``.

    Raises:
        ValueError: it is none; says why.
    """
    ends, slash, prefix = text.partition("/")
    first_text, dash, last_text = ends.partition("-")
    if not slash or not dash or not prefix.isdigit():
        raise ValueError(messages.RANGE_FORM)
    first, last = ip_address(first_text.strip()), ip_address(last_text.strip())
    if first.version != last.version or int(last) < int(first):
        raise ValueError(messages.RANGE_ENDS_BEFORE_ITS_START)
    network = ip_network(f"{first}/{int(prefix)}", strict=False)
    if last not in network:
        raise ValueError(messages.RANGE_LEAVES_ITS_NETWORK.format(last=last, network=network))
    return AddressRange(first, last, int(prefix))


def next_free(ranges: Iterable[str], taken: Container[str]) -> tuple[str, ...] | None:
    """The first free address of each range, with its prefix; None where one has none left.

    Args:
        ranges: as ``parse_range`` takes them.
        taken: addresses without a prefix.
    """
    found = []
    for text in ranges:
        free = (item for item in parse_range(text) if str(ip_interface(item).ip) not in taken)
        address = next(free, None)
        if address is None:
            return None
        found.append(address)
    return tuple(found)


def read_reservations(path: Path) -> dict[str, str]:
    """All addresses that a file names, each with where that stands: nobody else may get them.

    Any text will do: host tables, reservations of DHCP servers, other clone sheets, lists. What
    stands behind the sign of a comment at a line's start does not count.

    Raises:
        MissingError: it is not there.
        UsageError: it is too large to be such a file.
    """
    try:
        if path.stat().st_size > _MAX_BYTES:
            raise UsageError(messages.RESERVATIONS_TOO_LARGE.format(path=path))
        text = path.read_text("utf-8", "replace")
    except FileNotFoundError as error:
        raise MissingError(messages.RESERVATIONS_NOT_FOUND.format(path=path)) from error
    except OSError as error:
        raise environment_error(error, path, "reading") from error
    found: dict[str, str] = {}
    owner = messages.RESERVED_IN.format(path=path)
    for line in text.splitlines():
        if line.lstrip().startswith(_COMMENTS):
            continue
        for token in _TOKEN.findall(line):
            try:
                found[str(ip_address(token.strip(".:") if "::" not in token else token))] = owner
            except ValueError:
                continue  # a MAC, a number, a word
    return found
