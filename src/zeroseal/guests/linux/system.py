"""A Linux as a guest system."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from functools import cached_property

from zeroseal.guests.components import Component, Kind
from zeroseal.guests.identity_value import IdentityValue
from zeroseal.guests.language_packages import read_npm_packages, read_python_packages
from zeroseal.guests.linux.accounts import Account, read_accounts
from zeroseal.guests.linux.facts import read_facts
from zeroseal.guests.linux.identity_values import read_values
from zeroseal.guests.linux.kernels import newest_first
from zeroseal.guests.linux.packages import packages_changed_at, read_packages
from zeroseal.guests.linux.services import Services
from zeroseal.guests.linux.shipped_files import ShippedFiles
from zeroseal.guests.system import GuestSystem, SystemFacts, signs_in

_MACHINE_ID = "/etc/machine-id"
_SIGNS_OF_A_START = (
    ("/etc/machine-id", "machine ID"),
    ("/var/log/journal/", "journal"),
    ("/var/lib/systemd/random-seed", "random seed"),
    ("/etc/ssh/ssh_host_", "SSH host keys"),
    ("/var/lib/dhcp/", "lease"),
    ("/var/lib/cloud/", "first-boot state"),
    ("/var/log/", "logs"),
)


class LinuxSystem(GuestSystem):
    """See ``GuestSystem``."""

    family = "linux"
    packed_places = ("/boot", "/etc", "/home", "/opt", "/root", "/srv", "/usr/local", "/var")
    word_places = ("/etc", "/var/lib", "/var/spool", "/var/mail", "/var/log", "/root")

    @cached_property
    def facts(self) -> SystemFacts:
        """What the guest says of itself."""
        return read_facts(self.guest)

    @cached_property
    def accounts(self) -> list[Account]:
        """All accounts."""
        return read_accounts(self.guest)

    @cached_property
    def services(self) -> Services:
        """What a boot of the guest starts."""
        return Services(self.guest)

    @cached_property
    def _shipped(self) -> ShippedFiles:
        return ShippedFiles(self.guest)

    @property
    def account_names(self) -> list[str]:  # noqa: D102 - as in GuestSystem
        return [account.name for account in self.accounts]

    @property
    def human_names(self) -> list[str]:  # noqa: D102
        return [account.name for account in self.accounts if account.is_human]

    @property
    def human_homes(self) -> list[str]:  # noqa: D102
        return [account.home for account in self.accounts if account.is_human]

    def fold(self, name: str) -> str:  # noqa: D102
        return name

    def is_enabled(self, service: str) -> bool:  # noqa: D102
        return self.services.is_enabled(service)

    def installed(self) -> Collection[str]:  # noqa: D102
        return {package.name for package in read_packages(self.guest)}

    def components(self) -> Iterator[Component]:  # noqa: D102
        for package in read_packages(self.guest):
            source = package.source if package.source != package.name else ""
            yield Component(
                package.kind,
                package.name,
                package.version,
                package.architecture,
                source,
                package.maker,
            )
        for version in newest_first(self.guest):
            yield Component(Kind.KERNEL, "linux", version)
        yield from read_python_packages(self.guest)
        yield from read_npm_packages(self.guest)

    def components_changed_at(self) -> int:  # noqa: D102
        return packages_changed_at(self.guest)

    def is_shipped(self, path: str, is_names: bool = False) -> bool:  # noqa: D102
        return self._shipped.holds(path, is_names)

    def identity_values(self) -> Iterator[IdentityValue]:  # noqa: D102
        return read_values(self.guest, self.facts.host_name)

    def describe_start(self, later: Iterable[str]) -> str:  # noqa: D102
        paths = list(later)
        if _MACHINE_ID not in paths or len(self.guest.read_text(_MACHINE_ID).strip()) != 32:
            return ""
        return f"it has its own {', '.join(signs_in(paths, _SIGNS_OF_A_START))}"
