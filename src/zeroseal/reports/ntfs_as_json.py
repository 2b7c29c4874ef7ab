"""A Windows, and volumes of NTFS, as JSON-ready values."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeroseal.guests.system import as_windows
from zeroseal.reports.as_json import Json, head, image_to_json, survey_to_json, volume_to_json
from zeroseal.sealing.survey import DataSurvey, Survey

if TYPE_CHECKING:
    from zeroseal.filesystems.driver import VolumeState
    from zeroseal.guests.windows.identity import WindowsFacts


def data_survey_to_json(survey: DataSurvey) -> Json:
    """A survey with the fields of other ones; ``ntfs`` says more of each of its volumes."""
    return head("survey") | {
        "ready": False,
        "image": image_to_json(survey.image),
        "system": {
            "family": "unknown",
            "name": "no known system",
            "id": "",
            "version": "",
            "hostName": "",
        },
        "table": survey.disk.table,
        "sectorBytes": survey.disk.sector_bytes,
        "storedByPart": list(survey.stored),
        "volumes": [volume_to_json(volume) for volume in survey.disk.volumes],
        "mounts": [],
        "findings": [],
        "guard": {"assured": [], "lockOuts": [], "hints": []},
        "readiness": {"blockers": survey.blockers, "advice": [], "hints": []},
        "windows": None,
        "ntfs": _volumes(survey.volumes),
    }


def any_survey_to_json(survey: Survey | DataSurvey) -> Json:
    """A survey, with what more is known of a Windows."""
    if isinstance(survey, DataSurvey):
        return data_survey_to_json(survey)
    found = survey_to_json(survey)
    windows = as_windows(survey.guest_system)
    if windows:
        found |= {
            "windows": _windows(windows.windows_facts),
            "ntfs": _volumes(survey.volume_states),
        }
    return found


def _volumes(volumes: tuple[VolumeState, ...]) -> list[Json]:
    return [
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
        for facts in volumes
    ]


def _windows(windows: WindowsFacts) -> Json:
    identity = windows.identity
    return {
        "sid": identity.sid,
        "machineGuid": identity.machine_guid,
        "updateId": identity.update_id,
        "accounts": [
            {
                "name": item.name,
                "rid": item.rid,
                "disabled": item.disabled,
                "password": item.has_password,
                "administrator": item.is_administrator,
            }
            for item in identity.accounts
        ],
        "profiles": [{"sid": item.sid, "folder": item.folder} for item in identity.profiles],
        "firstStart": identity.first_start.name.lower(),
        "imageState": identity.image_state,
        "domain": identity.domain,
        "pending": list(identity.pending),
    }
