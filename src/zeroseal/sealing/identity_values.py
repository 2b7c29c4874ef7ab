"""The values that tell one disk from another: of its guest, and of its volumes."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.guests.identity_value import IdentityValue
from zeroseal.sealing.inspection import Inspection


def read_values(inspection: Inspection) -> list[IdentityValue]:
    """All identity values of a disk, each once, in a fixed order."""
    found = [*inspection.system.identity_values(), *_volume_ids(inspection)]
    return list(dict.fromkeys(found))


def _volume_ids(inspection: Inspection) -> Iterator[IdentityValue]:
    if inspection.disk.disk_uuid:
        yield IdentityValue("disk GUID", inspection.disk.disk_uuid)
    for volume in inspection.disk.volumes:
        if volume.content.uuid:
            yield IdentityValue("volume UUID", volume.content.uuid)
