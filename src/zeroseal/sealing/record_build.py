"""Writing a seal record: what was done to which bytes, as ``record.py`` reads it again."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from zeroseal import __version__
from zeroseal.blocks.digest import CHUNK_BYTES, DiskDigest
from zeroseal.documents import build_json
from zeroseal.guests.components import Contents
from zeroseal.guests.system import SystemFacts
from zeroseal.images.facts import ImageFacts
from zeroseal.sealing.plan import Plan
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.proof import Proof
from zeroseal.sealing.record import (
    DIGEST_NAME,
    HINT_BYTES,
    NO_LINEAGE,
    PREDICATE_TYPE,
    STATEMENT_TYPE,
    Lineage,
    SealedFile,
)
from zeroseal.sealing.what_stays import WhatStays
from zeroseal.traces.finding import by_trace
from zeroseal.traces.load import catalogue_digest

if TYPE_CHECKING:
    from zeroseal.sealing.signing import RecordSigner


@dataclass(frozen=True)
class RecordExtras:
    """What a record says beside what was done: who signs it, where the disk comes from, its file.

    Attributes:
        signer: None for nobody.
    """

    signer: RecordSigner | None = None
    lineage: Lineage = NO_LINEAGE
    file: SealedFile | None = None


def build_record(
    name: str,
    digest: DiskDigest,
    plan: Plan,
    system: SystemFacts,
    source: ImageFacts,
    proof: Proof,
    sealed_at: int,
    extras: RecordExtras,
    new_ids: Sequence[str] = (),
) -> bytes:
    """The record's JSON text, in a signed envelope where somebody signs it.

    ``new_ids`` names the partitions and volumes that got other identities.
    """
    policy = plan.policy
    statement = {
        "_type": STATEMENT_TYPE,
        "subject": [{"name": name, "digest": {DIGEST_NAME: digest.root}}],
        "predicateType": PREDICATE_TYPE,
        "predicate": {
            "tool": {"name": "zeroseal", "version": __version__, "catalogue": catalogue_digest()},
            "sealedAt": _to_text(sealed_at),
            "level": proof.level,
            "complete": plan.is_complete,
            "disk": {
                "sizeBytes": digest.size_bytes,
                "chunkBytes": CHUNK_BYTES,
                "leafHints": _pack_hints(digest),
            },
            "file": _file_table(extras.file),
            "source": {"name": source.path.name, "format": source.format_name},
            "lineage": {
                "sourceDigest": extras.lineage.source_digest or None,
                "previous": extras.lineage.previous or None,
                "previousDigest": extras.lineage.previous_digest or None,
                "patches": list(extras.lineage.patches),
            },
            "machine": policy.machine.hardware if policy.machine else None,
            "buildJournal": (policy.machine.journal if policy.machine else "") or None,
            "recoveredJournals": policy.recovers_journal,
            "guest": {
                "family": system.family,
                "name": system.name,
                "osId": system.os_id,
                "version": system.version,
            },
            "contents": _contents_table(proof.contents),
            "treated": [
                {
                    "trace": group.trace.id,
                    "treatments": sorted({item.treatment.value for item in group.findings}),
                    "findings": len(group.findings),
                    "files": sum(item.files for item in group.findings),
                    "bytes": group.size_bytes,
                    "regrowth": group.trace.regrowth.by,
                }
                for group in by_trace(plan.treated)
            ],
            "skipped": [group.trace.id for group in by_trace(plan.skipped)],
            "kept": {
                "retainedAccounts": list(policy.retained_accounts),
                "rootLogin": policy.keeps_root_login,
            },
            "houseRules": [
                {"name": name, "sha256": digest} for name, digest in policy.rule_digests
            ],
            "planted": _planted(policy),
            "newVolumeIds": list(new_ids),
            "assured": list(plan.guard.assured),
            "notLookedInto": list(plan.readiness.advice),
            "consequences": list(plan.readiness.consequences),
            "stays": _stays_table(plan.readiness.stays),
            "proof": {
                "consistentVolumes": list(proof.volumes),
                "catalogue": "no treated trace was found again",
                "bytes": _bytes_sentence(proof),
                "valuesSearched": proof.values_searched,
                "valuesNotSearched": list(proof.not_searched),
                "residue": [
                    {"value": item.label, "place": item.place, "count": item.count}
                    for item in proof.residue
                ],
                "secretsInFiles": [
                    {"kind": item.label, "place": item.place, "count": item.count}
                    for item in proof.secrets
                ],
            },
        },
    }
    text = build_json(statement, indent=2)
    return extras.signer.envelope(text) if extras.signer else text


def _planted(policy: Policy) -> list[str]:
    kinds = {
        "first-boot": policy.plants_first_boot,
        "fallback-loader": policy.plants_fallback_loader,
    }
    return [name for name, is_planted in kinds.items() if is_planted]


def _contents_table(contents: Contents | None) -> dict[str, object] | None:
    if contents is None:
        return None
    return {
        "sha256": contents.digest,
        "components": len(contents.components),
        "changedAt": _to_text(contents.changed_at) if contents.changed_at else None,
    }


def _stays_table(stays: WhatStays) -> dict[str, object]:
    """Paths and kinds of what else stays and may be identity or a secret; no contents."""
    return {
        "lookedFor": stays.is_known,
        "ownersKnown": stays.knows_owners,
        "unclaimed": [{"path": one.path, "reasons": list(one.reasons)} for one in stays.unclaimed],
        "secrets": [{"path": one.path, "kind": one.kind} for one in stays.secrets],
        "covered": [
            {"mountPoint": one.mount_point, "files": one.count, "bytes": one.size_bytes}
            for one in stays.covered
        ],
    }


def _file_table(file: SealedFile | None) -> dict[str, object] | None:
    if file is None:
        return None
    return {
        "format": file.format_name,
        "sizeBytes": file.size_bytes,
        "blake3": file.blake3 or None,
    }


def _bytes_sentence(proof: Proof) -> str:
    if proof.level != "deep":
        return "not searched"
    return "some removed values are still there" if proof.residue else "no removed value was found"


def _pack_hints(digest: DiskDigest) -> list[dict[str, object]]:
    """Runs of neighbouring chunks: the first one's number, and their hashes' first bytes."""
    runs: list[tuple[int, bytearray]] = []
    following = -1
    for number in sorted(digest.leaves):
        if number != following:
            runs.append((number, bytearray()))
        runs[-1][1].extend(digest.leaves[number][:HINT_BYTES])
        following = number + 1
    return [
        {"firstChunk": first, "hashes": base64.b64encode(hashes).decode()} for first, hashes in runs
    ]


def _to_text(moment: int) -> str:
    return datetime.fromtimestamp(moment, UTC).isoformat().replace("+00:00", "Z")
