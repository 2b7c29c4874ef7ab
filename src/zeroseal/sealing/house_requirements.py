"""What house rules require of a guest, and what of that it lacks."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.counts import some_of
from zeroseal.sealing.house_rules import Requirements
from zeroseal.sealing.inspection import Inspection


def find_unmet(inspection: Inspection, required: Requirements) -> Iterator[str]:
    """Sentences about what the rules require and the guest lacks; each stops a seal."""
    system = inspection.system
    if required.packages:
        installed = system.installed()
        for name in required.packages:
            if name not in installed:
                yield f"The house rules require the package {name}, which is not installed."
    for service in required.services:
        if not system.is_enabled(service):
            yield f"The house rules require the service {service}, which is not enabled."
    for pattern in required.absent:
        found = inspection.guest.glob(pattern)
        if found:
            yield f"The house rules want {some_of(found)} to be absent."
    yield from inspection.judge.find_unmet(inspection, required)
