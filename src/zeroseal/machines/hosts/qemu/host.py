"""Starting, stopping and reaching machines on QEMU."""

from __future__ import annotations

import os
import signal
import subprocess
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TypeVar

from zeroseal.errors import (
    GuestError,
    HostError,
    RefusedError,
    UnfinishedError,
    environment_error,
)
from zeroseal.images.facts import read_image_facts
from zeroseal.machines.definition import MachineDefinition
from zeroseal.machines.hosts.bound import bound_words
from zeroseal.machines.hosts.console import CONSOLE_LOG, last_console_line
from zeroseal.machines.hosts.host import KernelBoot, Login, Run, Shell
from zeroseal.machines.hosts.preparing import check_files, find_free_port, give_firmware
from zeroseal.machines.hosts.qemu.agent import AgentShell
from zeroseal.machines.hosts.qemu.command import (
    AGENT_SOCKET,
    HOST_LOG,
    PID_FILE,
    QMP_SOCKET,
    SERIAL_SOCKET,
    Wiring,
    build_command,
)
from zeroseal.machines.hosts.qemu.monitor import Monitor
from zeroseal.machines.hosts.qemu.programs import find_program, has_kvm
from zeroseal.machines.hosts.settle import wait_until_quiet
from zeroseal.machines.hosts.ssh import SshShell
from zeroseal.machines.hosts.tpm import TPM_SOCKET, end_tpm, start_tpm
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import machines as messages
from zeroseal.progress import Progress, Step, quiet

_START_SECONDS = 60.0
ResultT = TypeVar("ResultT")
_AGENT_SECONDS = 2
_EXIT_SECONDS = 30.0
_POLL_SECONDS = 0.2
_PRESS_AGAIN_SECONDS = 20.0  # a guest that is still booting does not hear the button


@dataclass
class QemuHost:
    """The machines of a yard on QEMU.

    Attributes:
        is_isolated: whether guests reach nothing outside.
    """

    yard: Yard
    is_isolated: bool = False
    is_simulated: bool = False
    _children: dict[int, subprocess.Popen[bytes]] = field(default_factory=dict)
    _tpms: dict[str, subprocess.Popen[bytes] | None] = field(default_factory=dict)

    def check_ready(self, machine: YardMachine | None = None) -> None:
        """See ``Host.check_ready``."""
        find_program()
        if machine:
            check_files(machine)

    def is_running(self, machine: YardMachine) -> bool:
        """Whether its monitor answers, and is its own."""
        if not machine.state.running or machine.state.pid == 0:
            return False
        try:
            with Monitor(machine.folder, QMP_SOCKET) as monitor:
                answer = monitor.execute("query-uuid")
                return str(answer["UUID"]) == machine.definition.uuid
        except UnfinishedError:
            return False

    def start(self, machine: YardMachine, is_bound: bool, progress: Progress = quiet) -> Run:
        """Starts QEMU; see ``Host.start``."""
        del progress
        return self._start(machine, None, is_bound)

    def start_installing(
        self, machine: YardMachine, kernel: KernelBoot | None, progress: Progress = quiet
    ) -> Run:
        """Starts QEMU with an installer; see ``InstallingHost.start_installing``."""
        del progress
        return self._start(machine, kernel, is_bound=True)

    def _start(self, machine: YardMachine, kernel: KernelBoot | None, is_bound: bool) -> Run:
        definition = machine.definition
        if self.is_running(machine):
            raise RefusedError(messages.ALREADY_RUNNING.format(name=definition.name))
        self.check_ready(machine)
        firmware = give_firmware(machine.folder, definition)
        port = find_free_port()
        formats = [_format_of(machine.folder, name) for name in _disks(definition)]
        wiring = Wiring(
            ssh_port=port,
            formats=tuple(formats),
            firmware=firmware,
            accelerated=has_kvm(),
            boot_kernel=kernel,
            is_isolated=self.is_isolated,
        )
        words = build_command(find_program(), definition, wiring)
        for name in (QMP_SOCKET, SERIAL_SOCKET, AGENT_SOCKET):
            (machine.folder / name).unlink(missing_ok=True)
        tpm = start_tpm(machine.folder, is_bound) if definition.tpm else None
        try:
            pid = self._launch(words, machine, is_bound)
        except BaseException:
            end_tpm(tpm, 0)
            raise
        self._tpms[definition.name] = tpm
        boots = machine.state.boots + 1
        state = replace(machine.state, running=True, boots=boots, pid=pid, ssh_port=port)
        self.yard.set_state(definition.name, state)
        try:
            self._await_monitor(pid, machine.folder, definition.name)
        except BaseException:
            self.cut_power(self.yard.get(definition.name))
            raise
        kind = "with KVM" if wiring.accelerated else "without KVM: it is slow"
        notes = (f"QEMU runs it {kind}", f"its SSH port is {port} on 127.0.0.1")
        return Run(self.yard.get(definition.name), notes, is_simulated=False)

    def stop(self, machine: YardMachine, within_seconds: int, progress: Progress = quiet) -> Run:
        """Presses the power button and waits; see ``Host.stop``."""
        name = machine.definition.name
        if not self.is_running(machine):
            self._forget(machine)
            raise RefusedError(messages.NOT_RUNNING.format(name=name))
        notes = self._shut_down(machine, within_seconds, progress)
        if not self._await_exit(machine.state.pid, _EXIT_SECONDS):
            self.cut_power(machine)
            notes.append("QEMU did not end by itself and was terminated")
        self._forget(machine)
        return Run(self.yard.get(name), tuple(notes), is_simulated=False)

    def await_off(self, machine: YardMachine, seconds: float) -> bool:
        """See ``InstallingHost.await_off``."""
        if not self._await_exit(machine.state.pid, seconds):
            return False
        self._forget(machine)
        return True

    def is_out_of_room(self, machine: YardMachine) -> bool:
        """See ``InstallingHost.is_out_of_room``."""
        with suppress(UnfinishedError), Monitor(machine.folder, QMP_SOCKET) as monitor:
            return str(monitor.execute("query-status")["status"]) == "io-error"
        return False

    def cut_power(self, machine: YardMachine) -> None:
        """Ends QEMU at once, if it runs."""
        pid = machine.state.pid
        if pid in self._children or (pid and _is_ours(pid, machine.definition.uuid)):
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGTERM)
            if not self._await_exit(pid, 10.0):
                with suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)
                self._await_exit(pid, 10.0)
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
            if self._await_exit(machine.state.pid, 0):
                raise HostError(
                    messages.QEMU_ENDED_WHILE_IN_USE.format(
                        name=machine.definition.name, log_tail=_log_tail(machine.folder)
                    )
                )
            waited = int(time.monotonic() - began)
            progress(Step(shell.doing, waited, 0, "s", self.last_line(machine)))

        shell: SshShell | AgentShell
        if login is None:
            shell = AgentShell(machine.folder, AGENT_SOCKET, waiting)
        else:
            shell = SshShell(machine.state.ssh_port, login, waiting)
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

    def last_line(self, machine: YardMachine) -> str:
        """The last line of the serial console's log."""
        return last_console_line(machine.folder / CONSOLE_LOG)

    def press_keys(self, machine: YardMachine, keys: list[str]) -> None:
        """Presses keys on the machine's keyboard, by QEMU's names."""
        with Monitor(machine.folder, QMP_SOCKET) as monitor:
            for key in keys:
                parts = [{"type": "qcode", "data": part} for part in key.split("-")]
                monitor.execute("send-key", keys=parts)
                time.sleep(_POLL_SECONDS)

    def written_operations(self, machine: YardMachine) -> int:
        """How many writes the guest has done to its disks so far."""
        return self._count(machine, "wr_operations")

    def disk_operations(self, machine: YardMachine) -> int:
        """See ``InstallingHost.disk_operations``."""
        return self._count(machine, "wr_operations", "rd_operations")

    # -- inside

    def _count(self, machine: YardMachine, *kinds: str) -> int:
        with Monitor(machine.folder, QMP_SOCKET) as monitor:
            found = monitor.execute("query-blockstats", **{"query-nodes": False})
        return sum(int(item["stats"][kind]) for item in found for kind in kinds)

    def _launch(self, words: list[str], machine: YardMachine, is_bound: bool) -> int:
        if not is_bound:
            return _launch_alone(words, machine.folder, machine.definition.name)
        process = _launch_bound(words, machine.folder)
        self._children[process.pid] = process
        return process.pid

    def _shut_down(
        self, machine: YardMachine, within_seconds: int, progress: Progress
    ) -> list[str]:
        notes: list[str] = []
        began, pressed = time.monotonic(), -_PRESS_AGAIN_SECONDS
        try:
            with Monitor(machine.folder, QMP_SOCKET) as monitor:
                # a guest that restarts instead ends here too, and does not come up again
                monitor.execute("set-action", reboot="shutdown")
                while (waited := time.monotonic() - began) < within_seconds:
                    if waited - pressed >= _PRESS_AGAIN_SECONDS:
                        monitor.execute("system_powerdown")
                        if pressed >= 0:  # a guest without logind or acpid hears no button
                            self._ask_to_end(machine)
                        pressed = waited
                    event = monitor.wait_for_event(1.0)
                    line = self.last_line(machine)
                    progress(Step("shutting down", int(waited), 0, "s", line))
                    if event and event[0] == "SHUTDOWN":
                        if event[1].get("reason") == "guest-reset":
                            notes.append(
                                "it tried to start again after its shutdown, and was stopped"
                            )
                        return notes
                monitor.execute("quit")
                notes.append(
                    f"it did not shut down within {within_seconds} s, so its power was cut"
                )
        except UnfinishedError:
            pass  # it went away while we spoke: it is off
        return notes

    def addresses(self, machine: YardMachine) -> list[str]:
        """What the guest agent says, where it answers at once; see ``Host.addresses``."""
        if not machine.definition.agent or not self.is_running(machine):
            return []
        return self._ask_agent(machine, AgentShell.addresses) or []

    def _ask_to_end(self, machine: YardMachine) -> None:
        """Lets the guest agent, where there is one, shut the guest down."""
        if machine.definition.agent:
            self._ask_agent(machine, AgentShell.power_off)

    @staticmethod
    def _ask_agent(machine: YardMachine, ask: Callable[[AgentShell], ResultT]) -> ResultT | None:
        """What the guest agent says; None where it does not answer at once."""
        shell = AgentShell(machine.folder, AGENT_SOCKET, lambda: None)
        try:
            shell.connect(_AGENT_SECONDS)
            return ask(shell)
        except (GuestError, OSError, KeyError, TypeError, ValueError):
            return None
        finally:
            shell.close()

    def _await_monitor(self, pid: int, folder: Path, name: str) -> None:
        end = time.monotonic() + _START_SECONDS
        while time.monotonic() < end:
            if self._await_exit(pid, 0):
                raise HostError(
                    messages.QEMU_DID_NOT_START.format(name=name, log_tail=_log_tail(folder))
                )
            if (folder / QMP_SOCKET).exists():
                with suppress(UnfinishedError):
                    Monitor(folder, QMP_SOCKET).close()
                    return
            time.sleep(_POLL_SECONDS)
        raise HostError(
            messages.QEMU_MONITOR_DID_NOT_ANSWER.format(name=name, log_tail=_log_tail(folder))
        )

    def _await_exit(self, pid: int, seconds: float) -> bool:
        """Whether a process has ended; one that is our child is reaped."""
        end = time.monotonic() + seconds
        child = self._children.get(pid)
        while pid:
            if child is not None and child.poll() is not None:
                del self._children[pid]
                return True
            if child is None and not _is_alive(pid):
                return True
            if time.monotonic() >= end:
                return False
            time.sleep(_POLL_SECONDS)
        return True

    def _forget(self, machine: YardMachine) -> None:
        self._await_exit(machine.state.pid, 0)
        end_tpm(self._tpms.pop(machine.definition.name, None))
        for name in (QMP_SOCKET, SERIAL_SOCKET, AGENT_SOCKET, TPM_SOCKET, PID_FILE):
            (machine.folder / name).unlink(missing_ok=True)
        if machine.folder.is_dir():
            self.yard.set_state(
                machine.folder.name, replace(machine.state, running=False, pid=0, ssh_port=0)
            )


def _disks(definition: MachineDefinition) -> tuple[str, ...]:
    return (definition.disk, *definition.more_disks)


def _format_of(folder: Path, name: str) -> str:
    return read_image_facts(folder / name).format_name


def _launch_bound(words: list[str], folder: Path) -> subprocess.Popen[bytes]:
    words = bound_words(words)
    try:
        with (folder / HOST_LOG).open("wb") as log:
            return subprocess.Popen(
                words,
                cwd=folder,
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,  # Ctrl-C is for us; we end the machine
            )
    except OSError as error:
        raise environment_error(error, folder, messages.STARTING_QEMU) from error


def _launch_alone(words: list[str], folder: Path, name: str) -> int:
    """Starts a machine that goes on without us; returns its process number."""
    pid_file = folder / PID_FILE
    pid_file.unlink(missing_ok=True)
    try:
        with (folder / HOST_LOG).open("wb") as log:
            done = subprocess.run(
                [*words, "-daemonize", "-pidfile", PID_FILE],
                cwd=folder,
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,
                timeout=_START_SECONDS,
                check=False,
            )
        if done.returncode:
            raise HostError(
                messages.QEMU_DID_NOT_START.format(name=name, log_tail=_log_tail(folder))
            )
        return int(pid_file.read_text().strip())
    except (OSError, ValueError) as error:
        raise HostError(messages.QEMU_DID_NOT_START.format(name=name, log_tail=error)) from error
    except subprocess.TimeoutExpired as error:
        raise HostError(
            messages.QEMU_DID_NOT_START_IN_TIME.format(name=name, log_tail=_log_tail(folder))
        ) from error


def _log_tail(folder: Path) -> str:
    return last_console_line(folder / HOST_LOG) or "it gave no reason"


def _is_alive(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        pass
    return True


def _is_ours(pid: int, machine_uuid: str) -> bool:
    """Whether a process is the machine's QEMU: numbers of processes are used again."""
    try:
        return machine_uuid.encode() in Path(f"/proc/{pid}/cmdline").read_bytes()
    except OSError:
        return not Path("/proc").is_dir()
