"""Finding what settings, rules and containers of a Windows guest keep of people that go."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.hive import Value
from zeroseal.guests.windows.identity import VERSION
from zeroseal.traces.changes import RemovePath
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.windows.context import WindowsContext
from zeroseal.traces.windows.registry import RemoveValue, SetText

_VERSIONS = (VERSION, VERSION.replace("SOFTWARE\\", "SOFTWARE\\WOW6432Node\\"))
_OWNERS = ("RegisteredOwner", "RegisteredOrganization")
_NOBODY = ("", "windows user", "user name", "owner")
_RULES = "SYSTEM\\CSn\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\**"
_CONTAINERS = (
    "/ProgramData/Microsoft/Crypto",
    "/Windows/System32/Microsoft/Crypto",
    "/Windows/ServiceState",
)
_CONTAINERS_OF_PROFILES = ("AppData/Roaming/Microsoft/Crypto", "AppData/Local/Microsoft/Crypto")


class RegisteredOwner(Finder[WindowsContext]):
    """Finds the registered owner and organisation, in the 32-bit copy too."""

    name = "registered-owner"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        for pattern in _VERSIONS:
            for name in _OWNERS:
                for found, value in context.registry.values(pattern, name):
                    text = value_types.typed(value)
                    if isinstance(text, str) and text.lower() not in _NOBODY:
                        yield SetText(found.file, found.path, value.name, ""), ""


class SettingsOfPeople(Finder[WindowsContext]):
    """Finds values that name a removed account in hives that are nobody's own.

    Those are the hive of the logon screen, of new profiles, and of the system's own accounts.
    """

    name = "settings-of-people"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        names = _names_of_removed(context)
        if names is None:
            return
        own = {f"{profile.folder}/ntuser.dat".lower() for profile in context.identity.profiles}
        for found in context.registry.find("USERS\\**"):
            if found.file.lower() in own:
                continue
            for value in found.hive.values(found.key):
                if names.search(_text_of(value)) or names.search(f" {value.name} "):
                    yield RemoveValue(found.file, found.path, value.name), "names a removed account"


class FirewallRulesOfPeople(Finder[WindowsContext]):
    """Finds firewall rules that belong to a removed account by its security identifier."""

    name = "firewall-rules-of-people"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        if not context.removed_sids:
            return
        owner = re.compile(rf"=({'|'.join(map(re.escape, context.removed_sids))})(\||$)")
        for found, value in context.registry.values(_RULES, "*"):
            if owner.search(_text_of(value)):
                change = RemoveValue(found.file, found.path, value.name)
                yield change, "belongs to an account that is removed"


class GuidNamedContainers(Finder[WindowsContext]):
    """Finds key containers that are named after the machine's GUID, which is replaced."""

    name = "guid-named-containers"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        guid = context.identity.machine_guid.strip("{}").lower()
        if not guid:
            return
        guest = context.guest
        folders = [*_CONTAINERS, *context.below_homes(_CONTAINERS_OF_PROFILES)]
        for folder in folders:
            for path in guest.glob(f"{folder}/**"):
                if guid not in path.rpartition("/")[2].lower() or context.is_removed(path):
                    continue
                if guest.facts(path, follow_last=False).kind is Kind.FILE:
                    yield RemovePath(path), "named after the machine GUID"


def _names_of_removed(context: WindowsContext) -> re.Pattern[str] | None:
    """Identifiers, folders and names of people that go, as a pattern; None for no people.

    A name of letters only can be a common word ("user"): it counts behind a backslash, or as the
    whole of a line. Any other name counts as a word.
    """
    words = []
    for account in context.accounts_to_remove:
        name = re.escape(account.name)
        word = rf"(?<![\w.-]){name}(?![\w.-])"
        if account.name.isalpha():
            word = rf"(?m:^{name}$)|\\{name}(?![\w.-])"
        words.append(word)
    parts = [*context.removed_sids, *context.removed_folders]
    ends = [rf"{re.escape(part)}(?![\w.-])" for part in parts]
    return re.compile("|".join([*ends, *words]), re.IGNORECASE) if ends or words else None


def _text_of(value: Value) -> str:
    content = value_types.typed(value)
    if isinstance(content, bytes):
        return content.decode("utf-16-le", "replace") if len(content) % 2 == 0 else ""
    return "\n".join(content) if isinstance(content, list | tuple) else str(content)
