"""What finders look at, and what the administrator chose to keep."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cached_property

from zeroseal.filesystems.inventory import Inventory
from zeroseal.guests.accounts import Account, read_accounts
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.host_names import read_names
from zeroseal.guests.registry.paths import CONFIG_FOLDER, DEFAULT_PROFILE, Registry
from zeroseal.guests.services import Services
from zeroseal.guests.windows.accounts import WindowsAccount
from zeroseal.guests.windows.identity import WindowsIdentity, WindowsProfile
from zeroseal.guests.windows.paths import guest_patterns
from zeroseal.volumes.gaps import Gap
from zeroseal.volumes.lvm.read import PhysicalVolume
from zeroseal.volumes.volume import Volume

_LEAST_NAME = 3


@dataclass(frozen=True)
class WindowsContext:
    """What finders look at in a Windows beside its files.

    Attributes:
        retained: names of accounts that stay, whatever their case.
        accounts_stay: whether the removal of accounts is skipped as a whole.
        reissues_sid: whether the machine's security identifier is replaced.
        disables_administrator: whether the built-in administrator is disabled.
    """

    registry: Registry
    identity: WindowsIdentity
    retained: frozenset[str] = frozenset()
    accounts_stay: bool = False
    reissues_sid: bool = False
    disables_administrator: bool = False

    @property
    def doomed(self) -> list[WindowsAccount]:
        """Accounts that somebody made and nobody retains."""
        return [
            account
            for account in self.identity.accounts
            if account.is_human and account.name.lower() not in self.retained
        ]

    @cached_property
    def doomed_profiles(self) -> list[WindowsProfile]:
        """Profiles of those accounts, and of people whose account is elsewhere."""
        staying = {
            f"{self.identity.sid}-{account.rid}"
            for account in self.identity.accounts
            if account not in self.doomed
        }
        return [
            profile
            for profile in self.identity.profiles
            if profile.sid not in staying and profile.name.lower() not in self.retained
        ]

    @cached_property
    def staying_profiles(self) -> list[str]:
        """The folders of the profiles that stay: of people, services, the system, new accounts."""
        folders = [profile.folder for profile in self.registry.profiles()]
        folders += [DEFAULT_PROFILE, f"{CONFIG_FOLDER}/systemprofile"]
        by_path = {folder.lower(): folder for folder in folders if not self.is_doomed(folder)}
        return list(by_path.values())

    def is_doomed(self, path: str) -> bool:
        """Whether a path lies in a profile that goes."""
        return not self.accounts_stay and any(
            f"{path.lower()}/".startswith(f"{profile.folder.lower()}/")
            for profile in self.doomed_profiles
            if profile.has_own_folder
        )

    def patterns_of(self, pattern: str) -> Iterator[str]:
        """The patterns of the guest's tree that one with a folder's name stands for."""
        return guest_patterns(pattern, self.registry.variables())


@dataclass(frozen=True)
class FindContext:
    """What finders look at, and what the administrator chose to keep.

    Attributes:
        swaps: swap volumes of the disk.
        inventory_of: gives the inventory of a mounted volume.
        gaps: ranges of the disk that belong to nothing.
        physical_volumes: those of LVM.
        retained: names of human accounts that stay.
        keep_root_login: whether root's password and keys stay.
        plants_first_boot: whether a script is planted that makes what is missing.
        asks_dhcp: whether static addresses become DHCP.
        restarts_history: whether version histories over settings and homes begin again.
        accounts_stay: whether the removal of human accounts is skipped as a whole.
        windows: what else is looked at where the guest is a Windows.
    """

    guest: Guest
    swaps: list[Volume]
    inventory_of: Callable[[Mount], Inventory]
    gaps: tuple[Gap, ...] = ()
    physical_volumes: tuple[PhysicalVolume, ...] = ()
    retained: frozenset[str] = frozenset()
    keep_root_login: bool = False
    accounts_stay: bool = False
    plants_first_boot: bool = False
    asks_dhcp: bool = False
    restarts_history: bool = False
    known_services: Services | None = None
    windows: WindowsContext | None = None
    accounts: list[Account] = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "accounts", [] if self.windows else read_accounts(self.guest))

    @property
    def doomed(self) -> list[Account]:
        """Human accounts that would be removed."""
        return [
            account
            for account in self.accounts
            if account.is_human and account.name not in self.retained
        ]

    @cached_property
    def host_words(self) -> re.Pattern[str] | None:
        """The names that a Linux guest has had, as words in lower case; None where it has none."""
        names = [] if self.windows else [n for n in read_names(self.guest) if len(n) >= _LEAST_NAME]
        words = "|".join(map(re.escape, names))
        return re.compile(rf"(?<![a-z0-9])({words})(?![a-z0-9])") if names else None

    @cached_property
    def services(self) -> Services:
        """What a boot of the guest starts."""
        return self.known_services or Services(self.guest)

    @property
    def of_windows(self) -> WindowsContext:
        """A Windows' own part; only finders for Windows ask for it."""
        if self.windows is None:
            raise TypeError("the guest is no Windows")
        return self.windows
