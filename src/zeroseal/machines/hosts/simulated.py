"""The simulated host: starts and stops machines of a yard without running anything.

It does to a machine's disk, through our own file-system code, what a boot, a task or a shutdown
would do. Commands are not run: what they answer stands in the sheet's ``simulated`` table.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

from zeroseal.errors import GuestError, HostError, RefusedError
from zeroseal.guests.linux.packages import set_package_version
from zeroseal.guests.system import as_windows
from zeroseal.machines.disk_change import changed_disk
from zeroseal.machines.guest_life import GuestLife
from zeroseal.machines.hosts.host import Login, Output, Run
from zeroseal.machines.media import read_seed_medium
from zeroseal.machines.seed import Seed
from zeroseal.machines.sheet.model import Simulated, SimulatedAnswer
from zeroseal.machines.windows_life import WindowsLife
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import machines as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.inspection import Inspection

AnyLife = GuestLife | WindowsLife
LABEL = "simulated"
_DONE = Output(0, "")


@dataclass
class SimulatedHost:
    """The machines of a yard, as if they ran.

    Attributes:
        now: the moment that everything happens at, seconds since 1970.
        settings: how commands answer, and which faults there are.
    """

    yard: Yard
    now: int
    settings: Simulated = field(default_factory=Simulated)
    is_simulated: bool = True

    def check_ready(self, machine: YardMachine | None = None) -> None:
        """Nothing is needed."""

    def is_running(self, machine: YardMachine) -> bool:
        """Whether it was started and not stopped."""
        return machine.state.running

    def start(self, machine: YardMachine, is_bound: bool, progress: Progress = quiet) -> Run:
        """Does to the disk what a boot would do; see ``Host.start``."""
        name = machine.definition.name
        if machine.state.running:
            raise RefusedError(messages.ALREADY_RUNNING.format(name=name))
        progress(Step("starting", 0, 0))
        self._check_dies(name)
        seed = _seed_of(machine)
        with changed_disk(machine.disk, self.now) as inspection:
            life = life_of(inspection, self.now, machine.definition.mac, self.yard.lease, seed)
            life.start()
        state = replace(
            machine.state, running=True, boots=machine.state.boots + 1, address=life.address
        )
        self.yard.set_state(name, state)
        return Run(self.yard.get(name), tuple(life.messages), is_simulated=True)

    def stop(
        self, machine: YardMachine, within_seconds: int = 0, progress: Progress = quiet
    ) -> Run:
        """Does to the disk what a shutdown would do; see ``Host.stop``."""
        name = machine.definition.name
        if not machine.state.running:
            raise RefusedError(messages.NOT_RUNNING.format(name=name))
        notes = []
        if "never-off" in self.settings.faults:
            notes.append(f"it did not shut down within {within_seconds} s, so its power was cut")
        else:
            self.live(machine, lambda life: life.stop())
        self.yard.set_state(name, replace(machine.state, running=False, address=""))
        comes_again = machine.definition.restart != "never" or "restarts" in self.settings.faults
        if comes_again and not notes:
            notes.append("the host started it again after its shutdown, and it was stopped")
        return Run(self.yard.get(name), tuple(notes), is_simulated=True)

    def cut_power(self, machine: YardMachine) -> None:
        """Ends it at once."""
        if machine.folder.is_dir() and machine.state.running:
            state = replace(machine.state, running=False, address="")
            self.yard.set_state(machine.folder.name, state)

    def open_shell(
        self,
        machine: YardMachine,
        login: Login | None,
        within_seconds: int,
        progress: Progress = quiet,
    ) -> SimulatedShell:
        """A shell that answers as the sheet says; see ``Host.open_shell``."""
        if "never-up" in self.settings.faults:
            raise GuestError(
                messages.SSH_DID_NOT_COME_UP_WITHIN.format(
                    within_seconds=within_seconds, last_line=self.last_line(machine)
                )
            )
        return SimulatedShell(self, machine)

    def wait_until_settled(
        self, machine: YardMachine, within_seconds: int, progress: Progress = quiet
    ) -> None:
        """A boot is over at once here."""

    def last_line(self, machine: YardMachine) -> str:
        """What the console of a simulated machine shows."""
        return f"{machine.definition.name} login:"

    def addresses(self, machine: YardMachine) -> list[str]:
        """The address that the simulated network gave it."""
        return [machine.state.address] if machine.state.address else []

    def live(self, machine: YardMachine, act: Callable[[AnyLife], None]) -> None:
        """Lets a guest act on its own disk."""
        with changed_disk(machine.disk, self.now) as inspection:
            card = machine.definition.mac
            act(life_of(inspection, self.now, card, self.yard.lease, None))

    def _check_dies(self, name: str) -> None:
        if "dies" in self.settings.faults:
            raise HostError(messages.SIMULATED_HOST_DIED_WHILE_STARTING.format(name=name))


@dataclass
class SimulatedShell:
    """A shell of a guest that does not run."""

    host: SimulatedHost
    machine: YardMachine
    doing: str = ""
    _runs: dict[str, int] = field(default_factory=dict)

    def run(self, script: str, as_root: bool, timeout_seconds: int, is_patch: bool) -> Output:
        """Answers as the sheet says, and leaves a line in the guest's log."""
        first = next((line for line in script.splitlines() if line and line[0] != "#"), script)
        answer = self._answer_to(script)
        taken = self._runs.get(answer.run, 0) if answer else 0
        if answer:
            self._runs[answer.run] = taken + 1

        def act(life: AnyLife) -> None:
            life.log("sudo[611]" if as_root else "sshd[611]", f"COMMAND={first[:200]}")
            if answer and taken == 0:
                for package, version in answer.installs.items():
                    status = set_package_version(life.guest, package, version)
                    life.put("/var/lib/dpkg/status", status)

        self.host.live(self.machine, act)
        if answer is None:
            return _DONE
        text = answer.output[min(taken, len(answer.output) - 1)] if answer.output else ""
        return Output(answer.status, text)

    def copy_in(self, content: bytes, target: str, mode: int) -> None:
        """Puts the file onto the disk."""
        self.host.live(self.machine, lambda life: life.put(target, content, mode))

    def reboot(self, within_seconds: int) -> None:
        """A shutdown and a boot, on the disk."""
        self.host.live(self.machine, lambda life: life.stop())
        self.host.live(self.machine, lambda life: life.start())

    def close(self) -> None:
        """There is nothing to let go of."""

    def _answer_to(self, script: str) -> SimulatedAnswer | None:
        return next((item for item in self.host.settings.answers if item.run in script), None)


def life_of(
    inspection: Inspection, now: int, mac: str, lease: Callable[[str], str], seed: Seed | None
) -> AnyLife:
    """One run of a disk's guest."""
    if as_windows(inspection.system):
        return WindowsLife(inspection.guest, now, mac, lease, seed)
    return GuestLife(inspection.guest, now, mac, lease, seed)


def _seed_of(machine: YardMachine) -> Seed | None:
    if not machine.definition.seed:
        return None
    return read_seed_medium(machine.folder / machine.definition.seed)
