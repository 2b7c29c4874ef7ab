"""Every output of ``--json`` as a typed table; a dataclass in one has its fields in camelCase."""

from __future__ import annotations

from typing import Any, Literal, NotRequired, TypedDict

from zeroseal.machines.definition import MachineDefinition
from zeroseal.machines.snapshots import MachineSnapshot
from zeroseal.machines.tasks import TaskReport
from zeroseal.sealing.record import Lineage, TreatedTrace
from zeroseal.templates.clone_check import CloneAnswer
from zeroseal.templates.shelf.difference import Change
from zeroseal.templates.shelf.entry import ShelfEntry


class Image(TypedDict):
    """A container and its disk."""

    path: str
    format: str
    variant: str
    diskBytes: int
    fileBytes: int
    allocatedBytes: int
    extents: list[str]
    backing: list[str]
    snapshots: list[str]
    remarks: list[str]


class Volume(TypedDict):
    """A volume of a disk; offset and size are bytes."""

    name: str
    offset: int
    size: int
    type: str
    content: str
    label: str
    uuid: str
    partUuid: str


class Place(TypedDict):
    """Where a trace was found; ``evidence`` is a fingerprint or a short hash, never a secret."""

    place: str
    treatment: str
    files: int
    bytes: int
    evidence: str


class Finding(TypedDict):
    """What was found of one trace."""

    trace: str
    title: str
    bytes: int
    places: list[Place]


class Guard(TypedDict):
    """What clones would get, and what they would lack."""

    assured: list[str]
    lockOuts: list[str]
    hints: list[str]


class Unclaimed(TypedDict):
    """A file that no package owns, that stays, and that looks like identity."""

    path: str
    sizeBytes: int
    reasons: list[str]
    score: int
    rule: str


class StayingSecret(TypedDict):
    """A file with a secret that stays; the kind is the code of a remark."""

    path: str
    kind: str
    reason: str
    rule: str


class CoveredFiles(TypedDict):
    """Files beneath a mount point; the paths of the first."""

    mountPoint: str
    volume: str
    paths: list[str]
    count: int
    sizeBytes: int
    suspects: list[str]


class WhatStays(TypedDict):
    """What else stays and may be identity or a secret; looked for on a Linux."""

    lookedFor: bool
    ownersKnown: bool
    unclaimed: list[Unclaimed]
    secrets: list[StayingSecret]
    covered: list[CoveredFiles]


class Readiness(TypedDict):
    """What stands against a seal, and what it leaves; sentences."""

    blockers: list[str]
    advice: list[str]
    consequences: list[str]
    hints: list[str]
    stays: WhatStays


class MachineReadiness(TypedDict):
    """Whether a machine is fit to be sealed; sentences."""

    ready: bool
    blockers: list[str]
    advice: list[str]


class Residue(TypedDict):
    """A value that is still there: what it is, never what it says; offset in bytes."""

    value: str
    place: str
    offset: int
    count: int


class System(TypedDict):
    """The system of the guest."""

    family: str
    name: str
    id: str
    version: str
    hostName: str


class Mount(TypedDict):
    """A volume and where the guest mounts it."""

    path: str
    volume: str


class WindowsAccount(TypedDict):
    """A local account of a Windows guest."""

    name: str
    rid: int
    disabled: bool
    password: bool
    administrator: bool


class WindowsProfile(TypedDict):
    """A profile of a Windows guest."""

    sid: str
    folder: str


class Windows(TypedDict):
    """The identity of a Windows guest."""

    sid: str
    machineGuid: str
    updateId: str
    accounts: list[WindowsAccount]
    profiles: list[WindowsProfile]
    firstStart: str
    imageState: str
    domain: str
    pending: list[str]


class NtfsVolume(TypedDict):
    """An NTFS volume and its state."""

    volume: str
    label: str
    version: str
    flags: list[str]
    log: str
    asleep: bool
    sizeBytes: int
    freeBytes: int
    clusterBytes: int
    problem: str


class Output(TypedDict):
    """What every output begins with."""

    schema: str
    version: int


class SurveyOutput(Output):
    """What is on a disk."""

    ready: bool
    image: Image
    system: System
    table: str
    sectorBytes: int
    storedByPart: list[int]
    volumes: list[Volume]
    mounts: list[Mount]
    findings: list[Finding]
    guard: Guard
    readiness: Readiness
    windows: NotRequired[Windows | None]
    ntfs: NotRequired[list[NtfsVolume]]


class PlanPart(Output):
    """What a seal would do, or did."""

    source: Image
    complete: bool
    treated: list[Finding]
    skipped: list[Finding]
    guard: Guard
    readiness: Readiness
    plantFirstBoot: bool
    plantedFiles: list[str]
    retainedAccounts: list[str]


class ProofPart(PlanPart):
    """How a result was proven."""

    consistentVolumes: list[str]
    level: str
    valuesSearched: int
    valuesNotSearched: list[str]
    residue: list[Residue]
    secretsInFiles: list[Residue]


class RehearsalOutput(ProofPart):
    """What would stop a seal."""

    wouldSeal: bool
    leftOver: list[Residue]


class SealOutput(ProofPart):
    """A finished seal."""

    sealed: bool
    output: Image
    inPlace: bool
    record: str | None
    digest: str | None
    zeroedBytes: int
    rewrittenBytes: int


class ErrorOutput(Output):
    """A refusal or failure."""

    code: str
    message: str
    exitStatus: int
    facts: dict[str, str | int | None]
    places: list[str]


class Accepted(TypedDict):
    """A value that the seal accepted, and where it is."""

    value: str
    place: str


class Changed(TypedDict):
    """What differs from the seal record; offsets in bytes."""

    offsets: list[int]
    chunkBytes: int
    volumes: list[str]
    files: list[str]
    looksLike: str
    places: dict[str, list[str]]


class Chunks(TypedDict):
    """How much a quick check read."""

    read: int
    stored: int


class Backing(TypedDict):
    """The disk that this one depends on."""

    path: str
    verdict: str
    reason: str


class CheckOutput(Output):
    """A verdict."""

    image: str
    verdict: str
    level: str
    reason: str
    recordFound: bool
    sealedAt: int | None
    signed: bool
    signer: str | None
    skipped: list[str]
    findings: list[Finding]
    valuesSearched: int
    valuesNotSearched: list[str]
    residue: list[Residue]
    accepted: list[Accepted]
    secretsInFiles: list[Residue]
    stays: WhatStays
    changed: Changed
    chunks: Chunks | None
    otherContainer: str
    fileAnswer: str | None
    backing: Backing | None
    error: ErrorOutput | None


class ExportOutput(Output):
    """A disk in another container."""

    source: Image
    output: Image
    digest: str
    verified: bool
    record: str | None
    tableMoved: bool


class RuleInForce(TypedDict):
    """A house rule and what it says."""

    rule: str
    says: str


class RulesOutput(Output):
    """The house rules in force."""

    rules: list[RuleInForce]


class Regrowth(TypedDict):
    """What makes a trace again on a clone."""

    by: str
    services: list[str]
    servicesWithSeed: list[str]
    commands: list[str]
    programs: list[str]
    required: bool
    needsPass: bool


class TraceInCatalogue(TypedDict):
    """A trace of the catalogue."""

    id: str
    family: str
    title: str
    why: str
    guest: str
    treatments: list[str]
    regrowth: Regrowth
    risk: str
    source: str
    places: NotRequired[int]


class TracesOutput(Output):
    """The catalogue, or a part of it."""

    traces: list[TraceInCatalogue]


class DiskInReport(TypedDict):
    """A disk of a report in numbers."""

    image: str
    verdict: str
    diskBytes: int
    storedBytes: int
    leftBytes: int
    findings: int


class ReportOutput(Output):
    """A report and the files it was written to."""

    files: list[str]
    disks: list[DiskInReport]


class Shared(TypedDict):
    """A value that several images have."""

    kind: str
    value: str
    severity: str
    byDesign: bool
    images: list[str]


class SharedFile(TypedDict):
    """A file with the same content on several images, which no package owns."""

    path: str
    what: str
    images: list[str]


class ComparisonOutput(Output):
    """Which identity values images share."""

    unique: bool
    worst: str
    images: list[str]
    shared: list[Shared]
    files: list[SharedFile]
    sameFiles: list[SharedFile]


class Machine(TypedDict):
    """A machine of a yard."""

    host: str
    definition: MachineDefinition
    disk: str
    running: bool
    boots: int
    address: str
    sshPort: int
    unfinished: str


class MachineOutput(Output, Machine):
    """One machine."""


class MachinesOutput(Output):
    """The machines of a yard."""

    machines: list[Machine]


class RunOutput(Output, Machine):
    """A machine that was started or stopped."""

    messages: list[str]
    simulated: bool


class Built(Machine):
    """A machine that was built."""

    new: bool
    simulated: bool
    seconds: int
    tasks: list[TaskReport]
    messages: list[str]
    readiness: MachineReadiness


class BuildsOutput(Output):
    """Machines that were built."""

    builds: list[Built]


class SnapshotsOutput(Output, Machine):
    """A machine and its snapshots."""

    snapshots: list[MachineSnapshot]
    addresses: NotRequired[list[str]]
    readiness: NotRequired[MachineReadiness]


class Removed(TypedDict):
    """A machine that was removed, and its disk where that stays."""

    name: str
    disk: str | None


class RemovalOutput(Output):
    """Machines that were removed."""

    removed: list[Removed]


class DefinitionOutput(Output):
    """A machine described for another host."""

    form: str
    text: str


class Template(TypedDict):
    """A template of the shelf."""

    entry: ShelfEntry
    state: str
    disk: str


class RenewalOutput(Output):
    """A machine that was patched, and its new template."""

    machine: Machine
    simulated: bool
    tasks: list[TaskReport]
    copyTasks: list[TaskReport]
    changes: list[str]
    snapshot: str
    dropped: list[str]
    messages: list[str]
    template: Template


class Regrown(TypedDict):
    """What became of one kind of identity."""

    kind: str
    good: bool
    text: str


class IdentityValue(TypedDict):
    """A value that identifies a machine, as a fingerprint or short hash."""

    kind: str
    value: str


class TriedMachine(TypedDict):
    """One machine of a trial."""

    name: str
    values: list[IdentityValue]
    failed: list[str]
    refused: list[str]
    messages: list[str]


class KeptFile(TypedDict):
    """A secret, or a file that looks like identity, that two machines have from their image."""

    path: str
    what: str


class TrialOutput(Output):
    """What two throwaway machines became."""

    good: bool
    simulated: bool
    image: str
    seconds: int
    regrowth: list[Regrown]
    kept: list[KeptFile]
    machines: list[TriedMachine]


class LearnedFile(TypedDict):
    """A file of two machines: different on each (own), or the same on both (shared)."""

    path: str
    sizeBytes: int
    renewal: Literal["own", "shared", "time"]
    reasons: list[str]
    trace: str | None
    new: bool
    owner: str


class LearnedOutput(Output):
    """What two machines of an image taught."""

    good: bool
    simulated: bool
    image: str
    imageSealed: bool
    seconds: int
    sharedValues: list[str]
    compared: int
    timely: int
    files: list[LearnedFile]
    messages: list[str]


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


class ShelfChangeOutput(Output):
    """Something that was done to templates or clones."""

    done: str
    names: list[str]


class AnswerOutput(Output):
    """The answer on one image of many."""

    image: str
    status: int | None
    word: str
    sentence: str
    answer: dict[str, Any]


class ManyOutput(Output):
    """The answers on many images."""

    command: str
    images: list[AnswerOutput]


class SettingInForce(TypedDict):
    """A setting and where it comes from."""

    name: str
    value: str | list[str]
    origin: str


class ConfigOutput(Output):
    """The settings in force."""

    settings: list[SettingInForce]


class TextOutput(Output):
    """An example of a file."""

    text: str


class CompletionOutput(Output):
    """The completion script of a shell."""

    shell: str
    script: str


class SchemasOutput(Output):
    """The schemas that there are."""

    schemas: list[str]


class Desk(TypedDict):
    """The part of the demo with a Windows guest."""

    refusal: str
    seal: SealOutput
    check: CheckOutput
    clones: ClonesOutput
    runs: list[RunOutput]
    comparison: ComparisonOutput


class DemoOutput(Output):
    """Every step of the demo."""

    build: MachineOutput
    survey: SurveyOutput
    checks: list[CheckOutput]
    seal: SealOutput
    shelf: ShelfOutput
    clones: ClonesOutput
    asAsked: dict[str, bool]
    runs: list[RunOutput]
    desk: Desk
    comparison: ComparisonOutput


OUTPUTS: dict[str, Any] = {
    "answer": AnswerOutput,
    "builds": BuildsOutput,
    "check": CheckOutput,
    "clone-check": CloneCheckOutput,
    "clones": ClonesOutput,
    "comparison": ComparisonOutput,
    "completion": CompletionOutput,
    "config": ConfigOutput,
    "config-example": TextOutput,
    "definition": DefinitionOutput,
    "demo": DemoOutput,
    "error": ErrorOutput,
    "export": ExportOutput,
    "learned": LearnedOutput,
    "machine": MachineOutput,
    "machines": MachinesOutput,
    "many": ManyOutput,
    "plan": PlanPart,
    "rehearsal": RehearsalOutput,
    "removal": RemovalOutput,
    "renewal": RenewalOutput,
    "report": ReportOutput,
    "rules": RulesOutput,
    "run": RunOutput,
    "schemas": SchemasOutput,
    "seal": SealOutput,
    "shelf": ShelfOutput,
    "shelf-change": ShelfChangeOutput,
    "shelf-difference": DifferenceOutput,
    "shelf-verification": VerificationOutput,
    "snapshots": SnapshotsOutput,
    "survey": SurveyOutput,
    "template": TemplateOutput,
    "traces": TracesOutput,
    "trial": TrialOutput,
}
