"""Finding what is a Windows machine's own where no pattern can say where it is."""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.guest import Guest
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.registry.remains import count_stale
from zeroseal.guests.windows.answer_files import iter_answer_files
from zeroseal.guests.windows.hives import HiveSet, logs_of
from zeroseal.guests.windows.identity import (
    COMPUTER_NAME,
    NEUTRAL_COMPUTER_NAME,
    TCPIP,
    FirstStart,
    read_text,
)
from zeroseal.guests.windows.issue import POLICY_NAME, policy_text, with_policy_text
from zeroseal.guests.windows.network import iter_interfaces
from zeroseal.guests.windows.reissue import reissue_sid
from zeroseal.guests.windows.template_mark import SOFTWARE_FILE, is_marked, mark
from zeroseal.sentences import counted
from zeroseal.traces.changes import Change, Phase, RemovePath, Workbench
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.windows.context import WindowsContext
from zeroseal.traces.windows.registry import (
    RegistryChange,
    RemoveKey,
    RemoveValue,
    SetNumber,
    SetText,
    ValueChange,
)

_USER_SERVICE = re.compile(r"_[0-9a-f]{4,16}$", re.IGNORECASE)
_OF_USERS = 0x40  # bit of a service's type: a template or an instance for somebody's session
_INSTANCE = 0x80
_GUID = ("SOFTWARE\\Microsoft\\Cryptography", "MachineGuid")
_LONGEST_LOG = 1 << 30
_STATIC = {"ipaddress", "subnetmask", "defaultgateway", "defaultgatewaymetric", "nameserver"}


@dataclass(frozen=True)
class SetPolicyName(ValueChange):
    """Gives a name of the security policy, a text with its length before it, another text."""

    text: str

    def apply_to(self, key: int, editor: HiveEditor, hives: HiveSet) -> None:  # noqa: D102
        del hives
        kind, data = editor.get_value(key, self.name) or (value_types.BINARY, b"")
        editor.set_value(key, self.name, kind, with_policy_text(data, self.text))


@dataclass(frozen=True)
class NewGuid(ValueChange):
    """Gives a value a random GUID that nobody else has."""

    def apply_to(self, key: int, editor: HiveEditor, hives: HiveSet) -> None:  # noqa: D102
        made = str(uuid.uuid4())
        editor.set_value(key, self.name, value_types.SZ, value_types.pack(value_types.SZ, made))
        mark(hives.editor(SOFTWARE_FILE), made)


@dataclass(frozen=True)
class CleanHive(RegistryChange):
    """Zeroes what removed keys left in a hive and in its transaction logs."""

    key: str = ""

    def apply(self, bench: Workbench) -> None:
        """Every hive that was opened is written back clean."""
        bench.get_hives().editor(self.file)


@dataclass(frozen=True)
class ReissueSid(Change):
    """Puts a new random identifier in the place of the machine's own, everywhere."""

    where: str
    sid: str
    phase = Phase.LAST

    @property
    def place(self) -> str:
        """What it is about."""
        return self.where

    def apply(self, bench: Workbench) -> None:  # noqa: D102 - as in Change
        reissue_sid(bench.get_hives(), self.sid)


class ComputerName(Finder[WindowsContext]):
    """Finds the places that say what the computer is called."""

    name = "computer-name"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        registry = context.registry
        name = read_text(registry, COMPUTER_NAME, "ComputerName")
        evidence = f"the name {name}"
        for pattern, wanted in (
            (COMPUTER_NAME, "ComputerName"),
            (TCPIP, "NV Hostname"),
            (TCPIP, "Hostname"),
        ):
            for found, value in registry.values(pattern, wanted):
                if value_types.typed(value) not in ("", NEUTRAL_COMPUTER_NAME):
                    yield (
                        SetText(found.file, found.path, value.name, NEUTRAL_COMPUTER_NAME),
                        evidence,
                    )
        for found, value in registry.values(POLICY_NAME, ""):
            if policy_text(value.data) not in ("", NEUTRAL_COMPUTER_NAME):
                yield SetPolicyName(found.file, found.path, "", NEUTRAL_COMPUTER_NAME), evidence


class MachineSecurityIdentifier(Finder[WindowsContext]):
    """Finds the machine's identifier where every clone would start with it."""

    name = "machine-sid"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        sid, start = context.identity.sid, context.identity.first_start
        if start is FirstStart.PLAIN and sid and not is_marked(context.registry, sid):
            yield ReissueSid("the machine", sid), "replaced everywhere by a new random one"


class MachineGuid(Finder[WindowsContext]):
    """Finds the machine's GUID, unless a seal made it and nothing was started since."""

    name = "machine-guid"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        registry = context.registry
        for found, value in registry.values(*_GUID):
            text = value_types.typed(value)
            if isinstance(text, str) and text and not is_marked(registry, text):
                yield (
                    NewGuid(found.file, found.path, value.name),
                    "replaced by a new random one",
                )


class AnswerFiles(Finder[WindowsContext]):
    """Finds answer files of set-up, but for the one that a resealed system will read."""

    name = "answer-files"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        resealed = context.identity.first_start.makes_identity
        for file in iter_answer_files(context.guest):
            if not (resealed and file.is_cached):
                yield RemovePath(file.path), "holds passwords" if file.passwords else ""


class UserServices(Finder[WindowsContext]):
    """Finds services of somebody's session; the template that they were made from stays."""

    name = "user-services"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        for found, value in context.registry.values("SYSTEM\\CSn\\Services\\*_*", "Type"):
            kind = value_types.typed(value)
            is_instance = isinstance(kind, int) and kind & _OF_USERS and kind & _INSTANCE
            if is_instance and _USER_SERVICE.search(found.key.name):
                yield RemoveKey(found.file, found.path), "of an ended session"


class CardAddresses(Finder[WindowsContext]):
    """Finds static addresses, where clones are to ask for theirs."""

    name = "card-addresses"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        if not context.asks_dhcp:
            return
        for card in iter_interfaces(context.registry):
            if not card.addresses:
                continue
            evidence = f"{', '.join(card.addresses)} is replaced by DHCP"
            yield SetNumber(card.file, card.key, "EnableDHCP", 1), evidence
            for name in card.names:
                if name.lower() in _STATIC:
                    yield RemoveValue(card.file, card.key, name), evidence


class HiveRemains(Finder[WindowsContext]):
    """Finds hives with something in free cells, or in their transaction logs."""

    name = "hive-remains"

    def find(self, context: WindowsContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        guest = context.guest
        for path in context.registry.files:
            if context.is_removed(path):
                continue
            logs = sum(_holds_something(guest, log) for log in logs_of(guest, path))
            hive = context.registry.hive(path)
            stale = count_stale(hive) if hive else 0
            evidence = [f"{stale} stale bytes"] if stale else []
            evidence += [counted(logs, "transaction log")] if logs else []
            if evidence:
                yield CleanHive(path), ", ".join(evidence)


def _holds_something(guest: Guest, path: str) -> bool:
    content = guest.read_file(path, _LONGEST_LOG)
    return content.count(0) < len(content)
