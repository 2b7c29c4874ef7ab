"""What finders for a Linux look at."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.accounts import Account
from zeroseal.guests.linux.host_names import read_names
from zeroseal.guests.linux.services import Services
from zeroseal.guests.linux.subvolumes import Snapshot
from zeroseal.guests.linux.system import LinuxSystem
from zeroseal.traces.finder import FindContext

_LEAST_NAME = 3
_NO_HOMES = ("usr", "etc", "dev", "proc", "sys", "bin", "sbin")


@dataclass(frozen=True, kw_only=True)
class LinuxContext(FindContext):
    """See ``FindContext``.

    Attributes:
        system: the guest as a Linux.
        keeps_root_login: whether root's password and keys stay.
        plants_first_boot: whether a script is planted that makes what is missing.
        restarts_history: whether version histories over settings and homes begin again.
        snapshots: earlier states of what the guest mounts.
        drops_snapshots: whether they are removed.
    """

    system: LinuxSystem
    keeps_root_login: bool = False
    plants_first_boot: bool = False
    restarts_history: bool = False
    snapshots: tuple[Snapshot, ...] = ()
    drops_snapshots: bool = False

    @property
    def accounts(self) -> list[Account]:
        """All accounts."""
        return self.system.accounts

    @property
    def services(self) -> Services:
        """What a boot of the guest starts."""
        return self.system.services

    @property
    def accounts_to_remove(self) -> list[Account]:
        """Human accounts that nobody retains."""
        return [
            account
            for account in self.accounts
            if account.is_human and account.name not in self.retained
        ]

    @cached_property
    def host_words(self) -> re.Pattern[str] | None:  # it is kept
        """The names that the guest has had, as words in lower case; None where it has none."""
        names = [name for name in read_names(self.guest) if len(name) >= _LEAST_NAME]
        words = "|".join(map(re.escape, names))
        return re.compile(rf"(?<![a-z0-9])({words})(?![a-z0-9])") if names else None

    def spell_out(self, pattern: str) -> Iterator[str]:  # noqa: D102 - as in FindContext
        yield pattern

    def below_homes(self, patterns: Iterable[str]) -> Iterator[str]:  # noqa: D102
        for account in self.iter_homes():
            for pattern in patterns:
                if not self._is_kept_login(pattern, account):
                    yield f"{account.home}/{pattern}"

    def iter_homes(self) -> Iterator[Account]:
        """Yields accounts that stay and have a home folder of their own."""
        removed = set() if self.accounts_stay else {item.name for item in self.accounts_to_remove}
        seen: set[str] = set()
        for account in self.accounts:
            home = account.home.rstrip("/")
            if account.name in removed or home in seen or not is_own_home(home, self.guest):
                continue
            seen.add(home)
            yield account

    def _is_kept_login(self, pattern: str, account: Account) -> bool:
        """Whether a pattern means login keys that were chosen to be kept."""
        if not pattern.startswith(".ssh/authorized_keys"):
            return False
        return account.name in self.retained or (account.uid == 0 and self.keeps_root_login)


def is_own_home(home: str, guest: Guest) -> bool:
    """Whether a home folder belongs to one account, and is no folder of the system."""
    parts = home.strip("/").split("/")
    if home == "/root":
        return True
    if len(parts) < 2 or parts[0] in _NO_HOMES:
        return False
    return guest.is_folder(home)
