"""The host by its name."""

from __future__ import annotations

from zeroseal.errors import UsageError
from zeroseal.extras import extra
from zeroseal.machines import HOST_NAMES
from zeroseal.machines.hosts.host import Host
from zeroseal.machines.sheet.model import Simulated
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import machines as messages


def host_of(
    machine: YardMachine, yard: Yard, now: int, settings: Simulated | None = None, name: str = ""
) -> Host:
    """The host that a machine is started on, or another one by its name; see ``choose_host``."""
    definition = machine.definition
    connection = definition.connection
    return choose_host(name or definition.host, yard, now, settings, connection=connection)


def choose_host(
    name: str,
    yard: Yard,
    now: int,
    settings: Simulated | None = None,
    is_isolated: bool = False,
    connection: str = "",
) -> Host:
    """The host of that name.

    Args:
        name: one of ``HOST_NAMES``.
        yard: whose machines it starts.
        now: for the simulated host, seconds since 1970.
        settings: for the simulated host: how it answers.
        is_isolated: whether guests reach nothing outside.
        connection: of libvirt, by its URI; empty for libvirt's own default.

    Raises:
        UsageError: there is none.
    """
    match name:
        case "simulated":
            from zeroseal.machines.hosts.simulated import SimulatedHost

            return SimulatedHost(yard, now, settings or Simulated())
        case "qemu":
            with extra("qemu", "a machine on QEMU"):
                from zeroseal.machines.hosts.qemu.host import QemuHost  # not needed to simulate

            return QemuHost(yard, is_isolated=is_isolated)
        case "libvirt":
            with extra("libvirt", "a machine on libvirt"):
                from zeroseal.machines.hosts.libvirt.host import LibvirtHost  # an extra

            return LibvirtHost(yard, connection, is_isolated)
    raise UsageError(messages.HOST_NOT_KNOWN.format(name=name, host_names=" or ".join(HOST_NAMES)))
