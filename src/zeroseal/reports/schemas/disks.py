"""What is printed of disk images: surveys, plans, seals, checks, exports, comparisons."""

from __future__ import annotations

from typing import NotRequired, TypedDict


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


class IdentityValue(TypedDict):
    """A value that identifies a machine, as a fingerprint or short hash."""

    kind: str
    value: str


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
    outside: list[IdentityValue]
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


class NewVolumeId(TypedDict):
    """An identity that a partition or a volume got; ``where`` names it."""

    where: str
    what: str
    id: str


class SealOutput(ProofPart):
    """A finished seal."""

    sealed: bool
    output: Image
    inPlace: bool
    record: str | None
    digest: str | None
    zeroedBytes: int
    rewrittenBytes: int
    newVolumeIds: list[NewVolumeId]


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


class GateMiss(TypedDict):
    """A rule of a gate that is not kept."""

    rule: str
    sentence: str


class GatePart(TypedDict):
    """What a site's gate says of an image."""

    passes: bool
    rules: list[str]
    misses: list[GateMiss]


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
    gate: GatePart | None


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
