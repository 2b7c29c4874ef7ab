"""Telling a clone with Windows who it is: in its registry, and in an answer file for its set-up.

A resealed system asks for everything at its first start: an answer file tells it. One that starts
plainly reads its name in its registry, gets a machine GUID of its own, and with a wish for it a
security identifier of its own.
"""

from __future__ import annotations

from pathlib import Path

from zeroseal.errors import RefusedError
from zeroseal.guests.guest import Guest
from zeroseal.guests.system import as_windows
from zeroseal.guests.windows.answer_build import (
    DomainJoin,
    FirstStartAnswers,
    LocalAccount,
    build_answer_file,
)
from zeroseal.guests.windows.answer_files import CACHED_PATHS
from zeroseal.guests.windows.issue import MOST_NAME, issue_identity
from zeroseal.guests.windows.system import WindowsSystem
from zeroseal.machines.disk_change import changed_disk
from zeroseal.templates.abilities import WINDOWS_SET_UP, Abilities
from zeroseal.templates.clone_sheet.load import CloneWish


def check_windows_wish(wish: CloneWish, abilities: Abilities, title: str, reissues: bool) -> None:
    """Raises RefusedError where a clone with Windows cannot be told what is asked."""
    row = wish.row
    name = row.name or "a clone"
    if len(wish.host_name) > MOST_NAME:
        raise RefusedError(
            f"{wish.host_name} is too long for the name of a Windows: use up to {MOST_NAME} "
            "letters, digits and -"
        )
    never = {
        "addresses": row.addresses,
        "packages": row.packages,
        "files": row.files,
        "a first-boot script": wish.script,
        "public keys": [key for account in wish.accounts for key in account.public_keys],
    }
    at_set_up = {
        "accounts": row.users,
        "a password": row.root_password,
        "a time zone": row.time_zone,
        "a locale": row.locale,
        "commands": row.commands,
        "a domain to join": row.windows.join_domain,
        "a product key": row.windows.product_key,
    }
    wrong = [what for what, value in never.items() if value]
    if wrong:
        raise RefusedError(
            f"{name} is to get {', '.join(wrong)}, which a Windows is not told here: leave that "
            "out, and use the network's DHCP"
        )
    wanted = [what for what, value in at_set_up.items() if value]
    if wanted and abilities.seeded_by != WINDOWS_SET_UP:
        raise RefusedError(
            f"{name} is to get {', '.join(wanted)}, which only set-up gives, and {title} starts "
            "plainly: leave that out, or reseal the reference machine by Windows' own generalize "
            "pass"
        )
    if reissues and abilities.seeded_by == WINDOWS_SET_UP:
        raise RefusedError(
            f"{title} was resealed: the next start of {name} makes a security identifier of its "
            "own; leave --reissue-sid out"
        )
    blank = [user.name for user in row.users if not user.password]
    if blank:
        raise RefusedError(
            f"{name} is to get the account {blank[0]} without a password: give it one by a secret"
        )


def write_windows_identity(disk: Path, wish: CloneWish, reissues: bool, now: int) -> list[str]:
    """Writes what a clone is told into its disk; whole or not at all, and consistent.

    Args:
        disk: a clone's own disk, or its overlay.
        wish: who it is; ``check_windows_wish`` found nothing against it.
        reissues: whether it gets a security identifier of its own.
        now: the moment of the change, seconds since 1970.

    Returns:
        What was done, and what is to be known, sentences.

    Raises:
        ImageError, RefusedError: the disk cannot be read or changed.
    """
    with changed_disk(disk, now) as inspection:
        system = as_windows(inspection.system)
        assert system is not None  # its template was one
        if system.windows_facts.identity.first_start.makes_identity:
            return _put_answers(system.guest, wish)
        return _name_plain(system, wish, reissues, now)


def answers_of(wish: CloneWish) -> FirstStartAnswers:
    """What a row of a sheet says to set-up."""
    row, more = wish.row, wish.row.windows
    join = None
    if more.join_domain:
        join = DomainJoin(more.join_domain, more.join_account, more.join_password)
    return FirstStartAnswers(
        computer_name=wish.host_name,
        time_zone=row.time_zone,
        locale=row.locale,
        product_key=more.product_key,
        administrator_password=row.root_password,
        accounts=tuple(
            LocalAccount(user.name, user.password, user.full_name, user.admin) for user in row.users
        ),
        join=join,
        commands=tuple(row.commands),
    )


def _put_answers(guest: Guest, wish: CloneWish) -> list[str]:
    remarks = []
    for path in CACHED_PATHS:
        if guest.is_file(path):
            guest.zero_content(path, 0)
            guest.remove(path)
            remarks.append(f"its answer file takes the place of the template's {path}")
    guest.put_file(CACHED_PATHS[0], build_answer_file(answers_of(wish)), 0o644)
    return remarks


def _name_plain(system: WindowsSystem, wish: CloneWish, reissues: bool, now: int) -> list[str]:
    sid = system.windows_facts.identity.sid if reissues else ""
    issue_identity(system.registry, wish.host_name, sid, now)
    if reissues:
        return []
    return [
        "it has the template's security identifier, as other clones have: --reissue-sid gives it "
        "one of its own"
    ]
