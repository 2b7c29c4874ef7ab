"""A disk as the sealing room looks at it: volumes, guest, facts and findings, from one store."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, UsageError
from zeroseal.guests.accounts import read_accounts
from zeroseal.guests.facts import SystemFacts, read_facts
from zeroseal.guests.open import OpenedGuest, TreeOpener, open_for_reading, open_guest
from zeroseal.guests.registry.paths import Registry
from zeroseal.guests.services import Services
from zeroseal.guests.windows.hives import open_registry
from zeroseal.guests.windows.identity import WindowsFacts, read_windows
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.choices import SealChoices
from zeroseal.traces.context import FindContext, WindowsContext
from zeroseal.traces.finders import find_trace
from zeroseal.traces.finding import Finding
from zeroseal.traces.load import get_trace
from zeroseal.volumes.disk import Disk, read_disk

if TYPE_CHECKING:
    from zeroseal.filesystems.ext.recover import Recovery


@dataclass(frozen=True)
class Subject:
    """A disk with its guest, read afresh from a store; ``recovered`` says what that took.

    ``registry`` and ``windows`` are there where the guest is a Windows.
    """

    disk: Disk
    opened: OpenedGuest
    facts: SystemFacts
    recovered: tuple[Recovery, ...] = ()
    registry: Registry | None = None
    windows: WindowsFacts | None = None

    @classmethod
    def read(
        cls, store: Store, open_tree: TreeOpener = open_for_reading, recover: bool = False
    ) -> Subject:
        """Reads partition table, volumes and guest.

        Args:
            store: the disk.
            open_tree: opens the file system of a volume.
            recover: whether file systems that were not shut down cleanly are recovered first; the
                changes go to ``store``.

        Raises:
            ImageError, RefusedError: the disk holds no guest that we can handle.
        """
        disk = read_disk(store)
        recovered = _recover(disk) if recover else ()
        opened = open_guest(disk, open_tree)
        if opened.is_windows:
            registry = open_registry(opened.guest)
            facts = read_windows(registry, opened.guest.mounts[0].volume.name)
            return cls(disk, opened, facts.system, recovered, registry, facts)
        return cls(disk, opened, read_facts(opened.guest), recovered)

    @cached_property
    def _services(self) -> Services:
        return Services(self.opened.guest)

    def settle(self, choices: SealChoices) -> SealChoices:
        """The choices for this guest: accounts that house rules keep are kept if they are there."""
        spelled = {_folded(name, self.windows): name for name in self.account_names}
        given = tuple(
            spelled.get(_folded(name, self.windows), name) for name in choices.retained_accounts
        )
        return replace(choices, retained_accounts=given).with_accounts(self.account_names)

    @cached_property
    def account_names(self) -> list[str]:
        """The names of all accounts, the system's own among them."""
        if self.windows:
            identity = self.windows.identity
            names = [account.name for account in identity.accounts]
            own = [profile.name for profile in identity.profiles if profile.has_own_folder]
            return names + [name for name in own if name not in names]
        return [account.name for account in read_accounts(self.opened.guest)]

    def context(self, choices: SealChoices) -> FindContext:
        """What finders need.

        Raises:
            UsageError: an account to be retained is not there.
        """
        context = FindContext(
            guest=self.opened.guest,
            swaps=self.opened.swaps,
            gaps=self.disk.gaps,
            physical_volumes=self.disk.physical_volumes,
            retained=frozenset(choices.retained_accounts),
            keep_root_login=choices.keeps_root,
            plants_first_boot=choices.plants,
            asks_dhcp=choices.asks_dhcp,
            restarts_history=choices.restarts_history,
            known_services=self._services,
            accounts_stay=not choices.treats(get_trace("people.accounts")),
            windows=self._windows_context(choices),
        )
        self._check_names(choices, context)
        return context

    def _windows_context(self, choices: SealChoices) -> WindowsContext | None:
        if self.windows is None or self.registry is None:
            return None
        if self.windows.problem:
            raise DamagedError(f"the registry cannot be read: {self.windows.problem}")
        return WindowsContext(
            registry=self.registry,
            identity=self.windows.identity,
            retained=frozenset(name.lower() for name in choices.retained_accounts),
            accounts_stay=not choices.treats(get_trace("people.windows-accounts")),
            reissues_sid=choices.reissues_sid,
            disables_administrator=choices.rules.disables_administrator,
        )

    def _check_names(self, choices: SealChoices, context: FindContext) -> None:
        """Raises UsageError where an account to be retained or removed is not there."""
        asked = set(choices.removed_accounts) - set(choices.rules.removed_accounts)
        known = {_folded(name, self.windows) for name in self.account_names}
        for name in (*choices.retained_accounts, *sorted(asked)):
            if _folded(name, self.windows) not in known:
                humans = [account.name for account in context.accounts if account.is_human]
                if context.windows:
                    humans = [a.name for a in context.windows.identity.accounts if a.is_human]
                raise UsageError(
                    f"the guest has no account {name!r}; its human accounts are "
                    f"{', '.join(humans) or 'none'}"
                )

    def find_all(self, choices: SealChoices, progress: Progress = quiet) -> list[Finding]:
        """All findings of the catalogue, those of skipped traces included."""
        context = self.context(choices)
        claimed: set[str] = set()
        findings: list[Finding] = []
        catalogue = [
            trace for trace in choices.catalogue if trace.guest in ("any", self.facts.family)
        ]
        for number, trace in enumerate(catalogue):
            progress(Step("looking for traces", number, len(catalogue), "traces"))
            findings += find_trace(trace, context, claimed)
        progress(Step("looking for traces", len(catalogue), len(catalogue), "traces"))
        return findings


def _folded(name: str, windows: WindowsFacts | None) -> str:
    """A name as it is compared: Windows knows no case."""
    return name.lower() if windows else name


def _recover(disk: Disk) -> tuple[Recovery, ...]:
    """Recovers the file systems that were not shut down cleanly."""
    from zeroseal.filesystems.ext.recover import needs_recovery, recover_volume

    return tuple(
        recover_volume(volume.store, volume.name)
        for volume in disk.volumes
        if volume.content.is_ext and needs_recovery(volume.store, volume.name)
    )
