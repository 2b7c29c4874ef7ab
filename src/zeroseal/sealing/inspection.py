"""An inspection: one disk on the bench, opened, with everything that was read of it, once."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import CachedStore, Store
from zeroseal.errors import UsageError, ZeroSealError
from zeroseal.filesystems.driver import Recovery, VolumeState
from zeroseal.filesystems.drivers import VolumeTrees, driver_of, read_disk
from zeroseal.filesystems.inventory import Inventory
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.open import OpenedGuest, open_guest
from zeroseal.guests.system import GuestSystem, SystemFacts
from zeroseal.images.image import Image
from zeroseal.messages import sealing as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.policy import Policy
from zeroseal.traces.finder import FindContext
from zeroseal.traces.finders import find_trace
from zeroseal.traces.finding import Finding
from zeroseal.volumes.disk import Disk
from zeroseal.volumes.volume import Volume

if TYPE_CHECKING:
    from zeroseal.sealing.judge import Judge


@dataclass
class _Kept:
    """What was worked out for one policy."""

    policy: Policy
    context: FindContext
    findings: list[Finding] | None = None


@dataclass
class Inspection:
    """A disk with its guest, read afresh from a store; ``recovered`` says what that took."""

    store: Store
    disk: Disk
    trees: VolumeTrees
    opened: OpenedGuest
    recovered: tuple[Recovery, ...] = ()
    image: Image | None = None
    _inventories: dict[str, Inventory[Any]] = field(default_factory=dict)
    _kept: _Kept | None = None

    @classmethod
    def read(cls, store: Store, recover: bool = False, image: Image | None = None) -> Inspection:
        """Reads partition table, volumes and guest.

        Args:
            store: the disk.
            recover: whether file systems that were not shut down cleanly are recovered first; the
                changes go to ``store``.
            image: the container that the disk comes from, where its facts are wanted.

        Raises:
            ImageError, RefusedError: the disk holds no guest that we can handle.
        """
        disk, trees = read_disk(store), VolumeTrees()
        recovered = tuple(_recover(disk)) if recover else ()
        return cls(store, disk, trees, open_guest(disk, trees), recovered, image)

    def get_image(self) -> Image:
        """The container that the disk comes from."""
        if self.image is None:
            raise TypeError("this inspection is of a store, not of an image")
        return self.image

    @property
    def guest(self) -> Guest:
        """The guest."""
        return self.opened.guest

    @property
    def system(self) -> GuestSystem:
        """What runs there."""
        return self.opened.system

    @property
    def facts(self) -> SystemFacts:
        """What the system says of itself."""
        return self.system.facts

    @cached_property
    def judge(self) -> Judge[Any]:
        """What a seal weighs for such a system."""
        from zeroseal.sealing.judges import judge_of  # it judges inspections

        return judge_of(self.system)

    @property
    def unread(self) -> list[str]:
        """Mount points whose volume cannot be read, with the reason."""
        return self.opened.unread

    @property
    def boot_unread(self) -> list[str]:
        """The same for volumes of the firmware and boot loader."""
        return self.opened.boot_unread

    @property
    def swaps(self) -> list[Volume]:
        """Volumes that are swap."""
        return self.opened.swaps

    @property
    def unmounted(self) -> list[Volume]:
        """Volumes with data that the guest does not mount."""
        return self.opened.unmounted

    def store_of(self, volume: str) -> Store:
        """The store of a volume by its name; of the disk itself where that is empty."""
        if not volume:
            return self.store
        return next(item.store for item in self.disk.volumes if item.name == volume)

    def inventory_of(self, mount: Mount) -> Inventory[Any]:
        """The inventory of a mounted volume, taken once."""
        name = mount.volume.name
        if name not in self._inventories:
            self._inventories[name] = mount.driver.take_inventory(mount.tree)
        return self._inventories[name]

    def volume_states(self) -> tuple[VolumeState, ...]:
        """What volumes say of themselves, those whose format does."""
        return tuple(iter_states(self.disk, self.trees))

    def fit_policy(self, policy: Policy) -> Policy:
        """The policy for this guest: accounts are kept where they are, spelled as they are."""
        return policy.for_accounts(self.system.account_names, self.system.fold)

    @property
    def account_names(self) -> list[str]:
        """The names of all accounts, the system's own among them."""
        return self.system.account_names

    def context(self, policy: Policy) -> FindContext:
        """What finders need; kept for the policy that were asked for last.

        Raises:
            UsageError: an account to be retained is not there.
        """
        return self._keep(policy).context

    def find_all(self, policy: Policy, progress: Progress = quiet) -> list[Finding]:
        """All findings of the catalogue, those of skipped traces included; made once."""
        kept = self._keep(policy)
        if kept.findings is None:
            kept.findings = self._find(policy, kept.context, progress)
            kept.findings += self.judge.find_elsewhere(self, policy)
        return kept.findings

    def _keep(self, policy: Policy) -> _Kept:
        if self._kept is None or self._kept.policy is not policy:
            self._kept = _Kept(policy, self._build_context(policy))
        return self._kept

    def _build_context(self, policy: Policy) -> FindContext:
        context = self.judge.build_context(self, policy)
        asked = set(policy.removed_accounts) - set(policy.removed_if_present)
        known = {self.system.fold(name) for name in self.account_names}
        for name in (*policy.retained_accounts, *sorted(asked)):
            if self.system.fold(name) not in known:
                raise UsageError(
                    messages.NO_SUCH_ACCOUNT.format(
                        name=name, human_names=", ".join(self.system.human_names) or "none"
                    )
                )
        return context

    def _find(self, policy: Policy, context: FindContext, progress: Progress) -> list[Finding]:
        claimed: set[str] = set()
        findings: list[Finding] = []
        catalogue = [
            trace for trace in policy.catalogue if trace.guest in ("any", self.facts.family)
        ]
        for number, trace in enumerate(catalogue):
            progress(Step("looking for traces", number, len(catalogue), "traces"))
            findings += find_trace(trace, context, claimed)
        progress(Step("looking for traces", len(catalogue), len(catalogue), "traces"))
        return findings


@contextmanager
def recoverable(image: Image, recover: bool) -> Iterator[Store]:
    """An image, or a layer over it where its file systems are to be recovered in appearance."""
    cached = CachedStore(image)
    if not recover:
        yield cached
        return
    staged = StagedStore(cached)
    try:
        yield staged
    finally:
        staged.close()


def iter_states(disk: Disk, trees: VolumeTrees) -> Iterator[VolumeState]:
    """Yields what the volumes of a disk say of themselves, those whose format does."""
    for volume in disk.volumes:
        driver = driver_of(volume)
        if driver is None or not driver.tells_state:
            continue
        try:
            state = driver.read_state(trees.open(volume))
        except ZeroSealError as error:
            said = error.message
            state = VolumeState(volume.name, against_changing=said, problem=said)
        if state:
            yield state


def _recover(disk: Disk) -> Iterator[Recovery]:
    """Recovers the file systems that were not shut down cleanly."""
    for volume in disk.volumes:
        driver = driver_of(volume)
        recovery = driver.recover(volume.store, volume.name) if driver else None
        if recovery:
            yield recovery
