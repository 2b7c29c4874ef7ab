"""The policy of a seal: options and house rules resolved into one value, at the door.

Nobody behind the door asks an option or a rule again. A policy is for any guest; ``for_accounts``
makes it one for a guest with certain accounts.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from functools import cached_property

from zeroseal.errors import UsageError
from zeroseal.guests.identity_value import IdentityValue
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.messages import sealing as messages
from zeroseal.sealing.canaries import Canary
from zeroseal.sealing.house_rules import NO_RULES, Gate, HouseRules, Requirements
from zeroseal.sealing.remark import BLOCKERS
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
        outside: what identifies it outside of its disk.
        boot_entries: loaders that its firmware variables name, by what they are called.
        journal: the SHA-256 of the journal of its build; empty where there is none.
    """

    blockers: tuple[str, ...] = ()
    hints: tuple[str, ...] = ()
    throwaway_accounts: tuple[str, ...] = ()
    hardware: dict[str, str | int] | None = None
    outside: tuple[IdentityValue, ...] = ()
    boot_entries: tuple[str, ...] = ()
    journal: str = ""


@dataclass(frozen=True)
class SealOptions:
    """What the user asked for, word by word; the defaults remove everything the catalogue knows.

    Attributes:
        only: trace ids or families to treat; empty for all.
        skip: trace ids or families to leave alone.
        retained_accounts: human accounts that stay.
        removed_accounts: accounts in the human range that go though they run services.
        keep_root_login: whether root's password and login keys stay.
        plant_first_boot: whether a small unit of ours makes new host keys on the first boot.
        plant_fallback_loader: whether the guest's loader is copied to where any firmware finds it.
        expect_seed: whether the administrator vouches that every clone gets a seed.
        search_values: whether the result's bytes are searched for the values that are removed.
        allow_residue: whether a value that is found there does not stop the seal.
        allow_static_address: whether clones may begin with the machine's static address.
        to_dhcp: whether static addresses become DHCP.
        restart_history: whether version histories over settings and homes begin again.
        drop_snapshots: whether snapshots of what the guest mounts are removed.
        seal_snapshots: whether each of them is treated like the guest.
        same_size_clones: whether every clone's disk will be as large as the template's.
        new_volume_ids: whether partitions and volumes get other identities.
        reissue_sid: whether a Windows' security identifier is replaced by a new random one; else
            that trace is not treated.
        recover_journal: whether file systems that were not shut down cleanly are recovered first.
        strict: whether nothing may stay that may be identity or a secret.
        canaries: texts that must be nowhere in the result.
    """

    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    retained_accounts: tuple[str, ...] = ()
    removed_accounts: tuple[str, ...] = ()
    keep_root_login: bool = False
    plant_first_boot: bool = False
    plant_fallback_loader: bool = False
    expect_seed: bool = False
    search_values: bool = True
    allow_residue: bool = False
    allow_static_address: bool = False
    to_dhcp: bool = False
    restart_history: bool = False
    drop_snapshots: bool = False
    seal_snapshots: bool = False
    same_size_clones: bool = False
    new_volume_ids: bool = False
    reissue_sid: bool = False
    recover_journal: bool = False
    strict: bool = False
    canaries: tuple[Canary, ...] = ()


@dataclass(frozen=True)
class Policy:
    """What is treated, kept, allowed and required.

    Attributes:
        only: trace ids or families to treat; empty for all.
        skip: trace ids or families to leave alone; with ``allowed_skips`` the seal is whole.
        retained_accounts: human accounts that stay and must be there; of
            ``retained_if_present`` those that are.
        removed_accounts: accounts in the human range that go though they run services, and must
            be there; of ``removed_if_present`` those that are.
        keeps_root_login: whether root's password and login keys stay.
        plants_first_boot: whether a script is planted for a clone's first boot.
        plants_fallback_loader: whether the guest's loader is copied to where any firmware finds it.
        expects_seed: whether every clone gets a seed, by the administrator's word.
        searches_values: whether the result's bytes are searched for the values that are removed.
        accepts_residue: whether a value that is found there does not stop the seal.
        allows_static_address: whether clones may begin with the machine's static address.
        asks_dhcp: whether clones ask for an address where this machine has one of its own.
        restarts_history: whether version histories over settings and homes begin again.
        drops_snapshots: whether snapshots of what the guest mounts are removed.
        seals_snapshots: whether each of them is treated like the guest.
        has_same_size_clones: whether clones need not use the room of a larger disk.
        renews_volume_ids: whether partitions and volumes get other identities.
        reissues_sid: whether a Windows gets a new security identifier.
        disables_administrator: whether its built-in administrator is disabled.
        first_starts: how a Windows may start; empty for any.
        recovers_journal: whether file systems that were not shut down cleanly are recovered first.
        residue_places: patterns of places where removed values may still stand.
        unclaimed_places: patterns of files that no package owns and that were looked at;
            ``secret_places``, of files whose secrets may stay.
        is_strict: whether nothing may stay that may be identity or a secret.
        texts: further texts that may stand nowhere on a sealed disk; ``canaries``, those of a file.
        values_left_out: values that are not searched for, as a seal names them.
        remarks_as_blockers, remarks_as_advice, ignored_remarks: codes of ``remark.CODES``.
        requirements: what the guest must have.
        gate: what a check requires beside its verdict.
        own_traces: the site's own.
        reach: what images are, and which other files may be read for them.
        machine: what is known of the machine; None where only the disk is.
        rule_files: paths of the house rules, and ``rule_digests`` their names with SHA-256.
        options: as they were given, for the command that carries a plan out.
    """

    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    allowed_skips: tuple[str, ...] = ()
    retained_accounts: tuple[str, ...] = ()
    retained_if_present: tuple[str, ...] = ()
    removed_accounts: tuple[str, ...] = ()
    removed_if_present: tuple[str, ...] = ()
    keeps_root_login: bool = False
    plants_first_boot: bool = False
    plants_fallback_loader: bool = False
    expects_seed: bool = False
    searches_values: bool = True
    accepts_residue: bool = False
    allows_static_address: bool = False
    asks_dhcp: bool = False
    restarts_history: bool = False
    drops_snapshots: bool = False
    seals_snapshots: bool = False
    has_same_size_clones: bool = False
    renews_volume_ids: bool = False
    reissues_sid: bool = False
    disables_administrator: bool = False
    first_starts: tuple[str, ...] = ()
    recovers_journal: bool = False
    residue_places: tuple[str, ...] = ()
    unclaimed_places: tuple[str, ...] = ()
    secret_places: tuple[str, ...] = ()
    is_strict: bool = False
    texts: tuple[str, ...] = ()
    canaries: tuple[Canary, ...] = ()
    values_left_out: tuple[str, ...] = ()
    remarks_as_blockers: tuple[str, ...] = ()
    remarks_as_advice: tuple[str, ...] = ()
    ignored_remarks: tuple[str, ...] = ()
    requirements: Requirements = field(default_factory=Requirements)
    gate: Gate = field(default_factory=Gate)
    own_traces: tuple[Trace, ...] = ()
    reach: Reach = OWN_FOLDER
    machine: MachineKnowledge | None = None
    rule_files: tuple[str, ...] = ()
    rule_digests: tuple[tuple[str, str], ...] = ()
    options: SealOptions = field(default_factory=SealOptions)

    @cached_property
    def catalogue(self) -> tuple[Trace, ...]:
        """The built-in traces, and the site's own."""
        return (*load_catalogue(), *self.own_traces)

    @property
    def keeps_something(self) -> bool:
        """Whether something stays on purpose in which removed values may be named."""
        return any((self.only, self.skip, self.retained_accounts)) or self.keeps_root_login

    def treats(self, trace: Trace) -> bool:
        """Whether a trace is to be treated."""
        if trace.id == _SID_TRACE and not self.reissues_sid:
            return False
        names = (trace.id, trace.family)
        chosen = not self.only or any(name in self.only for name in names)
        return chosen and not any(name in self.skip for name in names)

    def treats_id(self, trace_id: str) -> bool:
        """Whether the built-in trace of that id is to be treated."""
        return self.treats(get_trace(trace_id))

    def allows_skip(self, trace: Trace) -> bool:
        """Whether a seal that leaves a trace alone counts as whole all the same."""
        return trace.id in self.allowed_skips or trace.family in self.allowed_skips

    def is_blocker(self, code: str) -> bool:
        """Whether a remark of that code stops a seal."""
        stops = code in BLOCKERS and code not in self.remarks_as_advice
        return stops or code in self.remarks_as_blockers

    def for_machine(self, machine: MachineKnowledge | None) -> Policy:
        """The policy for a machine of which something is known.

        Raises:
            UsageError: an account of its build is to be kept.
        """
        for name in machine.throwaway_accounts if machine else ():
            if name in self.retained_accounts:
                raise UsageError(messages.BUILD_ACCOUNT_NOT_RETAINED.format(name=name))
            if not self.treats_id("people.accounts"):
                raise UsageError(messages.BUILD_ACCOUNT_NEEDS_TREATMENT.format(name=name))
        return replace(self, machine=machine)

    def with_more_skips(self, traces: Iterable[str]) -> Policy:
        """The same, but these traces, as far as they are known, are left alone too."""
        known = {trace.id for trace in self.catalogue}
        left = (*self.skip, *(name for name in traces if name in known))
        return replace(self, skip=tuple(dict.fromkeys(left)))

    def as_sealed(self, accounts: Iterable[str], keeps_root_login: bool) -> Policy:
        """The policy for a disk that was sealed with these accounts kept, and root's login or not.

        Accounts that are kept wherever they are count no more: what the seal kept is known.
        """
        return replace(
            self,
            retained_accounts=tuple(accounts),
            retained_if_present=(),
            keeps_root_login=self.keeps_root_login or keeps_root_login,
        )

    def for_accounts(
        self, names: Iterable[str], fold: Callable[[str], str] = lambda name: name
    ) -> Policy:
        """The policy for a guest with these accounts.

        Args:
            names: as the guest spells them.
            fold: makes names comparable; Windows knows no case.
        """
        spelled = {fold(name): name for name in names}
        asked = [spelled.get(fold(name), name) for name in self.retained_accounts]
        kept = [spelled[fold(name)] for name in self.retained_if_present if fold(name) in spelled]
        gone = (*self.removed_accounts, *self.removed_if_present)
        return replace(
            self,
            retained_accounts=tuple(dict.fromkeys((*asked, *kept))),
            retained_if_present=(),
            removed_accounts=tuple(dict.fromkeys(gone)),
        )


def resolve(
    options: SealOptions | None = None,
    rules: HouseRules = NO_RULES,
    machine: MachineKnowledge | None = None,
    reach: Reach = OWN_FOLDER,
) -> Policy:
    """The policy that options and house rules make together.

    Args:
        options: the user's; none for the defaults.
        rules: the site's, which are added to.
        machine: what is known of the machine.
        reach: what the user says of images; it adds to what the rules say.

    Raises:
        UsageError: a name is no trace, or wishes do not go together.
    """
    asked = options or SealOptions()
    _check(asked, rules)
    clones, windows, answers = rules.clones, rules.windows, rules.readiness
    drops_snapshots = asked.drop_snapshots or bool(clones.drop_snapshots)
    seals_snapshots = asked.seal_snapshots or bool(clones.seal_snapshots)
    if drops_snapshots and seals_snapshots:
        raise UsageError(messages.SNAPSHOTS_DROPPED_AND_SEALED)
    policy = Policy(
        only=asked.only,
        skip=tuple(dict.fromkeys((*asked.skip, *rules.keep.traces))),
        allowed_skips=rules.keep.traces if rules.allow.partial else (),
        retained_accounts=asked.retained_accounts,
        retained_if_present=rules.keep.accounts,
        removed_accounts=asked.removed_accounts,
        removed_if_present=rules.remove.accounts,
        keeps_root_login=asked.keep_root_login or bool(rules.keep.root_login),
        plants_first_boot=asked.plant_first_boot or bool(clones.plant_first_boot),
        plants_fallback_loader=asked.plant_fallback_loader or bool(clones.plant_fallback_loader),
        expects_seed=asked.expect_seed or bool(clones.expect_seed),
        searches_values=asked.search_values,
        accepts_residue=asked.allow_residue,
        allows_static_address=asked.allow_static_address or bool(rules.allow.static_address),
        asks_dhcp=asked.to_dhcp or bool(clones.to_dhcp),
        restarts_history=asked.restart_history or bool(clones.restart_history),
        drops_snapshots=drops_snapshots,
        seals_snapshots=seals_snapshots,
        has_same_size_clones=asked.same_size_clones or bool(clones.same_size),
        renews_volume_ids=asked.new_volume_ids,
        reissues_sid=asked.reissue_sid or bool(windows.reissue_sid),
        disables_administrator=bool(windows.disable_administrator),
        first_starts=windows.first_start,
        recovers_journal=asked.recover_journal,
        residue_places=rules.allow.residue,
        unclaimed_places=rules.allow.unclaimed,
        secret_places=rules.allow.secrets,
        is_strict=asked.strict or bool(answers.strict),
        texts=rules.search.texts,
        canaries=asked.canaries,
        values_left_out=rules.search.leave_out,
        remarks_as_blockers=answers.blockers,
        remarks_as_advice=answers.advice,
        ignored_remarks=answers.ignore,
        requirements=rules.require,
        gate=rules.gate,
        own_traces=rules.traces,
        reach=rules.reach.and_also(reach),
        rule_files=rules.files,
        rule_digests=rules.digests,
        options=asked,
    )
    return policy.for_machine(machine)


def _check(asked: SealOptions, rules: HouseRules) -> None:
    own = {trace.id for trace in rules.traces}
    for name in (*asked.only, *asked.skip):
        if name not in FAMILIES and name not in own:
            get_trace(name)  # raises UsageError for a name that is none
    both = [name for name in asked.only if name in asked.skip]
    if both:
        raise UsageError(messages.GIVEN_WITH_BOTH_ONLY_AND_SKIP.format(both=both[0]))
    for name in asked.removed_accounts:
        if name in asked.retained_accounts:
            raise UsageError(messages.GIVEN_WITH_BOTH_RETAIN_AND_REMOVE.format(name=name))


DEFAULT_POLICY = resolve()
