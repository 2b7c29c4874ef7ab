"""Starting, stopping and reaching machines on a libvirt connection."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import fromstring

import libvirt
import libvirt_qemu

from zeroseal.errors import GuestError, HostError, RefusedError
from zeroseal.machines.definition import MachineDefinition
from zeroseal.machines.domain_xml import parse_domain
from zeroseal.machines.hosts.console import CONSOLE_LOG, last_console_line
from zeroseal.machines.hosts.host import KernelBoot, Login, Run, Shell
from zeroseal.machines.hosts.keys import linux_codes
from zeroseal.machines.hosts.libvirt.connection import open_connection, refusals, shown_name
from zeroseal.machines.hosts.libvirt.domain import USER, Start, build_start
from zeroseal.machines.hosts.preparing import check_files, find_free_port, give_firmware
from zeroseal.machines.hosts.qemu.agent import AgentShell, parse_answer
from zeroseal.machines.hosts.qemu.command import SERIAL_SOCKET
from zeroseal.machines.hosts.qemu.programs import has_kvm
from zeroseal.machines.hosts.settle import wait_until_quiet
from zeroseal.machines.hosts.ssh import SshShell
from zeroseal.machines.hosts.tpm import TPM_SOCKET, end_tpm, start_tpm
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import machines as messages
from zeroseal.progress import Progress, Step, quiet

_AGENT_SECONDS = 10
_PRESS_AGAIN_SECONDS = 20.0  # a guest that is still booting does not hear the button
_LOOK_SECONDS = 1.0
_KEY_SECONDS = 0.2


@dataclass
class LibvirtHost:
    """The machines of a yard on a libvirt connection.

    Attributes:
        connection: its URI; empty for libvirt's own default (``LIBVIRT_DEFAULT_URI``).
        is_isolated: whether guests reach nothing outside.
    """

    yard: Yard
    connection: str = ""
    is_isolated: bool = False
    is_simulated: bool = False
    _opened: Any = field(default=None, repr=False)
    _tpms: dict[str, Any] = field(default_factory=dict, repr=False)

    def check_ready(self, machine: YardMachine | None = None) -> None:
        """See ``Host.check_ready``; raises HostError where the connection cannot be opened."""
        self._connect()
        if machine:
            check_files(machine)

    def is_running(self, machine: YardMachine) -> bool:
        """Whether libvirt runs a domain with its UUID."""
        return machine.state.running and self._domain(machine) is not None

    def start(self, machine: YardMachine, is_bound: bool, progress: Progress = quiet) -> Run:
        """Creates a transient domain; see ``Host.start``."""
        del progress
        return self._start(machine, None, is_bound)

    def start_installing(
        self, machine: YardMachine, kernel: KernelBoot | None, progress: Progress = quiet
    ) -> Run:
        """Creates a domain with an installer; see ``InstallingHost.start_installing``."""
        del progress
        return self._start(machine, kernel, is_bound=True)

    def _start(self, machine: YardMachine, kernel: KernelBoot | None, is_bound: bool) -> Run:
        definition = machine.definition
        name = definition.name
        self.check_ready(machine)
        if self._domain(machine) is not None:
            raise RefusedError(messages.ALREADY_RUNNING.format(name=name))
        self._check_name(definition)
        firmware = give_firmware(machine.folder, definition)
        port = find_free_port()
        start = Start(port, firmware, has_kvm(), self.is_isolated, kernel)
        (machine.folder / SERIAL_SOCKET).unlink(missing_ok=True)
        xml = build_start(machine.folder.resolve(), definition, start)
        flags = libvirt.VIR_DOMAIN_START_AUTODESTROY if is_bound else 0
        tpm = start_tpm(machine.folder, is_bound) if definition.tpm else None
        try:
            with refusals(self.connection):
                self._connect().createXML(xml, flags)
        except BaseException:
            end_tpm(tpm, 0)
            raise
        self._tpms[name] = tpm
        state = replace(
            machine.state, running=True, boots=machine.state.boots + 1, pid=0, ssh_port=port
        )
        self.yard.set_state(name, state)
        kind = "with KVM" if start.accelerated else "without KVM: it is slow"
        notes = [f"libvirt runs it {kind}"]
        if any(card.network == USER for card in definition.adapters):
            notes.append(f"its SSH port is {port} on 127.0.0.1")
        return Run(self.yard.get(name), tuple(notes), is_simulated=False)

    def stop(self, machine: YardMachine, within_seconds: int, progress: Progress = quiet) -> Run:
        """Presses the power button and waits; see ``Host.stop``."""
        name = machine.definition.name
        domain = self._domain(machine)
        if domain is None:
            self._forget(machine)
            raise RefusedError(messages.NOT_RUNNING.format(name=name))
        notes = [*self._changes(machine, domain)]
        notes += self._shut_down(machine, domain, within_seconds, progress)
        self._forget(machine)
        return Run(self.yard.get(name), tuple(notes), is_simulated=False)

    def cut_power(self, machine: YardMachine) -> None:
        """Ends its domain at once, if it runs."""
        domain = self._domain(machine) if machine.state.running else None
        if domain is not None:
            with suppress(libvirt.libvirtError):
                domain.destroy()
        self._forget(machine)

    def open_shell(
        self,
        machine: YardMachine,
        login: Login | None,
        within_seconds: int,
        progress: Progress = quiet,
    ) -> Shell:
        """Waits for SSH, or for the agent; see ``Host.open_shell``."""
        began = time.monotonic()

        def waiting() -> None:
            if self._domain(machine) is None:
                raise HostError(
                    messages.DOMAIN_ENDED_WHILE_IN_USE.format(name=machine.definition.name)
                )
            waited = int(time.monotonic() - began)
            progress(Step(shell.doing, waited, 0, "s", self.last_line(machine)))

        shell: SshShell | AgentShell
        if login is None:
            shell = DomainAgentShell(self._need(machine), waiting)
        elif any(card.network == USER for card in machine.definition.adapters):
            shell = SshShell(machine.state.ssh_port, login, waiting)
        else:
            shell = SshShell(22, login, waiting, lambda: self._first_address(machine))
        try:
            shell.connect(within_seconds)
        except GuestError as error:
            line = self.last_line(machine) or "nothing"
            raise GuestError(
                messages.CONSOLE_ENDED.format(message=error.message, line=line)
            ) from error
        return shell

    def wait_until_settled(
        self, machine: YardMachine, within_seconds: int, progress: Progress = quiet
    ) -> None:
        """See ``Host.wait_until_settled``."""
        name = machine.definition.name
        wait_until_quiet(
            name,
            within_seconds,
            lambda: self.written_operations(machine),
            lambda: self.last_line(machine),
            progress,
        )

    def written_operations(self, machine: YardMachine) -> int:
        """How many writes the guest has done to its disks so far."""
        domain = self._need(machine)
        with refusals(self.connection):
            return int(domain.blockStats("")[2])

    def disk_operations(self, machine: YardMachine) -> int:
        """See ``InstallingHost.disk_operations``."""
        domain = self._need(machine)
        with refusals(self.connection):
            reads, _read_bytes, writes, *_rest = domain.blockStats("")
            return int(reads) + int(writes)

    def press_keys(self, machine: YardMachine, keys: list[str]) -> None:
        """Presses keys on the machine's keyboard, by QEMU's names."""
        domain = self._need(machine)
        for key in keys:
            codes = linux_codes(key)
            with refusals(self.connection):
                domain.sendKey(libvirt.VIR_KEYCODE_SET_LINUX, 50, codes, len(codes), 0)
            time.sleep(_KEY_SECONDS)

    def await_off(self, machine: YardMachine, seconds: float) -> bool:
        """See ``InstallingHost.await_off``."""
        end = time.monotonic() + seconds
        while self._domain(machine) is not None:
            if time.monotonic() >= end:
                return False
            time.sleep(min(_KEY_SECONDS, seconds))
        self._forget(machine)
        return True

    def is_out_of_room(self, machine: YardMachine) -> bool:
        """See ``InstallingHost.is_out_of_room``."""
        domain = self._domain(machine)
        if domain is None:
            return False
        with suppress(libvirt.libvirtError):
            paused = libvirt.VIR_DOMAIN_PAUSED, libvirt.VIR_DOMAIN_PAUSED_IOERROR
            return tuple(domain.state()) == paused
        return False

    def addresses(self, machine: YardMachine) -> list[str]:
        """By the leases of libvirt's networks, else by the guest agent."""
        domain = self._domain(machine)
        sources = (
            libvirt.VIR_DOMAIN_INTERFACE_ADDRESSES_SRC_LEASE,
            libvirt.VIR_DOMAIN_INTERFACE_ADDRESSES_SRC_AGENT,
        )
        for source in sources if domain is not None else ():
            with suppress(libvirt.libvirtError):
                found = domain.interfaceAddresses(source)
                texts = [
                    f"{item['addr']}/{item['prefix']}"
                    for name, card in found.items()
                    for item in card.get("addrs") or ()
                    if name != "lo" and not item["addr"].startswith("fe80:")
                ]
                if texts:
                    return texts
        return []

    def last_line(self, machine: YardMachine) -> str:
        """The last line of the serial console's log."""
        return last_console_line(machine.folder / CONSOLE_LOG)

    # -- inside

    def _connect(self) -> Any:
        if self._opened is None:
            self._opened = open_connection(self.connection)
        return self._opened

    def _domain(self, machine: YardMachine) -> Any:
        """Its domain, where it runs; None where it does not."""
        connection = self._connect()
        try:
            domain = connection.lookupByUUIDString(machine.definition.uuid)
            return domain if domain.isActive() else None
        except libvirt.libvirtError as error:
            if error.get_error_code() == libvirt.VIR_ERR_NO_DOMAIN:
                return None
            with refusals(self.connection):
                raise
            raise AssertionError from error  # ``refusals`` has raised

    def _need(self, machine: YardMachine) -> Any:
        domain = self._domain(machine)
        if domain is None:
            raise HostError(messages.DOMAIN_ENDED_WHILE_IN_USE.format(name=machine.definition.name))
        return domain

    def _check_name(self, definition: MachineDefinition) -> None:
        """A domain of the same name or UUID is somebody's, and stays as it is."""
        connection = self._connect()
        for look_up, word in (
            (connection.lookupByName, definition.name),
            (connection.lookupByUUIDString, definition.uuid),
        ):
            with suppress(libvirt.libvirtError):
                found = look_up(word)
                raise RefusedError(
                    messages.DOMAIN_IS_THERE.format(
                        connection=shown_name(self.connection),
                        name=found.name(),
                        uuid=found.UUIDString(),
                    )
                )

    def _shut_down(
        self, machine: YardMachine, domain: Any, within_seconds: int, progress: Progress
    ) -> list[str]:
        began, pressed = time.monotonic(), -_PRESS_AGAIN_SECONDS
        with suppress(libvirt.libvirtError):  # a guest that restarts instead ends here too
            reboot = libvirt.VIR_DOMAIN_LIFECYCLE_REBOOT
            destroy = libvirt.VIR_DOMAIN_LIFECYCLE_ACTION_DESTROY
            domain.setLifecycleAction(reboot, destroy, libvirt.VIR_DOMAIN_AFFECT_LIVE)
        while (waited := time.monotonic() - began) < within_seconds:
            if self._domain(machine) is None:
                return []
            if waited - pressed >= _PRESS_AGAIN_SECONDS:
                with suppress(libvirt.libvirtError):  # it may just have ended
                    domain.shutdownFlags(libvirt.VIR_DOMAIN_SHUTDOWN_ACPI_POWER_BTN)
                    if pressed >= 0 and machine.definition.agent:  # it hears no button
                        domain.shutdownFlags(libvirt.VIR_DOMAIN_SHUTDOWN_GUEST_AGENT)
                pressed = waited
            line = self.last_line(machine)
            progress(Step("shutting down", int(waited), 0, "s", line))
            time.sleep(_LOOK_SECONDS)
        with suppress(libvirt.libvirtError):
            domain.destroy()
        return [f"it did not shut down within {within_seconds} s, so its power was cut"]

    def _changes(self, machine: YardMachine, domain: Any) -> list[str]:
        """What somebody else plugged into the running domain, or took out of it."""
        with refusals(self.connection):
            seen = parse_domain(fromstring(domain.XMLDesc(0)), machine.definition.name)
        definition, folder = machine.definition, machine.folder.resolve()
        disks = (definition.disk, *definition.more_disks)
        given = {str(folder / path) for path in disks}
        given |= {str(folder / item.path) for item in definition.media}
        given |= {card.mac for card in definition.adapters if card.network != USER}
        found = {seen.disk, *seen.more_disks, *(item.path for item in seen.media)}
        found |= {card.mac for card in seen.adapters}
        changes = [messages.DEVICE_WAS_ADDED.format(device=item) for item in sorted(found - given)]
        return changes + [
            messages.DEVICE_WAS_TAKEN.format(device=item) for item in sorted(given - found)
        ]

    def _first_address(self, machine: YardMachine) -> str:
        return next((text.partition("/")[0] for text in self.addresses(machine)), "")

    def _forget(self, machine: YardMachine) -> None:
        end_tpm(self._tpms.pop(machine.definition.name, None))
        for name in (SERIAL_SOCKET, TPM_SOCKET):
            (machine.folder / name).unlink(missing_ok=True)
        if machine.folder.is_dir():
            self.yard.set_state(
                machine.folder.name, replace(machine.state, running=False, pid=0, ssh_port=0)
            )


class DomainAgentShell(AgentShell):
    """The guest agent's channel as libvirt holds it: one command, one answer."""

    def __init__(self, domain: Any, waiting: Callable[[], None]) -> None:
        super().__init__(Path(), "", waiting)
        self._domain = domain

    def _open(self) -> None:
        """Libvirt holds the channel."""

    def _synchronise(self) -> None:
        self._ask("guest-ping")

    def _send(self, command: str, arguments: dict[str, Any], before: bytes = b"") -> None:
        del before
        with suppress(GuestError):  # a guest that shuts down does not answer
            self._ask(command, **arguments)

    def _ask(self, command: str, **arguments: Any) -> Any:
        text = json.dumps({"execute": command, "arguments": arguments})
        try:
            answer = libvirt_qemu.qemuAgentCommand(self._domain, text, _AGENT_SECONDS, 0)
        except libvirt.libvirtError as error:
            raise GuestError(messages.GUEST_AGENT_DOES_NOT_ANSWER) from error
        return parse_answer(answer.encode())
