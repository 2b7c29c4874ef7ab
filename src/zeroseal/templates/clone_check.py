"""Did a clone become what its sheet asked for? Read back from its disk, after its first start."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from ipaddress import ip_interface
from pathlib import Path

import bcrypt

from zeroseal.blocks.sizes import size_text
from zeroseal.errors import NotProvenError, UsageError
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.accounts import find_account, read_accounts, read_password_hash
from zeroseal.guests.linux.facts import read_host_name
from zeroseal.guests.linux.name_edits import read_locale, read_time_zone
from zeroseal.guests.linux.packages import read_packages
from zeroseal.guests.linux.static_addresses import find_static_addresses
from zeroseal.guests.system import as_windows
from zeroseal.guests.windows.hives import GuestRegistry
from zeroseal.guests.windows.identity import WindowsFacts, read_text
from zeroseal.guests.windows.network import iter_interfaces
from zeroseal.images.detect import opened_image
from zeroseal.machines.definition import MachineDefinition
from zeroseal.messages import templates as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.inspection import Inspection, recoverable
from zeroseal.sentences import some_of
from zeroseal.templates.clone_sheet.load import CloneWish, LoadedCloneSheet

_COMMANDS = "/var/lib/cloud/instance/scripts/runcmd"
_UNUSED_BYTES = 16 << 20  # a file system ends with a whole group or unit of its own
_TIME_ZONE = "SYSTEM\\CSn\\Control\\TimeZoneInformation"


@dataclass(frozen=True)
class CloneAnswer:
    """One thing that was asked for, and what the disk or the definition says of it."""

    what: str
    asked: str
    found: str
    is_good: bool


def find_wish(loaded: LoadedCloneSheet, name: str) -> CloneWish:
    """The row of a sheet that a clone was made of.

    Raises:
        UsageError: there is none.
    """
    for wish in loaded.wishes:
        row = wish.row
        if row.name == name:
            return wish
        if row.numbers and name.startswith(row.numbers.prefix):
            digits = name.removeprefix(row.numbers.prefix)
            in_range = digits.isdigit() and row.numbers.first <= int(digits) <= row.numbers.last
            if in_range and len(digits) >= row.numbers.digits:
                return replace(wish, row=row.named(name))
    names = ", ".join(wish.row.name or f"{wish.row.numbers}" for wish in loaded.wishes[:6])
    raise UsageError(messages.NO_SUCH_ROW.format(path=loaded.path, name=name, names=names))


def check_clone(
    disk: Path,
    wish: CloneWish,
    definition: MachineDefinition | None,
    progress: Progress = quiet,
) -> list[CloneAnswer]:
    """Compares a clone's disk and definition with what was asked for; nothing is written.

    Raises:
        ImageError, RefusedError: the disk cannot be read.
    """
    progress(Step("reading the clone", 0, 0))
    with opened_image(disk) as image, recoverable(image, recover=True) as store:
        inspection = Inspection.read(store, recover=True)
        guest = inspection.guest
        windows = as_windows(inspection.system)
        if windows:
            answers = list(_answers_of_windows(windows.windows_facts, windows.registry, wish))
        else:
            answers = list(_answers_of_guest(guest, wish, definition))
        answers += _answers_of_size(inspection, image.size_bytes, wish)
        if definition is None or definition.host != "simulated":  # that one grows nothing
            answers += _answers_of_growth(inspection, wish)
    return answers + (list(_answers_of_definition(definition, wish)) if definition else [])


def read_back(disk: Path, wish: CloneWish) -> None:
    """Reads what was written into the disk of a clone, before its first start.

    Raises:
        NotProvenError: something does not stand there as it was asked for.
    """
    with opened_image(disk) as image:
        guest = Inspection.read(image).guest
        wrong = [item for item in _answers_of_guest(guest, wish, None) if not item.is_good]
    if wrong:
        shown = [f"{item.what} {item.asked}: {item.found or 'nothing'}" for item in wrong]
        raise NotProvenError(
            messages.NOT_WRITTEN_AS_ASKED.format(name=wish.row.name, wrong=some_of(shown))
        )


def _answers_of_guest(
    guest: Guest, wish: CloneWish, definition: MachineDefinition | None
) -> Iterator[CloneAnswer]:
    row = wish.row
    found = read_host_name(guest)
    yield _same("host name", wish.host_name, found.partition(".")[0])
    if row.domain:
        full = f"{wish.host_name}.{row.domain}"
        knows = found == full or full in guest.read_text("/etc/hosts").split()
        yield CloneAnswer("domain", row.domain, full if knows else found, knows)
    accounts = read_accounts(guest)
    for account in wish.accounts:
        there = find_account(accounts, account.name)
        yield _same("account", account.name, there.name if there else "")
        keys = guest.read_text(f"{there.home}/.ssh/authorized_keys").splitlines() if there else []
        known = {tuple(line.split()[:2]) for line in keys}
        for key in account.public_keys:
            kind, body = key.split()[:2]
            is_there = (kind, body) in known
            name = f"{kind} ...{body[-8:]}"
            yield CloneAnswer(
                f"key of {account.name}",
                name,
                name if is_there else f"{len(known)} other",
                is_there,
            )
    yield from _answers_of_passwords(guest, wish)
    addresses = row.addresses
    if row.address_ranges and definition:
        addresses = addresses or definition.addresses
    if addresses:
        yield from _answers_of_addresses(guest, addresses)
    if row.packages:
        installed = {package.name for package in read_packages(guest)}
        for name in row.packages:
            yield _same("package", name, name if name in installed else "")
    for command in row.commands:
        is_there = command in guest.read_text(_COMMANDS)
        yield CloneAnswer("command", command, "given to cloud-init" if is_there else "", is_there)
    if row.time_zone:
        yield _same("time zone", row.time_zone, read_time_zone(guest))
    if row.locale:
        yield _same("locale", row.locale, read_locale(guest))
    for file in wish.files:
        same = guest.is_file(file.path) and guest.read_file(file.path) == file.content
        state = "the same" if same else "other" if guest.is_file(file.path) else ""
        yield CloneAnswer("file", file.path, state, same)


def _answers_of_passwords(guest: Guest, wish: CloneWish) -> Iterator[CloneAnswer]:
    """Whether the disk has a hash of each password; hashes themselves are not shown."""
    asked = [(account.name, account.password_hash) for account in wish.accounts]
    if wish.root_password_hash:
        asked.append(("root", wish.root_password_hash))
    clear = {user.name: user.password for user in wish.row.users} | {"root": wish.row.root_password}
    for name, wanted in asked:
        found = read_password_hash(guest, name)
        is_locked = found[:1] in ("!", "*", "")
        if wanted[:1] in ("!", "*"):
            state = "none" if is_locked else "another one"
            yield CloneAnswer(f"password of {name}", "none", state, is_locked)
            continue
        is_same = found == wanted or _verifies(clear.get(name, ""), found)
        state = "as asked" if is_same else "none" if is_locked else "another one"
        yield CloneAnswer(f"password of {name}", "as asked", state, is_same)


def _verifies(password: str, found: str) -> bool:
    """Whether a password opens a bcrypt hash; the sheet's own hash has a salt of its own."""
    if not password or not found.startswith("$2"):
        return False
    try:
        return bcrypt.checkpw(password.encode(), found.encode())
    except ValueError:
        return False


def _answers_of_windows(
    windows: WindowsFacts, registry: GuestRegistry, wish: CloneWish
) -> Iterator[CloneAnswer]:
    found, asked = windows.host_name, wish.host_name
    yield CloneAnswer("computer name", asked, found, asked.lower() == found.lower())
    names = {account.name.lower(): account.name for account in windows.identity.accounts}
    for user in wish.row.users:
        there = names.get(user.name.lower(), "")
        yield CloneAnswer("account", user.name, there, bool(there))
    if wish.row.windows.join_domain:
        yield _same("domain", wish.row.windows.join_domain, windows.identity.domain)
    if wish.row.addresses:
        stated = {item for card in iter_interfaces(registry) for item in card.addresses}
        for address in wish.row.addresses:
            plain = str(ip_interface(address).ip)
            shown = plain if plain in stated else ", ".join(sorted(stated))
            yield CloneAnswer("address", plain, shown, plain in stated)
    zone = wish.row.time_zone
    if zone:
        yield _same("time zone", zone, read_text(registry, _TIME_ZONE, "TimeZoneKeyName"))


def _answers_of_addresses(guest: Guest, asked: tuple[str, ...]) -> Iterator[CloneAnswer]:
    found = {address for _path, addresses in find_static_addresses(guest) for address in addresses}
    plain = {str(ip_interface(item).ip) for item in found}
    for address in asked:
        is_there = str(ip_interface(address).ip) in plain
        yield CloneAnswer("address", address, address if is_there else ", ".join(found), is_there)


def _answers_of_size(
    inspection: Inspection, size_bytes: int, wish: CloneWish
) -> Iterator[CloneAnswer]:
    if not wish.disk_bytes:
        return
    asked = size_text(wish.disk_bytes)
    yield CloneAnswer("disk", asked, size_text(size_bytes), size_bytes == wish.disk_bytes)
    root = inspection.guest.mounts[0].volume
    end = max(
        (item.offset_bytes + item.size_bytes for item in inspection.disk.volumes if item.number),
        default=size_bytes,
    )
    # partitions end at a whole MiB, before the backup of the table
    grown = end >= size_bytes - (4 << 20)
    yield CloneAnswer(
        f"room of {root.name}", "grown to the end of the disk", f"ends at {size_text(end)}", grown
    )


def _answers_of_growth(inspection: Inspection, wish: CloneWish) -> Iterator[CloneAnswer]:
    mount = inspection.guest.mounts[0]
    stated, root = mount.driver.stated_bytes(mount.tree), mount.volume
    if wish.disk_bytes and stated:
        is_filled = stated >= root.size_bytes - _UNUSED_BYTES
        asked = f"grown to {size_text(root.size_bytes)}"
        yield CloneAnswer("root file system", asked, size_text(stated), is_filled)


def _answers_of_definition(definition: MachineDefinition, wish: CloneWish) -> Iterator[CloneAnswer]:
    row = wish.row
    for what, asked, found in (
        ("MAC", row.mac, definition.mac),
        ("UUID", row.uuid, definition.uuid),
        ("CPUs", str(row.cpus or ""), str(definition.cpus)),
        ("memory", str(row.memory_mib or ""), str(definition.memory_mib)),
        ("VLAN", str(row.vlan or ""), str(definition.adapters[0].vlan)),
    ):
        if asked:
            yield _same(what, asked, found)


def _same(what: str, asked: str, found: str) -> CloneAnswer:
    return CloneAnswer(what, asked, found, asked == found)
