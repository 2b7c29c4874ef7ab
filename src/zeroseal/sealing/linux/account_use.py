"""Accounts in the human range that run services: no person's, and not to be removed unasked."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.guests.guest import Guest
from zeroseal.sealing.linux.projected import ProjectedLinux

_CRON_TABLES = ("/etc/crontab", "/etc/cron.d/*")
_CRON_USER_FIELD = 5


def find_services_of_accounts(projected: ProjectedLinux) -> Iterator[tuple[str, str]]:
    """Yields (account, what it runs) of accounts that would be removed."""
    if projected.context.accounts_stay:
        return
    names = {account.name for account in projected.context.accounts_to_remove}
    names -= set(projected.policy.removed_accounts)
    numbers = {str(account.uid): account.name for account in projected.context.accounts_to_remove}
    if not names:
        return
    for unit, user in projected.services.iter_users():
        name = numbers.get(user, user)
        if name in names:
            yield name, unit
    for path, user in _iter_cron_users(projected.guest):
        if user in names:
            yield user, path


def _iter_cron_users(guest: Guest) -> Iterator[tuple[str, str]]:
    """Yields (table, user) of the system's cron tables, see crontab(5)."""
    for pattern in _CRON_TABLES:
        for path in guest.glob(pattern):
            for line in guest.read_text(path).splitlines() if guest.is_file(path) else ():
                fields = line.split()
                if line.lstrip().startswith("#") or "=" in fields[:1]:
                    continue
                place = 1 if line.startswith("@") else _CRON_USER_FIELD
                if len(fields) > place + 1:
                    yield path, fields[place]
