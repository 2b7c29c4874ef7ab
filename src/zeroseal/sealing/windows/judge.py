"""What a seal weighs where the guest is a Windows."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.errors import RefusedError
from zeroseal.guests.windows.hives import HiveSet
from zeroseal.guests.windows.system import WindowsSystem
from zeroseal.messages import sealing_windows as messages
from zeroseal.sealing.house_rules import Requirements
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.judge import Guard, Judge
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.projected_guest import gone_after
from zeroseal.sealing.remark import Remark
from zeroseal.sealing.searched_value import CollectedValues
from zeroseal.sealing.windows.guard import guard_windows
from zeroseal.sealing.windows.projected import ProjectedWindows
from zeroseal.sealing.windows.readiness import find_windows_remarks
from zeroseal.sealing.windows.values import collect_windows_values
from zeroseal.traces.finding import Finding
from zeroseal.traces.windows.context import WindowsContext


class WindowsJudge(Judge[ProjectedWindows]):
    """See ``Judge``."""

    def __init__(self, system: WindowsSystem) -> None:
        self._system = system

    def build_context(  # noqa: D102 - as in Judge
        self, inspection: Inspection, policy: Policy
    ) -> WindowsContext:
        self._system.check_readable()
        return WindowsContext(
            guest=inspection.guest,
            swaps=inspection.swaps,
            inventory_of=inspection.inventory_of,
            gaps=inspection.disk.gaps,
            physical_volumes=inspection.disk.physical_volumes,
            retained=frozenset(map(self._system.fold, policy.retained_accounts)),
            accounts_stay=not policy.treats_id("people.windows-accounts"),
            asks_dhcp=policy.asks_dhcp,
            system=self._system,
            reissues_sid=policy.reissues_sid,
            disables_administrator=policy.disables_administrator,
        )

    def project(  # noqa: D102
        self, inspection: Inspection, treated: list[Finding], policy: Policy
    ) -> ProjectedWindows:
        context = inspection.context(policy)
        assert isinstance(context, WindowsContext)  # as ``build_context`` made it
        return ProjectedWindows(inspection, context, policy, gone_after(treated))

    def find_remarks(  # noqa: D102
        self, projected: ProjectedWindows, handled: set[str]
    ) -> Iterator[Remark]:
        del handled
        return find_windows_remarks(projected)

    def guard(self, projected: ProjectedWindows) -> Guard:  # noqa: D102
        return guard_windows(projected)

    def find_unmet(  # noqa: D102
        self, inspection: Inspection, required: Requirements
    ) -> Iterator[str]:
        del inspection, required
        return iter(())

    def collect_values(self, inspection: Inspection, policy: Policy) -> CollectedValues:  # noqa: D102
        context = self.project(inspection, [], policy).context
        return collect_windows_values(inspection, context, policy)

    def planted_paths(  # noqa: D102
        self, inspection: Inspection, policy: Policy, assured: Guard
    ) -> tuple[str, ...]:
        if policy.plants_first_boot:
            raise RefusedError(messages.PLANTING_IS_FOR_LINUX)
        if policy.plants_fallback_loader:
            raise RefusedError(messages.PLANTING_LOADER_IS_FOR_LINUX)
        return ()

    def open_hives(self, inspection: Inspection, now: int) -> HiveSet:  # noqa: D102
        return HiveSet(self._system.registry, now)
