"""What still names a machine or a person on a Windows guest after a seal, and stays on purpose."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeroseal.guests.registry import value_types
from zeroseal.guests.windows.certificates import StoredCertificate, iter_certificates
from zeroseal.guests.windows.identity import CURRENT, VERSION, read_text
from zeroseal.messages import sealing_windows as messages
from zeroseal.sealing.remark import Remark
from zeroseal.sealing.windows.projected import ProjectedWindows
from zeroseal.sentences import some_of
from zeroseal.traces.windows.context import WindowsContext

_SERVICES = "SYSTEM\\CSn\\Services"
_SUBSCRIPTIONS = f"{CURRENT}\\EventCollector\\Subscriptions\\*"
_POLICIES = "SOFTWARE\\Policies\\Microsoft\\Windows"
_FORWARDING = f"{_POLICIES}\\EventLog\\EventForwarding\\SubscriptionManager"
_FOLDERS = "Software\\Microsoft\\Windows\\CurrentVersion\\Explorer\\User Shell Folders"
_ELSEWHERE = re.compile(r"^([D-Zd-z]:|\\\\)")  # another drive than the system's, or a share
_OF_SERVICES = ("S-1-5-80-", "S-1-5-82-", "S-1-5-83-")  # services, application pools, machines
_KEPT_STORES = ("ROOT", "CA", "TrustedPeople", "TrustedPublisher", "AuthRoot")
_OLDEST_BUILD, _NEWEST_BUILD = 7600, 27999


def find_kept_names(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    """Remarks on services, subscriptions, folders, certificates and product IDs."""
    yield from _version(projected)
    yield from _services(projected, windows)
    yield from _folders(windows)
    names = [found.key.name for found in windows.registry.find(_SUBSCRIPTIONS)]
    names += [value.name for _found, value in windows.registry.values(_FORWARDING, "*")]
    if names:
        text = messages.EVENT_SUBSCRIPTIONS.format(names=some_of(names))
        yield Remark("event-subscriptions", text)
    if read_text(windows.registry, VERSION, "ProductId"):
        yield Remark("product-ids", messages.PRODUCT_IDS)
    for certificate in iter_certificates(windows.registry, _KEPT_STORES):
        if _names_computer(certificate, projected.inspection.facts.host_name):
            yield Remark(
                "machine-certificate",
                messages.CERTIFICATE_OF_MACHINE.format(
                    subject=certificate.subject, store=certificate.store, day=certificate.ends
                ),
            )


def _version(projected: ProjectedWindows) -> Iterator[Remark]:
    build = projected.inspection.facts.version
    if not build.isdigit() or not _OLDEST_BUILD <= int(build) <= _NEWEST_BUILD:
        yield Remark("unknown-version", messages.UNKNOWN_VERSION.format(build=build or "(none)"))


def _services(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    """Services that log in as an account which goes; they stop a seal until that is decided."""
    going = {account.name.lower(): account.name for account in windows.accounts_to_remove}
    decided = {name.lower() for name in projected.policy.removed_accounts}
    seen = set()
    for found, value in windows.registry.values(f"{_SERVICES}\\*", "ObjectName"):
        name = str(value_types.typed(value)).rpartition("\\")[2].lower()
        key = (found.key.name, name)
        if name in going and name not in decided and not windows.accounts_stay and key not in seen:
            seen.add(key)
            text = messages.SERVICE_OF_REMOVED_ACCOUNT.format(
                service=found.key.name, account=going[name]
            )
            yield Remark("service-account", text)


def _folders(windows: WindowsContext) -> Iterator[Remark]:
    """Where people that go have something outside of their profile on the system volume."""
    registry, going = windows.registry, windows.profiles_to_remove
    own = {f"{profile.folder}/ntuser.dat".lower(): profile for profile in going}
    places: dict[str, list[str]] = {}
    for found, value in registry.values(f"USERS\\{_FOLDERS}", "*"):
        profile = own.get(found.file.lower())
        text = str(value_types.typed(value))
        if profile and _ELSEWHERE.match(text):
            places.setdefault(profile.name, []).append(text)
    for name, found_places in places.items():
        text = messages.REDIRECTED_FOLDERS.format(name=name, places=some_of(found_places))
        yield Remark("redirected-folders", text)
    for profile in going:
        if ":" in profile.folder:
            place = profile.folder.strip("/").replace("/", "\\")
            text = messages.PROFILE_ELSEWHERE.format(name=profile.name, place=place)
            yield Remark("redirected-folders", text)
    services = [
        profile.folder.rpartition("/")[2]
        for profile in registry.profiles()
        if profile.sid.startswith(_OF_SERVICES)
    ]
    if services:
        yield Remark("service-profiles", messages.SERVICE_PROFILES.format(names=some_of(services)))


def _names_computer(certificate: StoredCertificate, computer: str) -> bool:
    word = rf"(?<![\w-]){re.escape(computer)}(?![\w-])"
    return bool(computer) and bool(re.search(word, certificate.subject, re.IGNORECASE))
