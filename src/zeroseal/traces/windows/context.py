"""What finders for a Windows look at."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property

from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.paths import CONFIG_FOLDER, DEFAULT_PROFILE, guest_path
from zeroseal.guests.windows.accounts import WindowsAccount
from zeroseal.guests.windows.answer_files import iter_answer_files
from zeroseal.guests.windows.hives import GuestRegistry
from zeroseal.guests.windows.identity import WindowsIdentity, WindowsProfile
from zeroseal.guests.windows.system import WindowsSystem
from zeroseal.traces.finder import FindContext


@dataclass(frozen=True, kw_only=True)
class WindowsContext(FindContext):
    """See ``FindContext``.

    Attributes:
        system: the guest as a Windows.
        reissues_sid: whether the machine's security identifier is replaced.
        disables_administrator: whether the built-in administrator is disabled.
    """

    system: WindowsSystem
    reissues_sid: bool = False
    disables_administrator: bool = False

    @property
    def registry(self) -> GuestRegistry:
        """The registry."""
        return self.system.registry

    @property
    def identity(self) -> WindowsIdentity:
        """Who the machine is."""
        return self.system.windows_facts.identity

    @property
    def accounts_to_remove(self) -> list[WindowsAccount]:
        """Accounts that somebody made and nobody retains."""
        return [
            account
            for account in self.identity.accounts
            if account.is_human and account.name.lower() not in self.retained
        ]

    @cached_property
    def profiles_to_remove(self) -> list[WindowsProfile]:
        """Profiles of those accounts, of built-in ones, and of people whose account is elsewhere.

        A built-in account stays, and gets a new profile at its next logon; its profile stays where
        the account is retained, or where set-up is to copy it into the default profile.
        """
        staying = {
            self.identity.sid_of(account)
            for account in self.identity.accounts
            if account.name.lower() in self.retained
            or (not account.is_human and self.copies_profile)
        }
        return [
            profile
            for profile in self.identity.profiles
            if profile.sid not in staying and profile.name.lower() not in self.retained
        ]

    @cached_property
    def copies_profile(self) -> bool:
        """Whether the next start of a resealed system copies the administrator's profile."""
        if not self.identity.first_start.makes_identity:
            return False
        return any(file.is_cached and file.copies_profile for file in iter_answer_files(self.guest))

    @cached_property
    def builtin_profiles(self) -> list[tuple[WindowsAccount, WindowsProfile]]:
        """The profiles of built-in accounts that go, each with its account, which stays."""
        by_sid = {self.identity.sid_of(item): item for item in self.identity.accounts}
        return [
            (by_sid[profile.sid], profile)
            for profile in self.profiles_to_remove
            if profile.sid in by_sid and not by_sid[profile.sid].is_human
        ]

    @cached_property
    def removed_sids(self) -> list[str]:
        """The security identifiers of people that go: of accounts and of profiles."""
        sids = [self.identity.sid_of(account) for account in self.accounts_to_remove]
        builtin = [profile.sid for _account, profile in self.builtin_profiles]
        others = [profile.sid for profile in self.profiles_to_remove if profile.sid not in builtin]
        return list(dict.fromkeys(sids + others))

    @cached_property
    def removed_folders(self) -> list[str]:
        r"""The folders of the profiles that go, as Windows writes them (``C:\Users\ada``)."""
        return [
            "C:" + profile.folder.replace("/", "\\")
            for profile in self.profiles_to_remove
            if profile.has_own_folder and ":" not in profile.folder
        ]

    @cached_property
    def staying_profiles(self) -> list[str]:
        """The folders of the profiles that stay: of people, services, the system, new accounts."""
        folders = [profile.folder for profile in self.registry.profiles()]
        folders += [DEFAULT_PROFILE, f"{CONFIG_FOLDER}/systemprofile"]
        by_path = {folder.lower(): folder for folder in folders if not self.is_removed(folder)}
        return list(by_path.values())

    def is_removed(self, path: str) -> bool:
        """Whether a path lies in a profile that goes."""
        return not self.accounts_stay and any(
            f"{path.lower()}/".startswith(f"{profile.folder.lower()}/")
            for profile in self.profiles_to_remove
            if profile.has_own_folder
        )

    def spell_out(self, pattern: str) -> Iterator[str]:  # noqa: D102 - as in FindContext
        return guest_patterns(pattern, self.registry.variables())

    def below_homes(self, patterns: Iterable[str]) -> Iterator[str]:  # noqa: D102
        listed = list(patterns)
        for folder in self.staying_profiles:
            yield from (f"{folder}/{pattern}" for pattern in listed)


_ANY_VOLUME = "%AnyVolume%"


def guest_patterns(pattern: str, variables: Mapping[str, str]) -> Iterator[str]:
    """The patterns of the guest's tree that one stands for.

    Args:
        pattern: begins with ``/``, with a variable (``%ProgramData%/ssh``), or with
            ``%AnyVolume%`` for the topmost folder of each volume.
        variables: as ``Registry.variables`` gives them.
    """
    if pattern.startswith(_ANY_VOLUME):
        rest = pattern.removeprefix(_ANY_VOLUME)
        yield rest
        yield f"/*:{rest}"
    elif pattern.startswith("%"):
        name, _percent, rest = pattern[1:].partition("%")
        yield guest_path(value_types.expand(f"%{name}%", variables)).rstrip("/") + rest
    else:
        yield pattern
