"""The seal record: the statement of what was done to which bytes, kept beside the image.

An in-toto Statement (version 1) in JSON with a predicate type of our own. The subject is the disk,
by the digest of its contents (``digest.py``); the predicate says what was removed, what was kept,
what regrows, and how that was verified. ``docs/seal-record.md`` describes every field.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any

import msgspec

from zeroseal.blocks.digest import CHUNK_BYTES, DiskDigest
from zeroseal.documents import WrongValueError, convert
from zeroseal.errors import DamagedError
from zeroseal.messages import sealing as messages
from zeroseal.sealing.envelope import Envelope, parse_envelope

STATEMENT_TYPE = "https://in-toto.io/Statement/v1"
PREDICATE_TYPE = "urn:zeroseal:predicate:seal:v1"
DIGEST_NAME = "zerosealDiskTree1"
HINT_BYTES = 8
_FEW_CHUNKS = 4  # of a small disk a start may change everything
_BELONGING = 5  # at least one chunk in five of a disk stays as it was
_MAX_RECORD_BYTES = 256 << 20


@dataclass(frozen=True)
class Lineage:
    """Where a sealed disk comes from.

    Attributes:
        source_digest: of the unsealed disk's contents.
        previous: the template that it takes the place of, ``NAME@VERSION``, with its digest.
        patches: what changed since then, texts.
    """

    source_digest: str = ""
    previous: str = ""
    previous_digest: str = ""
    patches: tuple[str, ...] = ()


NO_LINEAGE = Lineage()


@dataclass(frozen=True)
class SealedFile:
    """The container that a sealed disk was written into.

    Attributes:
        blake3: the hash of the file, in hexadecimal; empty for a raw file, which is its disk.
        sha256: in its place in records of older versions.
    """

    format_name: str
    size_bytes: int
    blake3: str = ""
    sha256: str = ""


@dataclass(frozen=True)
class RecordedContents:
    """What a record says of what is installed.

    Attributes:
        digest: of the list, SHA-256 of its canonical text.
        count: how many components it has.
        changed_at: when one of them was last installed, updated or removed; 0 for unknown.
    """

    digest: str
    count: int
    changed_at: int


@dataclass(frozen=True)
class RecordedStays:
    """What a record says of what else stays: paths, and the kinds of secrets.

    Attributes:
        is_known: whether it was looked for.
    """

    is_known: bool
    unclaimed: tuple[str, ...] = ()
    secrets: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class TreatedTrace:
    """What a record says of one trace."""

    trace: str
    findings: int
    regrowth: str


@dataclass(frozen=True)
class SealRecord:
    """A record that was read.

    Attributes:
        root: the digest of the sealed disk.
        sealed_at: seconds since 1970.
        is_complete: whether nothing that makes the machine itself was left.
        skipped: ids of traces that were found and left.
        retained_accounts, keep_root_login: as chosen for the seal.
        leaf_hints: chunk number to the first bytes of its hash, to locate a change.
        envelope: the signed form that it came in; None for a record that is not signed.
        hardware: of the machine that it was sealed from; None where that was not known.
        file: the container that it was written into; None where the record does not say.
        accepted: (value, place) of what was found after the seal and accepted.
        contents: None in records of older versions; ``stays`` too.
    """

    root: str
    size_bytes: int
    sealed_at: int
    tool_version: str
    system_name: str
    is_complete: bool
    skipped: tuple[str, ...]
    retained_accounts: tuple[str, ...]
    keep_root_login: bool
    leaf_hints: dict[int, bytes]
    envelope: Envelope | None = None
    treated: tuple[TreatedTrace, ...] = ()
    planted: tuple[str, ...] = ()
    level: str = ""
    hardware: dict[str, Any] | None = None
    lineage: Lineage = NO_LINEAGE
    file: SealedFile | None = None
    accepted: tuple[tuple[str, str], ...] = ()
    contents: RecordedContents | None = None
    stays: RecordedStays | None = None

    def is_of_another_disk(self, looked_at: int, changed: Iterable[int]) -> bool:
        """Whether next to nothing that it describes is on a disk: it lies beside the wrong one.

        Args:
            looked_at: how many of its chunks were compared.
            changed: numbers of chunks that differ.
        """
        missing = len(self.leaf_hints.keys() & set(changed))
        return looked_at >= _FEW_CHUNKS and (looked_at - missing) * _BELONGING < looked_at

    def changed_chunks(self, digest: DiskDigest) -> list[int]:
        """Numbers of chunks that differ from the sealed disk."""
        numbers = self.leaf_hints.keys() | digest.leaves.keys()
        return sorted(
            number
            for number in numbers
            if self.leaf_hints.get(number) != digest.leaves.get(number, b"")[:HINT_BYTES]
        )


def record_path(image: Path) -> Path:
    """Where the record of an image lies: ``NAME.seal.json`` beside it; of a device in this folder.

    Devices lie where nothing else is kept.
    """
    if image.is_block_device():
        return Path(image.name + ".seal.json")
    return image.with_name(image.name + ".seal.json")


class _Part(msgspec.Struct, rename="camel"):
    """A part of a record; keys of newer versions are let pass."""


class _Digested(_Part, rename="camel"):
    digest: dict[str, str]


class _Tool(_Part, rename="camel"):
    version: str


class _Hints(_Part, rename="camel"):
    first_chunk: int
    hashes: bytes  # base64 in the text


class _Disk(_Part, rename="camel"):
    size_bytes: int
    chunk_bytes: int
    leaf_hints: tuple[_Hints, ...]


class _Guest(_Part, rename="camel"):
    name: str


class _Kept(_Part, rename="camel"):
    retained_accounts: tuple[str, ...]
    root_login: bool


class _Treated(_Part, rename="camel"):
    trace: str
    findings: int
    regrowth: str


class _Place(_Part, rename="camel"):
    value: str
    place: str


class _Proof(_Part, rename="camel"):
    residue: tuple[_Place, ...]


class _File(_Part, rename="camel"):
    format: str
    size_bytes: int
    blake3: str | None = None
    sha256: str | None = None


class _Contents(_Part, rename="camel"):
    sha256: str
    components: int
    changed_at: str | None = None


class _Unclaimed(_Part, rename="camel"):
    path: str


class _StayingSecret(_Part, rename="camel"):
    path: str
    kind: str


class _Stays(_Part, rename="camel"):
    looked_for: bool
    unclaimed: tuple[_Unclaimed, ...] = ()
    secrets: tuple[_StayingSecret, ...] = ()


class _LineageTable(_Part, rename="camel"):
    source_digest: str | None = None
    previous: str | None = None
    previous_digest: str | None = None
    patches: tuple[str, ...] | None = None


class _Predicate(_Part, rename="camel", kw_only=True):
    tool: _Tool
    sealed_at: str
    level: str
    complete: bool
    disk: _Disk
    file: _File | None = None
    lineage: _LineageTable | None = None
    machine: dict[str, Any] | None = None
    guest: _Guest
    treated: tuple[_Treated, ...]
    skipped: tuple[str, ...]
    kept: _Kept
    planted: tuple[str, ...]
    proof: _Proof
    contents: _Contents | None = None
    stays: _Stays | None = None


class _Statement(_Part, kw_only=True):
    kind: str = msgspec.field(name="_type")
    subject: Annotated[tuple[_Digested, ...], msgspec.Meta(min_length=1)]
    predicate_type: str = msgspec.field(name="predicateType")
    predicate: _Predicate


def find_record(image: Path) -> SealRecord | None:
    """Reads the record beside an image; None where there is none.

    Raises:
        DamagedError: there is one that cannot be understood.
    """
    path = record_path(image)
    if not path.is_file():
        return None
    try:
        if path.stat().st_size > _MAX_RECORD_BYTES:
            raise ValueError(messages.TOO_LARGE)
        return parse_record(path.read_bytes())
    except (
        ValueError, LookupError, TypeError, AttributeError, OSError, ArithmeticError, RecursionError
    ) as error:  # fmt: skip
        where = f"{error.key}: " if isinstance(error, WrongValueError) and error.path else ""
        raise DamagedError(
            messages.NOT_READABLE_SEAL_RECORD.format(path=path, where=where, error=error)
        ) from error


def parse_record(raw: bytes) -> SealRecord:
    """Parses a record's JSON text.

    Raises:
        ValueError, KeyError, TypeError, AttributeError: it is none; a WrongValueError says where.
    """
    document: dict[str, Any] = json.loads(raw)
    envelope = parse_envelope(document)
    if envelope:
        document = json.loads(envelope.statement)
    if document["_type"] != STATEMENT_TYPE or document["predicateType"] != PREDICATE_TYPE:
        raise ValueError(messages.STATEMENT_OF_ANOTHER_TYPE)
    statement = convert(document, _Statement)
    predicate = statement.predicate
    if predicate.disk.chunk_bytes != CHUNK_BYTES:
        raise ValueError(
            messages.CHUNK_SIZE_NOT_SUPPORTED.format(chunk_bytes=predicate.disk.chunk_bytes)
        )
    return SealRecord(
        root=statement.subject[0].digest[DIGEST_NAME],
        size_bytes=predicate.disk.size_bytes,
        sealed_at=_to_seconds(predicate.sealed_at),
        tool_version=predicate.tool.version,
        system_name=predicate.guest.name,
        is_complete=predicate.complete,
        skipped=predicate.skipped,
        retained_accounts=predicate.kept.retained_accounts,
        keep_root_login=predicate.kept.root_login,
        leaf_hints=_unpack_hints(predicate.disk.leaf_hints),
        envelope=envelope,
        treated=tuple(
            TreatedTrace(item.trace, item.findings, item.regrowth) for item in predicate.treated
        ),
        planted=predicate.planted,
        level=predicate.level,
        hardware=predicate.machine,
        lineage=_lineage(predicate.lineage),
        file=_file(predicate.file),
        accepted=tuple((item.value, item.place) for item in predicate.proof.residue),
        contents=_contents(predicate.contents),
        stays=_stays(predicate.stays),
    )


def _lineage(table: _LineageTable | None) -> Lineage:
    if table is None:
        return NO_LINEAGE
    return Lineage(
        source_digest=table.source_digest or "",
        previous=table.previous or "",
        previous_digest=table.previous_digest or "",
        patches=table.patches or (),
    )


def _contents(table: _Contents | None) -> RecordedContents | None:
    if table is None:
        return None
    return RecordedContents(
        table.sha256,
        table.components,
        _to_seconds(table.changed_at) if table.changed_at else 0,
    )


def _stays(table: _Stays | None) -> RecordedStays | None:
    if table is None:
        return None
    return RecordedStays(
        table.looked_for,
        tuple(one.path for one in table.unclaimed),
        tuple((one.path, one.kind) for one in table.secrets),
    )


def _file(table: _File | None) -> SealedFile | None:
    if table is None:
        return None
    return SealedFile(table.format, table.size_bytes, table.blake3 or "", table.sha256 or "")


def _unpack_hints(runs: tuple[_Hints, ...]) -> dict[int, bytes]:
    hints = {}
    for run in runs:
        for index in range(len(run.hashes) // HINT_BYTES):
            start = index * HINT_BYTES
            hints[run.first_chunk + index] = run.hashes[start : start + HINT_BYTES]
    return hints


def _to_seconds(text: str) -> int:
    return int(datetime.fromisoformat(text).timestamp())
