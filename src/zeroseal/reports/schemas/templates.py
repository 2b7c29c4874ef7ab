"""What is printed of templates and clones."""

from __future__ import annotations

from typing import TypedDict

from zeroseal.machines.definition import MachineDefinition
from zeroseal.reports.schemas.disks import CheckOutput, Output
from zeroseal.reports.schemas.machines import Template
from zeroseal.sealing.record import Lineage, TreatedTrace
from zeroseal.templates.clone_check import CloneAnswer
from zeroseal.templates.shelf.difference import Change


class Clone(TypedDict):
    """A machine that was cloned."""

    name: str
    hostName: str
    folder: str
    disk: str
    diskBytes: int
    linked: bool
    intoDisk: bool
    addresses: list[str]
    definition: MachineDefinition
    messages: list[str]


class ClonesOutput(Output):
    """Clones that were made."""

    clones: list[Clone]


class CloneCheckOutput(Output):
    """A clone against its sheet."""

    clone: str
    asAsked: bool
    seedAttached: bool
    answers: list[CloneAnswer]


class CloneOfTemplate(TypedDict):
    """A clone that the shelf knows, and whether it depends on its template."""

    uuid: str
    name: str
    disk: str
    linked: bool
    macs: list[str]
    batch: str
    madeAt: int
    hold: str


class RecordInShort(TypedDict):
    """What a seal record says."""

    sealedAt: int
    level: str
    treated: list[TreatedTrace]
    skipped: list[str]
    planted: list[str]
    retainedAccounts: list[str]
    lineage: Lineage
    signers: list[str]


class TemplateOutput(Output, Template):
    """One template."""

    clones: list[CloneOfTemplate]
    record: RecordInShort | None


class ShelfOutput(Output):
    """The templates of a shelf."""

    templates: list[Template]
    problems: list[str]


class VerifiedTemplate(TypedDict):
    """A template that was verified."""

    template: str
    problem: str
    check: CheckOutput


class VerificationOutput(Output):
    """Whether everything on a shelf is as it was sealed."""

    good: bool
    templates: list[VerifiedTemplate]
    problems: list[str]


class DifferenceOutput(Output):
    """What differs between two templates."""

    before: str
    after: str
    system: list[Change]
    packages: list[Change]
    accounts: list[Change]
    settings: list[Change]
    files: list[Change]


class SyncedTemplate(TypedDict):
    """What became of a template there: ``copy``, ``change``, ``same`` or ``conflict``."""

    template: str
    move: str
    reason: str


class SyncOutput(Output):
    """One shelf brought to another."""

    dryRun: bool
    templates: list[SyncedTemplate]
    problems: list[str]


class ShelfChangeOutput(Output):
    """Something that was done to templates or clones."""

    done: str
    names: list[str]
