"""Names, addresses, MACs and UUIDs of new clones: which are taken, and which are given."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from ipaddress import ip_interface

from zeroseal.errors import NoSpaceError, UsageError, ZeroSealError
from zeroseal.machines.definition import new_mac, new_uuid
from zeroseal.machines.media import read_seed_medium
from zeroseal.machines.seed import Seed
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import templates as messages
from zeroseal.templates.addresses import next_free
from zeroseal.templates.clone_sheet.load import CloneWish
from zeroseal.templates.shelf.clone_links import noted_clones
from zeroseal.templates.shelf.shelf import Shelf


def with_addresses(wishes: Sequence[CloneWish], taken: Collection[str]) -> list[CloneWish]:
    """Gives each clone that names ranges the next free address of each that is not taken.

    Raises:
        NoSpaceError: a range has none left.
    """
    asked = {str(ip_interface(item).ip) for wish in wishes for item in wish.row.addresses}
    given, found = asked.union(taken), []
    for wish in wishes:
        row = wish.row
        if row.address_ranges and not row.addresses:
            near = {*row.gateways, *row.name_servers}
            addresses = next_free(row.address_ranges, given | near)
            if addresses is None:
                name = row.name or (row.numbers.prefix + "..." if row.numbers else "")
                ranges = ", ".join(row.address_ranges)
                raise NoSpaceError(messages.NO_FREE_ADDRESS.format(ranges=ranges, name=name))
            given.update(str(ip_interface(item).ip) for item in addresses)
            wish = replace(wish, row=row.with_addresses(addresses))
        found.append(wish)
    return found


@dataclass
class TakenIdentities:
    """What is taken already: by machines of the yard, by clones of the shelf, by this batch."""

    macs: set[str]
    uuids: set[str]
    host_names: set[str]
    addresses: dict[str, str]

    @classmethod
    def read(cls, yard: Yard, shelf: Shelf | None, reserved: Mapping[str, str]) -> TakenIdentities:
        """Reads them; ``reserved`` are addresses that no clone gets, each with who has it."""
        machines = yard.machines()
        macs = {card.mac for machine in machines for card in machine.definition.adapters}
        for template in shelf.templates() if shelf else []:
            macs.update(mac for clone in noted_clones(template) for mac in clone.macs)
        addresses = dict(reserved)
        host_names = set()
        for machine in machines:
            seed = _seed_beside(machine)
            host_names.add(seed.host_name if seed else machine.definition.name)
            told = seed.network.addresses if seed and seed.network else ()
            for address in (*told, *machine.definition.addresses):
                addresses[str(ip_interface(address).ip)] = f"of {machine.definition.name}"
        uuids = {machine.definition.uuid for machine in machines}
        return cls(macs, uuids, host_names, addresses)

    def take(self, wish: CloneWish) -> tuple[str, str]:
        """(MAC, UUID) of a new clone; what it asks for must be free.

        Raises:
            UsageError: something is taken.
        """
        row = wish.row
        mac, machine_uuid = row.mac or new_mac(self.macs), row.uuid or new_uuid()
        taken = {
            f"the MAC {mac}": mac in self.macs,
            f"the UUID {machine_uuid}": machine_uuid in self.uuids,
            f"the host name {wish.host_name}": wish.host_name in self.host_names,
        }
        for address in row.addresses:
            plain = str(ip_interface(address).ip)
            owner = self.addresses.get(plain, "")
            taken[f"the address {plain}" + (f" ({owner})" if owner else "")] = bool(owner)
            self.addresses[plain] = f"of {row.name}"
        conflict = next((what for what, is_taken in taken.items() if is_taken), "")
        if conflict:
            raise UsageError(
                messages.IDENTITY_ALREADY_USED.format(conflict=conflict, name=row.name)
            )
        self.macs.add(mac)
        self.uuids.add(machine_uuid)
        self.host_names.add(wish.host_name)
        return mac, machine_uuid


def with_names(wishes: tuple[CloneWish, ...], yard: Yard) -> list[CloneWish]:
    """One wish a clone, each with its name; numbers are the next free ones of the yard.

    Raises:
        UsageError: a name is given twice.
        NoSpaceError: a range has no number left.
    """
    taken = {wish.row.name for wish in wishes if wish.row.name}
    found: list[CloneWish] = []
    for wish in wishes:
        for _number in range(wish.row.count):
            row = wish.row
            if row.numbers:
                span = row.numbers
                name = yard.next_name(span.prefix, span.first, span.last, span.digits, taken)
                row = row.named(name)
            elif any(item.row.name == row.name for item in found):
                raise UsageError(messages.NAME_GIVEN_TWICE.format(name=row.name))
            taken.add(row.name)
            found.append(replace(wish, row=row))
    return found


def _seed_beside(machine: YardMachine) -> Seed | None:
    """What a machine was told; None where it has no seed, or one that is not understood."""
    if not machine.definition.seed:
        return None
    with suppress(ZeroSealError):
        return read_seed_medium(machine.folder / machine.definition.seed)
    return None
