"""What house rules require of a guest, and what of that it lacks."""

from __future__ import annotations

import time
from collections.abc import Iterator

from zeroseal.guests.guest import Guest
from zeroseal.guests.kernels import default_kernel, newest_first
from zeroseal.guests.packages import pending_updates, read_packages
from zeroseal.guests.registry import values
from zeroseal.guests.services import Services
from zeroseal.guests.windows.identity import CURRENT
from zeroseal.guests.windows.services import WindowsServices
from zeroseal.sealing.house_rules import Requirements
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.some_of import some_of

_DAY = 86400


def find_unmet(inspection: Inspection, required: Requirements) -> Iterator[str]:
    """Sentences about what the rules require and the guest lacks; each stops a seal."""
    guest = inspection.guest
    if required.packages:
        installed = _installed(inspection)
        for name in required.packages:
            if name not in installed:
                yield f"The house rules require the package {name}, which is not installed."
    services = WindowsServices(inspection.registry) if inspection.registry else Services(guest)
    for service in required.services:
        if not services.is_enabled(service):
            yield f"The house rules require the service {service}, which is not enabled."
    for pattern in required.absent:
        found = guest.glob(pattern)
        if found:
            yield f"The house rules want {some_of(found)} to be absent."
    if inspection.windows:
        return
    if required.newest_kernel:
        yield from _kernel(guest)
    if required.lists_not_older_than_days:
        yield from _lists(guest, required.lists_not_older_than_days)


def _installed(inspection: Inspection) -> set[str]:
    """The names of packages, or of a Windows' programs."""
    if inspection.registry is None:
        return {package.name for package in read_packages(inspection.guest)}
    listed = inspection.registry.values(f"{CURRENT}\\Uninstall\\*", "DisplayName")
    return {str(values.typed(value)) for _found, value in listed}


def _kernel(guest: Guest) -> Iterator[str]:
    kernels, default = newest_first(guest), default_kernel(guest)
    if not kernels:
        yield "The house rules require the newest kernel, and no kernel was found."
    elif default != kernels[0]:
        booted = f"{default} boots" if default else "none was found that boots"
        yield f"The house rules require the newest kernel {kernels[0]}, but {booted}."


def _lists(guest: Guest, days: int) -> Iterator[str]:
    pending = pending_updates(guest)
    if pending is None:
        yield f"The house rules require package lists of the last {days} days; there are none."
    elif time.time() - pending.lists_from > days * _DAY:
        age = int((time.time() - pending.lists_from) // _DAY)
        yield f"The package lists are {age} days old; the house rules allow {days}."
