"""What the administrator chose for a seal."""

from __future__ import annotations

from dataclasses import dataclass, replace

from zeroseal.errors import UsageError
from zeroseal.sealing.house_rules import NO_RULES, HouseRules
from zeroseal.traces.load import get_trace, load_catalogue
from zeroseal.traces.model import FAMILIES, Trace

_SID_TRACE = "identity.machine-sid"


@dataclass(frozen=True)
class MachineKnowledge:
    """What is known of the machine that a disk belongs to, from its definition.

    Attributes:
        blockers, hints: sentences.
        throwaway_accounts: those of its build, which a seal always removes.
        hardware: what a record says of it: nothing that makes it itself.
    """

    blockers: tuple[str, ...] = ()
    hints: tuple[str, ...] = ()
    throwaway_accounts: tuple[str, ...] = ()
    hardware: dict[str, str | int] | None = None


@dataclass(frozen=True)
class SealChoices:
    """Choices of one seal; the defaults remove everything the catalogue knows.

    Attributes:
        only: trace ids or families to treat; empty for all.
        skip: trace ids or families to leave alone.
        retained_accounts: human accounts that stay.
        removed_accounts: accounts in the human range that go though they run services.
        keep_root_login: whether root's password and login keys stay.
        plant_first_boot: whether a small unit of ours makes new host keys on the first boot.
        expect_seed: whether the administrator vouches that every clone gets a seed.
        search_values: whether the result's bytes are searched for the values that are removed.
        allow_residue: whether a value that is found there does not stop the seal.
        allow_static_address: whether clones may begin with the machine's static address.
        to_dhcp: whether static addresses become DHCP.
        restart_history: whether version histories over settings and homes begin again.
        same_size_clones: whether every clone's disk will be as large as the template's.
        reissue_sid: whether a Windows' security identifier is replaced by a new random one; else
            that trace is not treated.
        recover_journal: whether file systems that were not shut down cleanly are recovered first.
        machine: what is known of the machine; None where only the disk is.
        rules: the site's policy; its answers are asked for beside the other choices.
    """

    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    retained_accounts: tuple[str, ...] = ()
    removed_accounts: tuple[str, ...] = ()
    keep_root_login: bool = False
    plant_first_boot: bool = False
    expect_seed: bool = False
    search_values: bool = True
    allow_residue: bool = False
    allow_static_address: bool = False
    to_dhcp: bool = False
    restart_history: bool = False
    same_size_clones: bool = False
    reissue_sid: bool = False
    recover_journal: bool = False
    machine: MachineKnowledge | None = None
    rules: HouseRules = NO_RULES

    def __post_init__(self) -> None:
        own = {trace.id for trace in self.rules.traces}
        for name in (*self.only, *self.skip):
            if name not in FAMILIES and name not in own:
                get_trace(name)  # raises UsageError for a name that is none
        both = [name for name in self.only if name in self.skip]
        if both:
            raise UsageError(f"{both[0]} is named by --only and by --skip: choose one")
        for name in self.removed_accounts:
            if name in self.retained_accounts:
                raise UsageError(f"{name} is to be retained and to be removed: choose one")
        self._check_throwaway()

    def _check_throwaway(self) -> None:
        for name in self.machine.throwaway_accounts if self.machine else ():
            if name in self.retained_accounts:
                raise UsageError(
                    f"{name} is the account of the machine's build, which a seal always removes: "
                    "retain another account"
                )
            if not self.treats(get_trace("people.accounts")):
                raise UsageError(
                    f"{name} is the account of the machine's build, which a seal always removes: "
                    "treat the trace people.accounts too"
                )

    @property
    def catalogue(self) -> tuple[Trace, ...]:
        """The built-in traces, and the site's own."""
        return (*load_catalogue(), *self.rules.traces)

    @property
    def keeps_root(self) -> bool:
        """Whether root's password and login keys stay."""
        return self.keep_root_login or self.rules.keeps_root_login

    @property
    def asks_dhcp(self) -> bool:
        """Whether clones ask for an address where this machine has one of its own."""
        return self.to_dhcp or self.rules.asks_dhcp

    @property
    def restarts_history(self) -> bool:
        """Whether version histories over settings and homes begin again."""
        return self.restart_history or self.rules.restarts_history

    @property
    def reissues_sid(self) -> bool:
        """Whether a Windows gets a new security identifier."""
        return self.reissue_sid or self.rules.reissues_sid

    @property
    def plants(self) -> bool:
        """Whether a script is planted for a clone's first boot."""
        return self.plant_first_boot or self.rules.plants_first_boot

    @property
    def expects_seed(self) -> bool:
        """Whether every clone gets a seed, by the administrator's word."""
        return self.expect_seed or self.rules.expects_seed

    @property
    def keeps_something(self) -> bool:
        """Whether something stays on purpose in which removed values may be named."""
        left = (self.only, self.skip, self.rules.kept_traces, self.retained_accounts)
        return any(left) or self.keeps_root

    def treats(self, trace: Trace) -> bool:
        """Whether a trace is to be treated."""
        if trace.id == _SID_TRACE and not self.reissues_sid:
            return False
        names = (trace.id, trace.family)
        chosen = not self.only or any(name in self.only for name in names)
        return chosen and not any(name in (*self.skip, *self.rules.kept_traces) for name in names)

    def treats_id(self, trace_id: str) -> bool:
        """Whether the built-in trace of that id is to be treated."""
        return self.treats(get_trace(trace_id))

    def with_accounts(self, names: list[str]) -> SealChoices:
        """The choices for a guest with these accounts: those that the rules keep are retained."""
        kept = [name for name in self.rules.kept_accounts if name in names]
        both = tuple(dict.fromkeys((*self.retained_accounts, *kept)))
        gone = tuple(dict.fromkeys((*self.removed_accounts, *self.rules.removed_accounts)))
        return replace(
            self,
            retained_accounts=both,
            removed_accounts=gone,
            plant_first_boot=self.plants,
            expect_seed=self.expects_seed,
            to_dhcp=self.asks_dhcp,
            allow_static_address=self.allow_static_address or self.rules.allows_static_address,
        )
