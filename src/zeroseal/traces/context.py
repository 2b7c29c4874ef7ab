"""What finders look at, and what the administrator chose to keep."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

from zeroseal.guests.accounts import Account, read_accounts
from zeroseal.guests.guest import Guest
from zeroseal.guests.services import Services
from zeroseal.volumes.gaps import Gap
from zeroseal.volumes.volume import Volume


@dataclass(frozen=True)
class FindContext:
    """What finders look at, and what the administrator chose to keep.

    Attributes:
        swaps: swap volumes of the disk.
        gaps: ranges of the disk that belong to nothing.
        retained: names of human accounts that stay.
        keep_root_login: whether root's password and keys stay.
        plants_first_boot: whether a script is planted that makes what is missing.
        asks_dhcp: whether static addresses become DHCP.
        accounts_stay: whether the removal of human accounts is skipped as a whole.
    """

    guest: Guest
    swaps: list[Volume]
    gaps: tuple[Gap, ...] = ()
    retained: frozenset[str] = frozenset()
    keep_root_login: bool = False
    accounts_stay: bool = False
    plants_first_boot: bool = False
    asks_dhcp: bool = False
    known_services: Services | None = None
    accounts: list[Account] = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "accounts", read_accounts(self.guest))

    @property
    def doomed(self) -> list[Account]:
        """Human accounts that would be removed."""
        return [
            account
            for account in self.accounts
            if account.is_human and account.name not in self.retained
        ]

    @cached_property
    def services(self) -> Services:
        """What a boot of the guest starts."""
        return self.known_services or Services(self.guest)

    def get_volume(self, name: str) -> Volume:
        """The guest's volume of that name."""
        volumes = [mount.volume for mount in self.guest.mounts] + self.swaps
        return next(volume for volume in volumes if volume.name == name)
