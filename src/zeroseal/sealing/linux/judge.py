"""What a seal weighs where the guest is a Linux."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from zeroseal.guests.linux.file_claims import FileClaims
from zeroseal.guests.linux.system import LinuxSystem
from zeroseal.sealing.house_rules import Requirements
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.judge import Guard, Judge
from zeroseal.sealing.linux.covered import find_covered
from zeroseal.sealing.linux.fallback_loader import planned_copies, plant_fallback_loader
from zeroseal.sealing.linux.first_boot import check_plantable, plant, planted_paths
from zeroseal.sealing.linux.guard import guard_linux
from zeroseal.sealing.linux.projected import ProjectedLinux
from zeroseal.sealing.linux.readiness import find_advice, find_blockers, find_unmet
from zeroseal.sealing.linux.secret_sweep import find_secrets
from zeroseal.sealing.linux.snapshots import find_in_snapshots
from zeroseal.sealing.linux.unclaimed import find_unclaimed
from zeroseal.sealing.linux.values import collect_linux_values
from zeroseal.sealing.plan import Plan
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.projected_guest import gone_after
from zeroseal.sealing.remark import Remark
from zeroseal.sealing.searched_value import CollectedValues
from zeroseal.sealing.what_stays import WhatStays
from zeroseal.traces.finding import Finding
from zeroseal.traces.linux.context import LinuxContext


class LinuxJudge(Judge[ProjectedLinux]):
    """See ``Judge``."""

    def __init__(self, system: LinuxSystem) -> None:
        self._system = system

    def build_context(  # noqa: D102 - as in Judge
        self, inspection: Inspection, policy: Policy
    ) -> LinuxContext:
        return LinuxContext(
            guest=inspection.guest,
            swaps=inspection.swaps,
            inventory_of=inspection.inventory_of,
            gaps=inspection.disk.gaps,
            physical_volumes=inspection.disk.physical_volumes,
            retained=frozenset(policy.retained_accounts),
            accounts_stay=not policy.treats_id("people.accounts"),
            asks_dhcp=policy.asks_dhcp,
            system=self._system,
            keeps_root_login=policy.keeps_root_login,
            plants_first_boot=policy.plants_first_boot,
            restarts_history=policy.restarts_history,
            snapshots=tuple(inspection.opened.snapshots),
            drops_snapshots=policy.drops_snapshots,
        )

    def find_elsewhere(  # noqa: D102
        self, inspection: Inspection, policy: Policy
    ) -> Iterator[Finding]:
        context = inspection.context(policy)
        assert isinstance(context, LinuxContext)  # as ``build_context`` made it
        return find_in_snapshots(context, policy)

    def project(  # noqa: D102
        self, inspection: Inspection, treated: list[Finding], policy: Policy
    ) -> ProjectedLinux:
        context = inspection.context(policy)
        assert isinstance(context, LinuxContext)  # as ``build_context`` made it
        return ProjectedLinux(inspection, context, policy, gone_after(treated))

    def find_remarks(  # noqa: D102
        self, projected: ProjectedLinux, handled: set[str]
    ) -> Iterator[Remark]:
        yield from find_blockers(projected)
        yield from find_advice(projected, handled)

    def find_what_stays(  # noqa: D102
        self, projected: ProjectedLinux, handled: Collection[str]
    ) -> WhatStays:
        secrets = find_secrets(projected, handled)
        told = {*handled, *(secret.path for secret in secrets)}
        return WhatStays(
            is_known=True,
            knows_owners=FileClaims(projected.guest).is_known,
            unclaimed=tuple(find_unclaimed(projected, told)),
            secrets=tuple(secrets),
            covered=tuple(find_covered(projected.guest)),
        )

    def guard(self, projected: ProjectedLinux) -> Guard:  # noqa: D102
        return guard_linux(projected)

    def find_unmet(  # noqa: D102
        self, inspection: Inspection, required: Requirements
    ) -> Iterator[str]:
        return find_unmet(inspection.guest, required)

    def collect_values(self, inspection: Inspection, policy: Policy) -> CollectedValues:  # noqa: D102
        context = self.project(inspection, [], policy).context
        return collect_linux_values(inspection, context, policy)

    def planted_paths(  # noqa: D102
        self, inspection: Inspection, policy: Policy, assured: Guard
    ) -> tuple[str, ...]:
        guest, services = inspection.guest, self._system.services
        if policy.plants_first_boot:
            check_plantable(guest, services)
        is_planting = policy.plants_first_boot or assured.planted
        paths = planted_paths(guest, services) if is_planting else ()
        if policy.plants_fallback_loader:
            paths = (*paths, *(copy.target for copy in planned_copies(guest)))
        return paths

    def plant(self, inspection: Inspection, plan: Plan) -> None:  # noqa: D102
        services, also_always = self._system.services, plan.policy.plants_first_boot
        if also_always or plan.guard.planted:
            plant(inspection.guest, plan.guard.planted, services, also_always)
        if plan.policy.plants_fallback_loader:
            plant_fallback_loader(inspection.guest)
