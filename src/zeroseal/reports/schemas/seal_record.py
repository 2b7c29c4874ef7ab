"""The seal record as a typed table; ``sealing/record_build.py`` writes it."""

from __future__ import annotations

from typing import Any, TypedDict


class RecordTool(TypedDict):
    """The program that wrote a record."""

    name: str
    version: str
    catalogue: str


class LeafHints(TypedDict):
    """The first bytes of the hashes of chunks that follow one another, in base64."""

    firstChunk: int
    hashes: str


class RecordDisk(TypedDict):
    """The sealed disk."""

    sizeBytes: int
    chunkBytes: int
    leafHints: list[LeafHints]


class RecordFile(TypedDict):
    """The container that the disk was written into."""

    format: str
    sizeBytes: int
    blake3: str | None


class RecordSource(TypedDict):
    """The image that was sealed."""

    name: str
    format: str


class RecordLineage(TypedDict):
    """Where the disk comes from."""

    sourceDigest: str | None
    previous: str | None
    previousDigest: str | None
    patches: list[str]


class RecordGuest(TypedDict):
    """The system on the disk."""

    family: str
    name: str
    osId: str
    version: str


class RecordContents(TypedDict):
    """What is installed, by the digest of its list."""

    sha256: str
    components: int
    changedAt: str | None


class RecordTreated(TypedDict):
    """A trace that was treated."""

    trace: str
    treatments: list[str]
    findings: int
    files: int
    bytes: int
    regrowth: str


class RecordKept(TypedDict):
    """What was kept by choice."""

    retainedAccounts: list[str]
    rootLogin: bool


class RuleDigest(TypedDict):
    """A file of house rules that held."""

    name: str
    sha256: str


class RecordResidue(TypedDict):
    """A value that is still there."""

    value: str
    place: str
    count: int


class RecordSecret(TypedDict):
    """Something that looks like a secret."""

    kind: str
    place: str
    count: int


class RecordProof(TypedDict):
    """How the result was proven."""

    consistentVolumes: list[str]
    catalogue: str
    bytes: str
    valuesSearched: int
    valuesNotSearched: list[str]
    residue: list[RecordResidue]
    secretsInFiles: list[RecordSecret]


class RecordUnclaimed(TypedDict):
    """A file that no package owns and that looks like identity."""

    path: str
    reasons: list[str]


class RecordStayingSecret(TypedDict):
    """A file with a secret; the kind is the code of a remark."""

    path: str
    kind: str


class RecordCovered(TypedDict):
    """Files beneath a mount point."""

    mountPoint: str
    files: int
    bytes: int


class RecordStays(TypedDict):
    """What else stays and may be identity or a secret; looked for on a Linux."""

    lookedFor: bool
    ownersKnown: bool
    unclaimed: list[RecordUnclaimed]
    secrets: list[RecordStayingSecret]
    covered: list[RecordCovered]


class RecordPredicate(TypedDict):
    """What was done."""

    tool: RecordTool
    sealedAt: str
    level: str
    complete: bool
    disk: RecordDisk
    file: RecordFile | None
    source: RecordSource
    lineage: RecordLineage
    machine: dict[str, Any] | None
    buildJournal: str | None
    recoveredJournals: bool
    guest: RecordGuest
    contents: RecordContents | None
    treated: list[RecordTreated]
    skipped: list[str]
    kept: RecordKept
    houseRules: list[RuleDigest]
    planted: list[str]
    newVolumeIds: list[str]
    assured: list[str]
    notLookedInto: list[str]
    consequences: list[str]
    stays: RecordStays
    proof: RecordProof


class RecordSubject(TypedDict):
    """The disk that a statement is about."""

    name: str
    digest: dict[str, str]


class SealRecordFile(TypedDict):
    """The statement, as it is before it is signed."""

    _type: str
    subject: list[RecordSubject]
    predicateType: str
    predicate: RecordPredicate
