"""An unattended installation on an empty disk: the installer runs until it shuts down.

Whether it goes on is read from its console and from what it does on its disks: one that asks a
question, loops, has no room or does nothing at all is ended, and the error says where it was.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from pathlib import Path

from zeroseal.errors import GuestError, NoSpaceError, UnfinishedError, environment_error
from zeroseal.guests.linux.initramfs import build_file_archive
from zeroseal.machines.blueprint import read_answers
from zeroseal.machines.definition import INSTALL_MEDIUM, write_definition
from zeroseal.machines.hosts.console import CONSOLE_LOG
from zeroseal.machines.hosts.host import InstallingHost, KernelBoot
from zeroseal.machines.hosts.keys import keys_of
from zeroseal.machines.installer_console import InstallerConsole
from zeroseal.machines.sheet.load import LoadedSheet
from zeroseal.machines.yard import YardMachine
from zeroseal.messages import machines as messages
from zeroseal.progress import Progress, Step

_INITRD = "install-initrd"  # in the machine's folder, while it is installed
_LOOK_SECONDS = 1.0
_ASKING_SECONDS = 90  # so long nothing else is done where somebody is waited for


def install(
    loaded: LoadedSheet,
    host: InstallingHost,
    machine: YardMachine,
    progress: Progress,
    stages: list[tuple[str, int]],
) -> None:
    """Runs the installer to its end, which is the machine's shutdown; then takes its medium out.

    What it says that it does is added to ``stages`` as it begins, each with the seconds since the
    start; they are there too where it fails.

    Raises:
        GuestError: it asks, loops, has no room, does nothing, or does not end in its time.
        NoSpaceError: this computer has no room for its disk.
        HostError: the host does not start the machine.
    """
    origin = loaded.sheet.origin
    with _kernel_of(loaded, machine) as kernel:
        running = host.start_installing(machine, kernel, progress).machine
        began = time.monotonic()
        console = InstallerConsole(machine.folder / CONSOLE_LOG, stages)
        for press in origin.press:
            time.sleep(press.wait_seconds)
            host.press_keys(running, [*press.keys, *keys_of(press.text)])
        watch = _Watch(
            host, running, console, began, origin.install_seconds, origin.install_quiet_seconds
        )
        watch.run(progress)
    media = tuple(item for item in machine.definition.media if item.purpose != INSTALL_MEDIUM)
    definition = replace(machine.definition, media=media, boot_order=("disk",))
    write_definition(machine.folder, definition)


@contextmanager
def _kernel_of(loaded: LoadedSheet, machine: YardMachine) -> Iterator[KernelBoot | None]:
    """The kernel that a sheet boots, its initrd with the answers; the latter goes at the end."""
    origin = loaded.sheet.origin
    if not origin.kernel:
        yield None
        return
    path = loaded.file(origin.kernel, "origin.kernel").resolve()
    initrd = loaded.file(origin.initrd, "origin.initrd").resolve() if origin.initrd else None
    made: Path | None = None
    try:
        if initrd and origin.answers and origin.answers.place == "initrd":
            made = machine.folder / _INITRD
            files = {origin.answers.name: read_answers(loaded, origin.answers)}
            _write_initrd(made, initrd, files)
            initrd = made.resolve()
        yield KernelBoot(path, initrd, origin.kernel_arguments)
    finally:
        if made:
            made.unlink(missing_ok=True)


def _write_initrd(target: Path, source: Path, files: dict[str, bytes]) -> None:
    try:
        raw = source.read_bytes()
        target.touch(0o600)  # answers may hold passwords
        target.write_bytes(raw + bytes(-len(raw) % 4) + build_file_archive(files))
    except OSError as error:
        raise environment_error(error, target, "writing") from error


@dataclass
class _Watch:
    """Waits for an installer's end."""

    host: InstallingHost
    machine: YardMachine
    console: InstallerConsole
    began: float
    within_seconds: int
    quiet_seconds: int

    def run(self, progress: Progress) -> None:
        active, operations = self.began, 0
        while not self.host.await_off(self.machine, _LOOK_SECONDS):
            now = time.monotonic()
            second = int(now - self.began)
            count = self._count_operations()
            if self.console.read(second) or count != operations:
                active, operations = now, count
            progress(Step(self._told_stage(), second, 0, "s", self._shown_line()))
            self._judge(second, int(now - active))
        self.console.read(int(time.monotonic() - self.began))
        if self.console.no_room:
            self._end(messages.INSTALLER_HAS_NO_ROOM.format(line=self.console.no_room))

    def _judge(self, second: int, idle: int) -> None:
        if self.host.is_out_of_room(self.machine):
            raise NoSpaceError(
                messages.HOST_HAS_NO_ROOM.format(
                    name=self.machine.definition.name, folder=self.machine.folder
                )
            )
        if idle >= _ASKING_SECONDS and self.console.no_room:
            self._end(messages.INSTALLER_HAS_NO_ROOM.format(line=self.console.no_room))
        if idle >= _ASKING_SECONDS and self.console.question:
            self._end(messages.INSTALLER_ASKS.format(question=self.console.question))
        if self.console.is_looping:
            self._end(messages.INSTALLER_LOOPS)
        if idle >= self.quiet_seconds:
            self._end(messages.INSTALLER_IS_IDLE.format(seconds=idle))
        if second > self.within_seconds:
            self._end(messages.INSTALLER_DOES_NOT_END.format(seconds=self.within_seconds))

    def _count_operations(self) -> int:
        with suppress(UnfinishedError):  # it may just have ended
            return self.host.disk_operations(self.machine)
        return 0

    def _told_stage(self) -> str:
        if not self.console.stages:
            return "installing"
        name = self.console.stage
        percent = self.console.percent
        return f"installing: {name}" + (f" {percent}%" if percent is not None else "")

    def _shown_line(self) -> str:
        return self.console.last or (self.console.lines[-1] if self.console.lines else "")

    def _end(self, reason: str) -> None:
        stages = len(self.console.stages)
        place = (
            messages.INSTALLER_STAGE.format(stage=self.console.stage, number=stages)
            if stages
            else messages.INSTALLER_NO_STAGE
        )
        raise GuestError(
            messages.INSTALLER_STUCK.format(reason=reason, place=place),
            stages="\n".join(f"{second} s: {name}" for name, second in self.console.stages),
            output="\n".join(self.console.end),
        )
