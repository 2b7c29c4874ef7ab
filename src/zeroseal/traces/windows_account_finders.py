"""Finding the accounts of a Windows that somebody made, with what belongs to them."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.registry import values
from zeroseal.guests.windows.account_edits import SAM_FILE
from zeroseal.guests.windows.accounts import ADMINISTRATOR, account_value
from zeroseal.guests.windows.identity import SHARED_PROFILES, VERSION
from zeroseal.guests.windows.tasks import iter_tasks
from zeroseal.traces.changes import (
    Change,
    DisableAccount,
    DropWindowsAccount,
    RemoveKey,
    RemovePath,
)
from zeroseal.traces.context import FindContext

_HIVE = "NTUSER.DAT"
# keys that are named by the identifier of an account, with what they hold
_KEYS_OF_ACCOUNTS = (
    f"{VERSION}\\ProfileList\\SID",
    f"{VERSION}\\ProfileList\\SID.bak",
    "SECURITY\\Policy\\Accounts\\SID",
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


def find_windows_accounts(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields accounts, their profiles, and the keys that are named by their identifiers."""
    windows, guest = context.of_windows, context.guest
    machine = windows.identity.sid
    sids = []
    for account in windows.doomed:
        told = f"account {account.name}, number {account.rid}"
        yield DropWindowsAccount(SAM_FILE, machine, account.name, account.rid), told
        sids.append(f"{machine}-{account.rid}")
    for profile in windows.doomed_profiles:
        if profile.has_own_folder and guest.is_file(f"{profile.folder}/{_HIVE}"):
            yield RemovePath(profile.folder), f"profile of {profile.name}"
        if profile.sid not in sids:
            sids.append(profile.sid)
    for sid in sids:
        for pattern in _KEYS_OF_ACCOUNTS:
            for found in windows.registry.find(pattern.replace("SID", sid)):
                yield RemoveKey(found.file, found.path), "of an account that goes"
    for found, value in windows.registry.values(f"{VERSION}\\ProfileGuid\\*", "SidString"):
        if values.typed(value) in sids:
            yield RemoveKey(found.file, found.path), "of an account that goes"


def find_windows_profiles(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields folders of profiles that no account has any more."""
    guest, windows = context.guest, context.of_windows
    kept = {profile.folder.lower() for profile in windows.registry.profiles()}
    for path in guest.glob("/Users/*"):
        name = path.rpartition("/")[2].lower()
        is_folder = guest.facts(path, follow_last=False).kind is Kind.FOLDER
        if is_folder and name not in SHARED_PROFILES and path.lower() not in kept:
            yield RemovePath(path), "no account has this profile"


def find_windows_administrator(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the built-in administrator where house rules want it disabled."""
    windows = context.of_windows
    if not windows.disables_administrator:
        return
    for account in windows.identity.accounts:
        if account.rid == ADMINISTRATOR and not account.disabled:
            change = DisableAccount(SAM_FILE, account_value(ADMINISTRATOR), ADMINISTRATOR)
            yield change, "house rules want it disabled"


def find_windows_tasks(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields scheduled tasks of accounts that go: the file and what the scheduler keeps of it."""
    windows = context.of_windows
    sids = [f"{windows.identity.sid}-{account.rid}" for account in windows.doomed]
    names = [account.name.lower() for account in windows.doomed]
    for task in iter_tasks(context.guest, windows.registry):
        if task.belongs_to(sids, names):
            yield RemovePath(task.path), "made by an account that goes"
            for found in task.keys:
                yield RemoveKey(found.file, found.path), "made by an account that goes"
