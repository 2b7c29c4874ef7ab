"""The values of a Windows that a seal has to make vanish, in every form they may lie on a disk."""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterator

from zeroseal.blocks.search import MIN_BYTES, Needle
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.hive import Hive, Value, upper
from zeroseal.guests.registry.paths import Registry
from zeroseal.guests.windows.accounts import nt_hash_of
from zeroseal.guests.windows.identity import NEUTRAL_COMPUTER_NAME
from zeroseal.guests.windows.network import iter_interfaces
from zeroseal.guests.windows.sids import MachineSid
from zeroseal.guests.windows.template_mark import is_marked
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.searched_value import (
    CollectedValues,
    SearchedValue,
    text_needle,
    wide_needle,
)
from zeroseal.sealing.secret_values import host_key_values, removed_secrets, secret_forms
from zeroseal.traces.finders import find_trace
from zeroseal.traces.finding import Finding
from zeroseal.traces.model import Trace
from zeroseal.traces.windows.context import WindowsContext
from zeroseal.traces.windows.machine import NewGuid
from zeroseal.traces.windows.registry import RemoveKey, RemoveValue

_GUID = re.compile(r"\{?([0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12})\}?$")
_HOST_KEYS = "/ProgramData/ssh/ssh_host_*key"
_LEAST_SECRET, _MOST_SECRET = 16, 1 << 16
_HASH_BYTES = 16
_LSA_SECRETS, _LSA_CONTENT = "POLICY\\SECRETS\\", ("CURRVAL", "OLDVAL")
_DHCP_ID, _LEAST_DHCP_ID = ("SYSTEM\\CSn\\Services\\Tcpip6\\Parameters", "Dhcpv6DUID"), 10


def collect_windows_values(
    inspection: Inspection, context: WindowsContext, policy: Policy
) -> CollectedValues:
    """Reads the values of a Windows that a seal with this policy removes."""
    found = CollectedValues()
    found.values += _identifiers(inspection, context, policy)
    found.values += removed_secrets(inspection, policy)
    name = inspection.facts.host_name
    if policy.treats_id("identity.computer-name") and name not in ("", NEUTRAL_COMPUTER_NAME):
        found.add_name(f"computer name ({name})", name)
    if policy.treats_id("people.windows-accounts"):
        names = [account.name for account in context.accounts_to_remove]
        builtin = [profile for _account, profile in context.builtin_profiles]
        names += [
            profile.name
            for profile in context.profiles_to_remove
            if profile.has_own_folder and profile.name not in names and profile not in builtin
        ]
        for own in names:
            found.add_name(f"account name {own}", own)
    return found


def _identifiers(
    inspection: Inspection, context: WindowsContext, policy: Policy
) -> Iterator[SearchedValue]:
    """Yields the identifiers and secrets that a seal with this policy removes, but for names."""
    sid = MachineSid.parse_text(context.identity.sid)
    issued = is_marked(context.registry, context.identity.sid)
    if sid and not issued and policy.treats_id("identity.machine-sid"):
        yield SearchedValue("security identifier of the machine", tuple(forms_of_sid(sid)))
    for trace in policy.catalogue:
        if trace.guest == "windows" and policy.treats(trace):
            yield from _of_trace(trace, context)
    if policy.treats_id("keys.windows-ssh-host"):
        yield from host_key_values(inspection.guest, _HOST_KEYS)
    if policy.treats_id("people.windows-accounts"):
        yield from _password_hashes(context)
    yield from _of_network(context, policy)


def _password_hashes(context: WindowsContext) -> Iterator[SearchedValue]:
    for account in context.accounts_to_remove:
        digest = nt_hash_of(context.registry, account.rid)[-_HASH_BYTES:]
        if len(digest) == _HASH_BYTES:
            yield SearchedValue(f"password hash of {account.name}", (Needle(0, digest),))


def _of_network(context: WindowsContext, policy: Policy) -> Iterator[SearchedValue]:
    if policy.treats_id("wire.dhcp-unique-id"):
        for _found, value in context.registry.values(*_DHCP_ID):
            if len(value.data) >= _LEAST_DHCP_ID:
                yield SearchedValue("DHCP unique identifier", (Needle(0, value.data),))
    if policy.treats_id("wire.windows-leases"):
        addresses = {card.leased for card in iter_interfaces(context.registry)} - {""}
        for address in sorted(addresses):
            if len(address) >= MIN_BYTES:
                word = text_needle(address)._replace(whole_word=True)
                forms = (word, wide_needle(address))
                yield SearchedValue(f"leased address {address}", forms, is_word=True)


def forms_of_sid(sid: MachineSid) -> Iterator[Needle]:
    """A machine's identifier in binary, in text of one and of two bytes, and in base64."""
    digits = sid.text.removeprefix("S-1-5-21-")
    yield Needle(0, digits.encode())
    yield Needle(0, digits.encode("utf-16-le"))
    yield Needle(0, sid.triplet)
    yield from list(secret_forms(sid.raw, 0))[1:]


def forms_of_guid(text: str) -> tuple[Needle, ...]:
    """A GUID as text of one and of two bytes, without dashes, and in both binary orders."""
    guid = uuid.UUID(text)
    forms = [text_needle(str(guid)), wide_needle(str(guid)), text_needle(guid.hex)]
    return (*forms, Needle(0, guid.bytes), Needle(0, guid.bytes_le))


def _of_trace(trace: Trace, context: WindowsContext) -> Iterator[SearchedValue]:
    """The identifiers of a trace, and its secrets where it has some."""
    if trace.family not in ("identity", "keys", "wire"):
        return
    registry = context.registry
    for finding in find_trace(trace, context, set()):
        for value in _values_of(finding, registry):
            content = value_types.typed(value)
            match = _GUID.match(content) if isinstance(content, str) else None
            label = f"{trace.title.lower()}, {finding.place}"
            if match and len(set(match[1])) > 4:  # not one that is all zeros
                yield SearchedValue(label, forms_of_guid(match[1]))
            elif isinstance(content, bytes) and _LEAST_SECRET <= len(content) <= _MOST_SECRET:
                forms = tuple(secret_forms(content, max(0, len(content) // 2 - 12)))
                if forms and trace.family != "wire":
                    yield SearchedValue(label, forms)


def _values_of(finding: Finding, registry: Registry) -> Iterator[Value]:
    change = finding.change
    if isinstance(change, NewGuid | RemoveValue):
        hive = registry.hive(change.file)
        key = hive.find_key(change.key) if hive else None
        value = hive.find_value(key, change.name) if hive and key else None
        if value:
            yield value
    elif isinstance(change, RemoveKey):
        hive = registry.hive(change.file)
        if hive and finding.trace.family == "keys":
            yield from _values_below(hive, change.key)


def _values_below(hive: Hive, path: str) -> Iterator[Value]:
    """The values below a key; of a secret of the LSA only those that hold it.

    Beside them stand times and a security descriptor that many places share.
    """
    top = hive.find_key(path)
    is_secret = upper(path).startswith(_LSA_SECRETS)
    if top:
        for _path, key in hive.walk(top):
            if not is_secret or upper(key.name) in _LSA_CONTENT:
                yield from hive.values(key)
