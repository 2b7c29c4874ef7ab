"""Results as JSON-ready values, each with ``schema`` and ``version``; see ``docs/json.md``."""

from __future__ import annotations

from dataclasses import fields, is_dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zeroseal.blocks.digest import CHUNK_BYTES
from zeroseal.errors import ResidueError, ZeroSealError
from zeroseal.sealing.house_rules import HouseRules, iter_rules
from zeroseal.traces.finding import by_trace

if TYPE_CHECKING:
    from zeroseal.images.facts import ImageFacts
    from zeroseal.sealing.check import CheckResult
    from zeroseal.sealing.export import ExportResult
    from zeroseal.sealing.job import PlannedSeal, SealResult
    from zeroseal.sealing.judge import Guard
    from zeroseal.sealing.plan import Plan
    from zeroseal.sealing.readiness import Readiness
    from zeroseal.sealing.residue import Residue
    from zeroseal.sealing.survey import Survey
    from zeroseal.sealing.targets.rehearsal import Rehearsed
    from zeroseal.sealing.what_stays import WhatStays
    from zeroseal.traces.finding import Finding
    from zeroseal.traces.model import Trace
    from zeroseal.volumes.volume import Volume

Json = dict[str, object]
SCHEMA_VERSION = 2


def survey_to_json(survey: Survey) -> Json:
    """A survey."""
    return head("survey") | {
        "ready": survey.is_ready,
        "image": image_to_json(survey.image),
        "system": {
            "family": survey.system.family,
            "name": survey.system.name,
            "id": survey.system.os_id,
            "version": survey.system.version,
            "hostName": survey.system.host_name,
        },
        "table": survey.disk.table,
        "sectorBytes": survey.disk.sector_bytes,
        "storedByPart": list(survey.stored),
        "volumes": [volume_to_json(volume) for volume in survey.disk.volumes],
        "mounts": [{"path": path, "volume": name} for path, name in survey.mounts],
        "outside": [
            {"kind": value.kind, "value": value.shown}
            for value in (survey.policy.machine.outside if survey.policy.machine else ())
        ],
        "findings": _findings(survey.findings),
        "guard": _guard(survey.guard),
        "readiness": _readiness(survey.readiness),
    }


def plan_to_json(planned: PlannedSeal) -> Json:
    """A plan, as ``seal --dry-run`` prints it."""
    return head("plan") | {"source": image_to_json(planned.source)} | _plan(planned.plan)


def rehearsal_to_json(rehearsal: Rehearsed) -> Json:
    """A rehearsal: the plan, and what would stop the seal."""
    proof = rehearsal.proof
    return (
        head("rehearsal")
        | {
            "wouldSeal": rehearsal.would_seal,
            "leftOver": _residue(rehearsal.left_over),
            "source": image_to_json(rehearsal.planned.source),
            "consistentVolumes": list(proof.volumes),
            "level": proof.level,
            "valuesSearched": proof.values_searched,
            "valuesNotSearched": list(proof.not_searched),
            "residue": _residue(proof.residue),
            "secretsInFiles": _residue(proof.secrets),
        }
        | _plan(rehearsal.planned.plan)
    )


def seal_to_json(result: SealResult) -> Json:
    """A finished seal."""
    return (
        head("seal")
        | {
            "sealed": result.planned.plan.is_complete,
            "output": image_to_json(result.output),
            "inPlace": result.output.path == result.planned.source.path,
            "record": str(result.record) if result.record else None,
            "digest": result.digest.root if result.digest else None,
            "source": image_to_json(result.planned.source),
            "consistentVolumes": list(result.proof.volumes),
            "level": result.proof.level,
            "valuesSearched": result.proof.values_searched,
            "valuesNotSearched": list(result.proof.not_searched),
            "residue": _residue(result.proof.residue),
            "secretsInFiles": _residue(result.proof.secrets),
            "zeroedBytes": result.zeroed_bytes,
            "rewrittenBytes": result.rewritten_bytes,
            "newVolumeIds": [
                {"where": one.old.where, "what": one.old.title, "id": one.new}
                for one in result.planned.new_ids
            ],
        }
        | _plan(result.planned.plan)
    )


def check_to_json(result: CheckResult) -> Json:
    """A verdict."""
    return head("check") | {
        "image": str(result.path),
        "verdict": result.verdict.value,
        "level": result.level.value,
        "reason": result.reason,
        "recordFound": result.record is not None,
        "sealedAt": result.record.sealed_at if result.record else None,
        "signed": bool(result.record and result.record.envelope),
        "signer": result.signer or None,
        "skipped": list(result.skipped),
        "findings": _findings(result.findings),
        "valuesSearched": result.values_searched,
        "valuesNotSearched": list(result.not_searched),
        "residue": _residue(result.residue),
        "accepted": [{"value": value, "place": place} for value, place in result.accepted],
        "secretsInFiles": _residue(result.secrets),
        "stays": stays_to_json(result.stays),
        "changed": {
            "offsets": [number * CHUNK_BYTES for number in result.changed_chunks],
            "chunkBytes": CHUNK_BYTES,
            "volumes": list(result.broken.volumes) if result.broken else [],
            "files": list(result.broken.files) if result.broken else [],
            "looksLike": result.broken.looks_like if result.broken else "",
            "places": {
                str(chunk.number * CHUNK_BYTES): list(chunk.places)
                for chunk in (result.broken.located if result.broken else ())
            },
        },
        "chunks": (
            {"read": result.chunks[0], "stored": result.chunks[1]} if result.chunks else None
        ),
        "otherContainer": result.other_container,
        "fileAnswer": result.file_answer.value if result.file_answer else None,
        "backing": (
            {
                "path": str(result.backing.path),
                "verdict": result.backing.verdict.value,
                "reason": result.backing.reason,
            }
            if result.backing
            else None
        ),
        "error": error_to_json(result.error) if result.error else None,
        "gate": (
            {
                "passes": result.gate.passes,
                "rules": list(result.gate.rules),
                "misses": [table_of(miss) for miss in result.gate.misses],
            }
            if result.gate
            else None
        ),
    }


def rules_to_json(rules: HouseRules) -> Json:
    """The house rules in force."""
    return head("rules") | {
        "rules": [{"rule": rule, "says": says} for rule, says in iter_rules(rules)]
    }


def export_to_json(result: ExportResult) -> Json:
    """A finished export."""
    return head("export") | {
        "source": image_to_json(result.source),
        "output": image_to_json(result.output),
        "digest": result.digest,
        "verified": result.verified,
        "record": str(result.record) if result.record else None,
        "tableMoved": result.table_moved,
    }


def traces_to_json(traces: tuple[Trace, ...], counts: dict[str, int] | None = None) -> Json:
    """The catalogue or a part of it, with the number of places where they were looked for."""
    return head("traces") | {
        "traces": [
            {
                "id": trace.id,
                "family": trace.family,
                "title": trace.title,
                "why": trace.why,
                "guest": trace.guest,
                "treatments": [place.treatment.value for place in trace.places],
                "regrowth": {
                    "by": trace.regrowth.by,
                    "services": list(trace.regrowth.services),
                    "servicesWithSeed": list(trace.regrowth.services_with_seed),
                    "commands": list(trace.regrowth.commands),
                    "programs": list(trace.regrowth.programs),
                    "required": trace.regrowth.required,
                    "needsPass": trace.regrowth.needs_pass,
                },
                "risk": trace.risk,
                "source": trace.source,
            }
            | ({"places": counts.get(trace.id, 0)} if counts is not None else {})
            for trace in traces
        ]
    }


def error_to_json(error: ZeroSealError) -> Json:
    """An error: its code, its sentence, its facts."""
    return head("error") | {
        "code": error.code,
        "message": error.message,
        "exitStatus": error.exit_status,
        "facts": dict(error.facts),
        "places": list(error.places) if isinstance(error, ResidueError) else [],
    }


def camel(name: str) -> str:
    """The key of JSON for a field: ``made_at`` is ``madeAt``."""
    first, *rest = name.split("_")
    return first + "".join(part.capitalize() for part in rest)


def table_of(value: Any) -> Any:
    """A dataclass, and all that is in it, with keys in camelCase."""
    if is_dataclass(value) and not isinstance(value, type):
        return {camel(item.name): table_of(getattr(value, item.name)) for item in fields(value)}
    if isinstance(value, (list, tuple)):
        return [table_of(item) for item in value]
    if isinstance(value, dict):
        return {key: table_of(item) for key, item in value.items()}
    return str(value) if isinstance(value, Path) else value


def head(name: str) -> Json:
    """What every result begins with."""
    return {"schema": f"zeroseal.{name}", "version": SCHEMA_VERSION}


def image_to_json(image: ImageFacts) -> Json:
    """The facts of a container."""
    return {
        "path": str(image.path),
        "format": image.format_name,
        "variant": image.variant,
        "diskBytes": image.size_bytes,
        "fileBytes": image.file_bytes,
        "allocatedBytes": image.allocated_bytes,
        "extents": [str(path) for path in image.extents],
        "backing": [str(path) for path in image.chain],
        "snapshots": list(image.snapshots),
        "remarks": list(image.remarks),
    }


def volume_to_json(volume: Volume) -> Json:
    """A volume of a disk."""
    return {
        "name": volume.name,
        "offset": volume.offset_bytes,
        "size": volume.size_bytes,
        "type": volume.type_name,
        "content": volume.content.kind,
        "label": volume.content.label,
        "uuid": volume.content.uuid,
        "partUuid": volume.part_uuid,
    }


def _plan(plan: Plan) -> Json:
    return {
        "plantedFiles": list(plan.planted_files),
        "complete": plan.is_complete,
        "treated": _findings(plan.treated),
        "skipped": _findings(plan.skipped),
        "guard": _guard(plan.guard),
        "readiness": _readiness(plan.readiness),
        "plantFirstBoot": plan.policy.plants_first_boot,
        "retainedAccounts": list(plan.policy.retained_accounts),
    }


def _residue(residue: tuple[Residue, ...]) -> list[Json]:
    return [
        {
            "value": item.label,
            "place": item.place,
            "offset": item.offset_bytes,
            "count": item.count,
        }
        for item in residue
    ]


def _findings(findings: tuple[Finding, ...]) -> list[Json]:
    return [
        {
            "trace": group.trace.id,
            "title": group.trace.title,
            "bytes": group.size_bytes,
            "places": [
                {
                    "place": item.place,
                    "treatment": item.treatment.value,
                    "files": item.files,
                    "bytes": item.size_bytes,
                    "evidence": item.evidence,
                }
                for item in group.findings
            ],
        }
        for group in by_trace(findings)
    ]


def _guard(guard: Guard) -> Json:
    return {
        "assured": list(guard.assured),
        "lockOuts": list(guard.lock_outs),
        "hints": list(guard.hints),
    }


def _readiness(readiness: Readiness) -> Json:
    return {
        "blockers": list(readiness.blockers),
        "advice": list(readiness.advice),
        "consequences": list(readiness.consequences),
        "hints": list(readiness.hints),
        "stays": stays_to_json(readiness.stays),
    }


def stays_to_json(stays: WhatStays) -> Json:
    """What else stays and may be identity or a secret: paths and kinds, never contents."""
    return {
        "lookedFor": stays.is_known,
        "ownersKnown": stays.knows_owners,
        "unclaimed": [table_of(one) | {"rule": one.rule} for one in stays.unclaimed],
        "secrets": [table_of(one) | {"rule": one.rule} for one in stays.secrets],
        "covered": [table_of(one) for one in stays.covered],
    }
