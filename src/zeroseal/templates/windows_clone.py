"""Telling a clone with Windows who it is: in its registry, and in an answer file for its set-up.

A resealed system asks for everything at its first start: an answer file tells it. One that starts
plainly reads its name in its registry, gets a machine GUID of its own, and with a wish for it a
security identifier of its own.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from zeroseal.errors import RefusedError
from zeroseal.guests.system import as_windows
from zeroseal.guests.windows.answer_build import (
    ARCHITECTURES,
    DomainJoin,
    FirstStartAnswers,
    FixedAddresses,
    LocalAccount,
    build_answer_file,
)
from zeroseal.guests.windows.answer_files import CACHED_PATHS
from zeroseal.guests.windows.issue import MOST_NAME, issue_identity
from zeroseal.guests.windows.system import WindowsSystem
from zeroseal.machines.disk_change import changed_disk
from zeroseal.messages import templates as messages
from zeroseal.templates.abilities import WINDOWS_SET_UP, Abilities
from zeroseal.templates.clone_sheet.load import CloneWish


def check_windows_wish(wish: CloneWish, abilities: Abilities, title: str, reissues: bool) -> None:
    """Raises RefusedError where a clone with Windows cannot be told what is asked."""
    row = wish.row
    name = row.name or "a clone"
    if len(wish.host_name) > MOST_NAME:
        raise RefusedError(
            messages.COMPUTER_NAME_TOO_LONG.format(host_name=wish.host_name, most_name=MOST_NAME)
        )
    never = {
        "packages": row.packages,
        "files": row.files,
        "a first-boot script": wish.script,
        "public keys": [key for account in wish.accounts for key in account.public_keys],
    }
    at_set_up = {
        "addresses": row.addresses,
        "accounts": row.users,
        "a password": row.root_password,
        "a time zone": row.time_zone,
        "a locale": row.locale,
        "commands": row.commands,
        "a domain to join": row.windows.join_domain,
        "a product key": row.windows.product_key,
        "a keyboard": row.windows.keyboard,
        "an owner": row.windows.owner or row.windows.organization,
    }
    wrong = [what for what, value in never.items() if value]
    if wrong:
        raise RefusedError(
            messages.SETTING_NOT_FOR_WINDOWS.format(name=name, wrong=", ".join(wrong))
        )
    wanted = [what for what, value in at_set_up.items() if value]
    if wanted and abilities.seeded_by != WINDOWS_SET_UP:
        raise RefusedError(
            messages.SETTING_NEEDS_SETUP.format(name=name, wanted=", ".join(wanted), title=title)
        )
    if reissues and abilities.seeded_by == WINDOWS_SET_UP:
        raise RefusedError(messages.NO_REISSUE_FOR_RESEALED.format(title=title, name=name))
    blank = [user.name for user in row.users if not user.password]
    if blank:
        raise RefusedError(messages.ACCOUNT_NEEDS_PASSWORD.format(name=name, blank=blank[0]))


def write_windows_identity(
    disk: Path, wish: CloneWish, mac: str, *, reissues: bool, now: int
) -> list[str]:
    """Writes what a clone is told into its disk; whole or not at all, and consistent.

    Args:
        disk: a clone's own disk, or its overlay.
        wish: who it is; ``check_windows_wish`` found nothing against it.
        mac: of its network card.
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
            return _put_answers(system, wish, mac)
        return _name_plain(system, wish, reissues, now)


def answers_of(wish: CloneWish, mac: str) -> FirstStartAnswers:
    """What a row of a sheet says to set-up."""
    row, more = wish.row, wish.row.windows
    join = None
    if more.join_domain:
        join = DomainJoin(more.join_domain, more.join_account, more.join_password)
    network = None
    if row.addresses:
        network = FixedAddresses(mac, row.addresses, row.gateways, row.name_servers, row.search)
    return FirstStartAnswers(
        computer_name=wish.host_name,
        time_zone=row.time_zone,
        locale=row.locale,
        keyboard=more.keyboard,
        owner=more.owner,
        organization=more.organization,
        product_key=more.product_key,
        administrator_password=row.root_password,
        accounts=tuple(
            LocalAccount(user.name, user.password, user.full_name, user.admin) for user in row.users
        ),
        join=join,
        network=network,
        commands=tuple(row.commands),
    )


def _put_answers(system: WindowsSystem, wish: CloneWish, mac: str) -> list[str]:
    guest, remarks = system.guest, []
    stated = system.registry.variables().get("PROCESSOR_ARCHITECTURE", "").lower()
    architecture = stated if stated in ARCHITECTURES else ARCHITECTURES[0]
    for path in CACHED_PATHS:
        if guest.is_file(path):
            guest.zero_content(path, 0)
            guest.remove(path)
            remarks.append(messages.REPLACES_ANSWER_FILE.format(path=path))
    answers = replace(answers_of(wish, mac), architecture=architecture)
    guest.put_file(CACHED_PATHS[0], build_answer_file(answers), 0o644)
    return remarks


def _name_plain(system: WindowsSystem, wish: CloneWish, reissues: bool, now: int) -> list[str]:
    sid = system.windows_facts.identity.sid if reissues else ""
    issue_identity(system.registry, wish.host_name, sid, now)
    if reissues:
        return []
    return [
        (
            "it has the template's security identifier, like other clones: --reissue-sid "
            "gives it its own"
        )
    ]
