"""The host by its name."""

from __future__ import annotations

from zeroseal.errors import UsageError
from zeroseal.machines.hosts.host import Host
from zeroseal.machines.sheet.model import Simulated
from zeroseal.machines.yard import Yard

HOST_NAMES = ("qemu", "simulated")


def choose_host(name: str, yard: Yard, now: int, settings: Simulated | None = None) -> Host:
    """The host of that name; ``now`` and ``settings`` are for the simulated one.

    Raises:
        UsageError: there is none.
    """
    match name:
        case "simulated":
            from zeroseal.machines.hosts.simulated import SimulatedHost

            return SimulatedHost(yard, now, settings or Simulated())
        case "qemu":
            from zeroseal.machines.hosts.qemu.host import QemuHost  # not needed to simulate

            return QemuHost(yard)
    raise UsageError(f"there is no host {name!r}: choose {' or '.join(HOST_NAMES)}")
