"""The survey of a disk with Windows or volumes of NTFS as a JSON-ready value."""

from __future__ import annotations

from zeroseal.guests.windows import FAMILY
from zeroseal.guests.windows_identity import WindowsIdentity
from zeroseal.reports.as_json import Json, head, image_to_json, volume_to_json
from zeroseal.sealing.windows_survey import WindowsSurvey


def windows_survey_to_json(survey: WindowsSurvey) -> Json:
    """A survey with the fields of other ones; ``ntfs`` says more of each of its volumes."""
    windows = survey.windows
    return head("survey") | {
        "ready": False,
        "image": image_to_json(survey.image),
        "system": {
            "family": FAMILY if windows else "unknown",
            "name": windows.name if windows else "no known system",
            "id": "",
            "version": windows.build if windows else "",
            "hostName": windows.host_name if windows else "",
        },
        "table": survey.disk.table,
        "sectorBytes": survey.disk.sector_bytes,
        "storedByPart": list(survey.stored),
        "volumes": [volume_to_json(volume) for volume in survey.disk.volumes],
        "mounts": [],
        "findings": [],
        "guard": {"assured": [], "lockOuts": [], "hints": []},
        "readiness": {"blockers": survey.blockers, "advice": [], "hints": []},
        "windows": _identity(windows.identity) if windows else None,
        "ntfs": [
            {
                "volume": facts.volume,
                "label": facts.label,
                "version": facts.version,
                "flags": list(facts.flags),
                "log": facts.log,
                "asleep": facts.sleeps,
                "sizeBytes": facts.size_bytes,
                "freeBytes": facts.free_bytes,
                "clusterBytes": facts.cluster_bytes,
                "problem": facts.problem,
            }
            for facts in survey.volumes
        ],
    }


def _identity(identity: WindowsIdentity) -> Json:
    return {
        "sid": identity.sid,
        "machineGuid": identity.machine_guid,
        "updateId": identity.update_id,
        "accounts": [
            {"name": item.name, "rid": item.rid, "disabled": item.disabled}
            for item in identity.accounts
        ],
        "profiles": list(identity.profiles),
        "firstStart": identity.first_start.name.lower(),
        "imageState": identity.image_state,
        "domain": identity.domain,
        "pending": list(identity.pending),
    }
