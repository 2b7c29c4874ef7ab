"""Finding the accounts of a Windows that somebody made, with what belongs to them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.registry import value_types
from zeroseal.guests.windows.account_edits import SAM_FILE, disable_account, drop_account
from zeroseal.guests.windows.accounts import ADMINISTRATOR, WindowsAccount, account_value
from zeroseal.guests.windows.identity import SHARED_PROFILES, VERSION
from zeroseal.guests.windows.sids import MachineSid
from zeroseal.guests.windows.tasks import iter_tasks
from zeroseal.traces.changes import RemovePath, Workbench
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.windows.context import WindowsContext
from zeroseal.traces.windows.registry import RegistryChange, RemoveKey

_HIVE = "NTUSER.DAT"
_RIGHTS = "SECURITY\\Policy\\Accounts\\SID"  # of an account, which a built-in one keeps
# keys that are named by the identifier of an account, with what they hold of its profile
_KEYS_OF_PROFILES = (
    f"{VERSION}\\ProfileList\\SID",
    f"{VERSION}\\ProfileList\\SID.bak",
    "SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Installer\\UserData\\SID",
    "SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Group Policy\\DataStore\\SID",
    "SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Group Policy\\State\\SID",
    "SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Group Policy\\Status\\SID",
    "SOFTWARE\\Microsoft\\IdentityStore\\Cache\\SID",
    "SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Authentication\\LogonUI\\UserTile\\SID",
    "SYSTEM\\CSn\\Services\\bam\\State\\UserSettings\\SID",
    "SYSTEM\\CSn\\Services\\bam\\UserSettings\\SID",
    "SYSTEM\\CSn\\Services\\dam\\State\\UserSettings\\SID",
)
_BY_REMOVED = "created by an account that is removed"
_OF_REMOVED = "of an account that is removed"


@dataclass(frozen=True)
class DropWindowsAccount(RegistryChange):
    """Takes an account out of the account database and its groups."""

    sid: str
    account: str
    rid: int

    @classmethod
    def of(cls, machine_sid: str, account: WindowsAccount) -> DropWindowsAccount:
        """The change for an account of a machine; its key is the one that bears its name."""
        key = f"SAM\\Domains\\Account\\Users\\Names\\{account.name}"
        return cls(SAM_FILE, key, machine_sid, account.name, account.rid)

    def apply(self, bench: Workbench) -> None:  # noqa: D102 - as in Change
        sid = MachineSid.parse_text(self.sid)
        if sid is not None:
            drop_account(bench.get_hives(), sid, self.account, self.rid)


@dataclass(frozen=True)
class DisableAccount(RegistryChange):
    """Sets the flag by which nobody can log in to an account."""

    rid: int

    def apply(self, bench: Workbench) -> None:  # noqa: D102 - as in Change
        disable_account(bench.get_hives(), self.rid)


class WindowsAccounts(Finder[WindowsContext]):
    """Finds accounts, their profiles, and the keys that are named by their identifiers."""

    name = "windows-accounts"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        guest = context.guest
        machine = context.identity.sid
        sids = []
        for account in context.accounts_to_remove:
            text = f"account {account.name}, number {account.rid}"
            yield DropWindowsAccount.of(machine, account), text
            sids.append(context.identity.sid_of(account))
        builtin = {profile.sid: account for account, profile in context.builtin_profiles}
        for profile in context.profiles_to_remove:
            if profile.has_own_folder and guest.is_file(f"{profile.folder}/{_HIVE}"):
                kept = "; the account stays" if profile.sid in builtin else ""
                yield RemovePath(profile.folder), f"profile of {profile.name}{kept}"
            if profile.sid not in sids:
                sids.append(profile.sid)
        for sid in sids:
            evidence = "of a profile that is removed" if sid in builtin else _OF_REMOVED
            for pattern in _KEYS_OF_PROFILES if sid in builtin else (_RIGHTS, *_KEYS_OF_PROFILES):
                for found in context.registry.find(pattern.replace("SID", sid)):
                    yield RemoveKey(found.file, found.path), evidence
        for found, value in context.registry.values(f"{VERSION}\\ProfileGuid\\*", "SidString"):
            owner = value_types.typed(value)
            if owner in sids:
                evidence = "of a profile that is removed" if owner in builtin else _OF_REMOVED
                yield RemoveKey(found.file, found.path), evidence


class WindowsProfiles(Finder[WindowsContext]):
    """Finds folders of profiles that no account has any more."""

    name = "windows-profiles"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        guest = context.guest
        kept = {profile.folder.lower() for profile in context.registry.profiles()}
        for path in guest.glob("/Users/*"):
            name = path.rpartition("/")[2].lower()
            is_folder = guest.facts(path, follow_last=False).kind is Kind.FOLDER
            if is_folder and name not in SHARED_PROFILES and path.lower() not in kept:
                yield RemovePath(path), "no account has this profile"


class WindowsAdministrator(Finder[WindowsContext]):
    """Finds the built-in administrator where house rules want it disabled."""

    name = "windows-administrator"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        if not context.disables_administrator:
            return
        for account in context.identity.accounts:
            if account.rid == ADMINISTRATOR and not account.disabled:
                change = DisableAccount(SAM_FILE, account_value(ADMINISTRATOR), ADMINISTRATOR)
                yield change, "the house rules require it to be disabled"


class WindowsTasks(Finder[WindowsContext]):
    """Finds scheduled tasks of accounts that go: the file and what the scheduler keeps of it."""

    name = "windows-tasks"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        sids = [context.identity.sid_of(account) for account in context.accounts_to_remove]
        names = [account.name.lower() for account in context.accounts_to_remove]
        for task in iter_tasks(context.guest, context.registry):
            if task.belongs_to(sids, names):
                yield RemovePath(task.path), _BY_REMOVED
                for found in task.keys:
                    yield RemoveKey(found.file, found.path), _BY_REMOVED
