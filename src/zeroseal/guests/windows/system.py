"""A Windows as a guest system."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator
from functools import cached_property

from zeroseal.blocks.search import Needle
from zeroseal.errors import DamagedError
from zeroseal.guests.components import Component
from zeroseal.guests.guest import Guest
from zeroseal.guests.identity_value import IdentityValue
from zeroseal.guests.language_packages import read_npm_packages, read_python_packages
from zeroseal.guests.registry import value_types
from zeroseal.guests.system import GuestSystem, SystemFacts, signs_in
from zeroseal.guests.windows.hive_places import keys_of
from zeroseal.guests.windows.hives import GuestRegistry
from zeroseal.guests.windows.identity import (
    CURRENT,
    SERVICING_PLAN,
    WindowsFacts,
    read_windows,
)
from zeroseal.guests.windows.identity_values import read_windows_values
from zeroseal.guests.windows.programs import (
    read_build,
    read_programs,
    read_updates,
    updated_at,
)
from zeroseal.guests.windows.services import WindowsServices
from zeroseal.messages import guests as messages

# what its maker and installers brought, without folders in which the system keeps its state
_SHIPPED = re.compile(
    r"^/(windows/(winsxs|servicing|assembly|microsoft\.net|fonts|help|systemapps|syswow64|boot|ime"
    r"|system32(?!/(config|tasks|logfiles|winevt|sru|spp|wbem/repository|drivers/etc|grouppolicy"
    r"|spool|microsoft/protect|catroot2)(/|$)))(/|$)"
    r"|program files( \(x86\))?/)",
    re.IGNORECASE,
)


_EVENT_LOGS, _PAGE_FILE = "/windows/system32/winevt/logs/", "/pagefile.sys"
_SIGNS_OF_A_START = (
    (_EVENT_LOGS, "event logs"),
    (_PAGE_FILE, "page file"),
    ("/windows/system32/config/", "registry"),
    ("/programdata/ssh/ssh_host_", "SSH host keys"),
    ("/users/", "profiles"),
)


class WindowsSystem(GuestSystem):
    """See ``GuestSystem``.

    Attributes:
        registry: its hives, each read once; what is changed is seen.
        windows: who it is, and how its next start goes.
    """

    family = "windows"
    packed_places = ("/Users", "/ProgramData", "/inetpub", "/Windows/Setup", "/Windows/Installer")

    def __init__(self, guest: Guest) -> None:
        super().__init__(guest)
        self.registry = GuestRegistry(guest)
        volume, plan = guest.mounts[0].volume.name, guest.exists(SERVICING_PLAN)
        self.windows_facts: WindowsFacts = read_windows(self.registry, volume, plan)

    @property
    def facts(self) -> SystemFacts:  # noqa: D102 - as in GuestSystem
        return self.windows_facts.system

    @cached_property
    def services(self) -> WindowsServices:
        """The services that the registry lists."""
        return WindowsServices(self.registry)

    @property
    def account_names(self) -> list[str]:  # noqa: D102
        identity = self.windows_facts.identity
        names = [account.name for account in identity.accounts]
        own = [profile.name for profile in identity.profiles if profile.has_own_folder]
        return names + [name for name in own if name not in names]

    @property
    def human_names(self) -> list[str]:  # noqa: D102
        return [
            account.name for account in self.windows_facts.identity.accounts if account.is_human
        ]

    @property
    def human_homes(self) -> list[str]:  # noqa: D102
        return [profile.folder for profile in self.windows_facts.identity.profiles]

    def fold(self, name: str) -> str:  # noqa: D102
        return name.lower()

    def is_enabled(self, service: str) -> bool:  # noqa: D102
        return self.services.is_enabled(service)

    def installed(self) -> Collection[str]:  # noqa: D102
        listed = self.registry.values(f"{CURRENT}\\Uninstall\\*", "DisplayName")
        return {str(value_types.typed(value)) for _found, value in listed}

    def components(self) -> Iterator[Component]:  # noqa: D102
        yield from read_programs(self.registry)
        yield from read_updates(self.registry)
        yield from read_build(self.registry)
        yield from read_python_packages(self.guest)
        yield from read_npm_packages(self.guest)

    def components_changed_at(self) -> int:  # noqa: D102
        return updated_at(self.registry)

    def is_shipped(self, path: str, is_names: bool = False) -> bool:  # noqa: D102
        return bool(_SHIPPED.match(f"{path}/" if is_names else path))

    def identity_values(self) -> Iterator[IdentityValue]:  # noqa: D102
        return read_windows_values(self.windows_facts, self.registry, self.guest)

    def describe_start(self, later: Iterable[str]) -> str:  # noqa: D102
        lowered = [path.lower() for path in later]
        if not any(path.startswith((_EVENT_LOGS, _PAGE_FILE)) for path in lowered):
            return ""
        return f"it has {', '.join(signs_in(lowered, _SIGNS_OF_A_START))} of its own"

    def places_inside(self, path: str, needles: Collection[Needle]) -> list[str]:  # noqa: D102
        return keys_of(self.registry, path, needles)

    def check_readable(self) -> None:  # noqa: D102
        if self.windows_facts.problem:
            raise DamagedError(
                messages.REGISTRY_CANNOT_BE_READ.format(problem=self.windows_facts.problem)
            )
