"""What every host can do, and what a shell in a guest is."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from zeroseal.machines.yard import YardMachine
from zeroseal.progress import Progress

WAITING = "waiting for the guest"
KEPT_OUTPUT_BYTES = 64 << 10  # of what a task prints; the rest of a flood is not kept


@dataclass(frozen=True)
class Output:
    """What a command printed (the end of it) and its exit status."""

    status: int
    text: str


@dataclass(frozen=True)
class Login:
    """How a shell is opened: an account and its private key, as OpenSSH writes it."""

    account: str
    private_key: str


@dataclass(frozen=True)
class Run:
    """What a start or stop did, as sentences; ``is_simulated`` where nothing was run."""

    machine: YardMachine
    messages: tuple[str, ...]
    is_simulated: bool


@dataclass(frozen=True)
class KernelBoot:
    """A kernel that is started directly, for an unattended installation."""

    kernel: Path
    initrd: Path | None
    arguments: str


class Shell(Protocol):
    """A way into a running guest; ``doing`` is what progress calls the time spent in it."""

    doing: str

    def run(self, script: str, as_root: bool, timeout_seconds: int, is_patch: bool) -> Output:
        """Runs a script.

        Raises:
            GuestError: the guest does not answer, or the time is over.
        """

    def copy_in(self, content: bytes, target: str, mode: int) -> None:
        """Puts a file into the guest, as root.

        Raises:
            GuestError: it cannot be written there.
        """

    def reboot(self, within_seconds: int) -> None:
        """Restarts the guest and comes back when it can be reached again.

        Raises:
            GuestError: it does not come back in time.
        """

    def close(self) -> None:
        """Lets go of the guest."""


class Host(Protocol):
    """Starts and stops machines."""

    @property
    def is_simulated(self) -> bool:
        """Whether nothing is run: what it shows proves nothing about a real guest."""

    def check_ready(self, machine: YardMachine | None = None) -> None:
        """Raises MissingError where a program or file that it needs is not there."""

    def is_running(self, machine: YardMachine) -> bool:
        """Whether a machine runs now."""

    def start(self, machine: YardMachine, is_bound: bool, progress: Progress) -> Run:
        """Starts a machine; a bound one dies with this process.

        Raises:
            RefusedError: it is running.
            UnfinishedError: it does not start; names the reason.
        """

    def stop(self, machine: YardMachine, within_seconds: int, progress: Progress) -> Run:
        """Shuts a machine down; one that does not comply loses its power, and that is told.

        Raises:
            RefusedError: it is not running.
        """

    def cut_power(self, machine: YardMachine) -> None:
        """Ends a machine at once, if it runs."""

    def open_shell(
        self, machine: YardMachine, login: Login | None, within_seconds: int, progress: Progress
    ) -> Shell:
        """Waits until a guest can be reached; by SSH with a login, else by its agent.

        Raises:
            GuestError: it cannot be reached in time; tells the console's last line.
        """

    def wait_until_settled(
        self, machine: YardMachine, within_seconds: int, progress: Progress
    ) -> None:
        """Waits until a guest that nobody can ask has done what a first boot does.

        Raises:
            GuestError: it is still busy after that time, or ended by itself.
        """

    def addresses(self, machine: YardMachine) -> list[str]:
        """The guest's addresses, as far as anybody here knows them."""

    def last_line(self, machine: YardMachine) -> str:
        """The last line of the machine's console; may be empty."""


class InstallingHost(Host, Protocol):
    """A host on which installers can run."""

    def start_installing(
        self, machine: YardMachine, kernel: KernelBoot | None, progress: Progress
    ) -> Run:
        """Starts a bound machine; one that is given a kernel ends where it would restart.

        Raises:
            RefusedError: it is running.
            UnfinishedError: it does not start; names the reason.
        """

    def press_keys(self, machine: YardMachine, keys: list[str]) -> None:
        """Presses keys on the machine's keyboard, by QEMU's names."""

    def await_off(self, machine: YardMachine, seconds: float) -> bool:
        """Waits so long for the machine's end; whether it has ended."""

    def disk_operations(self, machine: YardMachine) -> int:
        """How many reads and writes the guest has done on its disks and media so far.

        Raises:
            UnfinishedError: it has ended.
        """

    def is_out_of_room(self, machine: YardMachine) -> bool:
        """Whether the machine stands still because this computer has no room for its disk."""
