"""Building a reference machine from a sheet: verify, make, boot, run the tasks, leave it right.

Until the machine has its folder, nothing half-made is left. From then on a failure keeps the
machine for inspection, switched off, and its state says in which phase the build ended.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, cast

from zeroseal.errors import (
    GuestError,
    MissingError,
    OutputExistsError,
    UnfinishedError,
    UsageError,
    ZeroSealError,
)
from zeroseal.machines.blueprint import (
    ANSWERS_FILE,
    KEY_FILE,
    SEED_FILE,
    attach_media,
    define_machine,
)
from zeroseal.machines.definition import (
    write_definition,
)
from zeroseal.machines.hosts.choose import choose_host, host_of
from zeroseal.machines.hosts.host import Host, Login
from zeroseal.machines.journal import BuildJournal, packages_on
from zeroseal.machines.origin import MEBIBYTE, check_media, make_empty_disk, make_first_disk
from zeroseal.machines.sheet.load import LoadedSheet
from zeroseal.machines.simulated_use import live_through
from zeroseal.machines.tasks import TaskReport, TaskRunner, check_files
from zeroseal.machines.yard import MachineState, Yard, YardMachine, write_state
from zeroseal.messages import machines as messages
from zeroseal.progress import Progress, quiet

if TYPE_CHECKING:
    from zeroseal.machines.hosts.host import InstallingHost

_FIRST_BOOT_ENDED = "if command -v cloud-init >/dev/null; then cloud-init status --wait; fi; true"
_FIRST_BOOT_SECONDS = 1800


@dataclass(frozen=True)
class BuildResult:
    """A built machine.

    Attributes:
        is_new: whether it was built now; otherwise it was there and is what the sheet asks for.
        tasks: what was run in it.
        messages: what else is to be known, sentences.
        seconds: how long it took.
    """

    machine: YardMachine
    is_new: bool
    is_simulated: bool
    tasks: tuple[TaskReport, ...] = ()
    messages: tuple[str, ...] = ()
    seconds: int = 0


@dataclass(frozen=True)
class BuildWish:
    """How to build.

    Attributes:
        host: instead of the sheet's; empty for that.
        again: build even what is there and up to date.
        now: the moment of the build, seconds since 1970.
    """

    now: int
    host: str = ""
    again: bool = False


def build_machine(
    loaded: LoadedSheet, yard: Yard, wish: BuildWish, progress: Progress = quiet
) -> BuildResult:
    """Makes the machine that a sheet describes, unless it is there already.

    Raises:
        UsageError, MissingError, DamagedError: the sheet or a file that it names is wrong.
        RefusedError: the machine's name is another machine's; or another command builds it now.
        GuestError, HostError: a phase failed; the machine is kept, switched off.
        UnfinishedError: no space.
    """
    began = time.monotonic()
    name, existing = _choose_name(loaded, yard, wish)
    with yard.claimed(name):
        if existing and not wish.again:
            host = host_of(existing, yard, wish.now)
            return BuildResult(existing, is_new=False, is_simulated=host.is_simulated)
        host_name = wish.host or loaded.sheet.machine.host
        connection = loaded.sheet.machine.connection
        host = choose_host(host_name, yard, wish.now, loaded.sheet.simulated, connection=connection)
        host.check_ready()
        check_files(loaded)
        media = check_media(loaded, progress)
        notes = _create(loaded, yard, name, host_name, media, progress)
        journal = BuildJournal(
            folder=yard.folder / name,
            machine=name,
            sheet=loaded.path.name,
            sheet_digest=loaded.digest,
            host=host_name,
            began_at=wish.now,
        )
        with _kept_on_failure(yard, name, host, journal):
            bringing = _Bringing(loaded, yard, yard.get(name), host, wish.now, journal, progress)
            more = bringing.run()
    return BuildResult(
        machine=yard.get(name),
        is_new=True,
        is_simulated=host.is_simulated,
        tasks=journal.tasks,
        messages=(*notes, *more),
        seconds=int(time.monotonic() - began),
    )


# -- before the machine has its folder


def _choose_name(
    loaded: LoadedSheet, yard: Yard, wish: BuildWish
) -> tuple[str, YardMachine | None]:
    """The machine's name, and the machine if it is there and is what the sheet asks for."""
    settings = loaded.sheet.machine
    mine = [m for m in yard.machines() if m.definition.built_from == loaded.digest]
    finished = next((machine for machine in mine if not machine.state.unfinished), None)
    if settings.numbers is None:
        name = settings.name
        return name, finished if finished and finished.definition.name == name else None
    if finished and not wish.again:
        return finished.definition.name, finished
    if mine and not finished:
        return mine[0].definition.name, None  # tried again, under the number it has
    numbers = settings.numbers
    return yard.next_name(numbers.prefix, numbers.first, numbers.last, numbers.digits), None


def _create(
    loaded: LoadedSheet,
    yard: Yard,
    name: str,
    host_name: str,
    media: list[Path],
    progress: Progress,
) -> list[str]:
    """Makes the machine's folder; one of the same name gives way as far as that is safe."""
    old = _old_machine(loaded, yard, name)
    notes: list[str] = []

    def make_room() -> None:
        if old:
            notes.append(_give_way(yard, old))

    with yard.new_machine(name, make_room) as folder:
        disk = make_first_disk(loaded, folder, progress)
        definition = define_machine(loaded, yard, name, disk, host_name, old)
        definition = attach_media(loaded, folder, definition, media)
        for number, size_mib in enumerate(loaded.sheet.machine.more_disks_mib):
            make_empty_disk(folder / definition.more_disks[number], size_mib * MEBIBYTE)
        write_definition(folder, definition)
        write_state(folder, MachineState(unfinished="it did not finish"))
    return notes


def _old_machine(loaded: LoadedSheet, yard: Yard, name: str) -> YardMachine | None:
    if not (yard.folder / name).exists():
        return None
    try:
        old = yard.get(name)
    except MissingError:
        old = None
    if old is None or not old.definition.built_from or old.definition.sheet != str(loaded.path):
        raise OutputExistsError(
            messages.EXISTING_FOLDER_NOT_OF_SHEET.format(folder=yard.folder / name)
        )
    if _runs(yard, old):
        raise OutputExistsError(messages.RUNNING_MACHINE_NOT_REBUILT.format(name=name))
    if old.state.running:  # its build was killed
        yard.set_state(name, replace(old.state, running=False, pid=0, ssh_port=0))
    return yard.get(name)


def _runs(yard: Yard, machine: YardMachine) -> bool:
    """Whether a machine really runs; a killed build can have left word that it does."""
    if not machine.state.running:
        return False
    host = host_of(machine, yard, 0)
    return host.is_running(machine) and not (host.is_simulated and machine.state.unfinished)


def _give_way(yard: Yard, old: YardMachine) -> str:
    """A machine that was finished is moved aside: it may hold months of patches."""
    name = old.definition.name
    if old.state.unfinished:
        yard.remove(name, with_disk=True)
        return "The rest of the last build, which had failed, was removed."
    stamp = datetime.fromtimestamp(old.disk.stat().st_mtime, UTC).strftime("%Y%m%d-%H%M%S")
    aside = f"{name}-until-{stamp}"
    yard.rename(name, aside)
    return (
        f"The previous machine is now {aside}, complete and switched off; remove "
        "it when you no longer need it."
    )


# -- from then on


@contextmanager
def _kept_on_failure(yard: Yard, name: str, host: Host, journal: BuildJournal) -> Iterator[None]:
    """Whatever ends the build: no process is left, and the machine's state says why.

    The machine was unfinished from the first; only here it is said to be finished.
    """
    reason = "it was interrupted"
    try:
        yield
        journal.result = "built"
        journal.write()
        yard.set_state(name, replace(yard.get(name).state, unfinished=""))
        reason = ""
    except ZeroSealError as error:
        reason = error.message
        kept = f"{error.message} (the machine {name} is kept, switched off, for inspection)"
        raise type(error)(kept, **error.facts) from error
    finally:
        if reason:
            host.cut_power(yard.get(name))
            with suppress(UnfinishedError):  # then it says what it said from the first
                state = replace(yard.get(name).state, running=False, unfinished=reason)
                yard.set_state(name, state)
                journal.result = reason
                journal.write()


@dataclass
class _Bringing:
    """Brings a machine that has its folder to where its sheet wants it."""

    loaded: LoadedSheet
    yard: Yard
    machine: YardMachine
    host: Host
    now: int
    journal: BuildJournal
    progress: Progress

    @property
    def name(self) -> str:
        return self.machine.definition.name

    def run(self) -> list[str]:
        """Returns what else is to be known, sentences."""
        sheet, journal = self.loaded.sheet, self.journal
        if sheet.origin.base_disk:
            journal.packages_before = packages_on(self.machine.disk)
        else:
            with self._phase("install"):
                self._install()
        with self._phase("boot"):
            self.host.start(self.yard.get(self.name), is_bound=True, progress=self.progress)
        if self.host.is_simulated or _wants_shell(self.loaded):
            self._run_tasks(self.yard.get(self.name))
        else:
            with self._phase("first boot"):
                self.host.wait_until_settled(
                    self.yard.get(self.name), sheet.connect.within_seconds, self.progress
                )
        if self.host.is_simulated:
            with self._phase("use"):
                live_through(self.yard.get(self.name), sheet, self.yard, self.now)
        with self._phase("leave"):
            notes = self._leave()
        journal.packages_after = packages_on(self.machine.disk)
        return notes

    def _install(self) -> None:
        if self.host.is_simulated:
            raise UsageError(messages.SIMULATED_HOST_CANNOT_INSTALL_SYSTEM)
        from zeroseal.machines.install import install

        host = cast("InstallingHost", self.host)
        stages: list[tuple[str, int]] = []
        try:
            install(self.loaded, host, self.yard.get(self.name), self.progress, stages)
        finally:
            self.journal.stages = tuple(stages)

    def _run_tasks(self, machine: YardMachine) -> None:
        sheet, host = self.loaded.sheet, self.host
        with self._phase("reach"):
            login = login_of(machine, sheet.connect.by)
            shell = host.open_shell(machine, login, sheet.connect.within_seconds, self.progress)
        try:
            runner = TaskRunner(self.loaded, shell, self.progress, host.is_simulated)
            with self._phase("first boot"):
                if not host.is_simulated:
                    shell.doing = "waiting for the first boot"
                    shell.run(
                        _FIRST_BOOT_ENDED,
                        as_root=True,
                        timeout_seconds=_FIRST_BOOT_SECONDS,
                        is_patch=False,
                    )
            with self._phase("tasks"):
                self.journal.tasks = tuple(runner.run_all(sheet.task))
            with self._phase("leave"):
                runner.check(sheet.leave.must, "what must be true")
        finally:
            shell.close()

    def _leave(self) -> list[str]:
        leave, machine = self.loaded.sheet.leave, self.yard.get(self.name)
        notes = list(self.host.stop(machine, leave.shutdown_seconds, self.progress).messages)
        if leave.detach_media:
            write_definition(machine.folder, machine.definition.without_media())
            for file in (SEED_FILE, ANSWERS_FILE):
                (machine.folder / file).unlink(missing_ok=True)
        return notes

    @contextmanager
    def _phase(self, name: str) -> Iterator[None]:
        """Names the phase in whatever goes wrong."""
        with self.journal.phase(name):
            try:
                yield
            except GuestError as error:
                raise type(error)(
                    messages.IN_PHASE.format(name=name, message=error.message), **error.facts
                ) from error


def _wants_shell(loaded: LoadedSheet) -> bool:
    sheet = loaded.sheet
    return bool(sheet.task or sheet.leave.must or sheet.throwaway_accounts)


def login_of(machine: YardMachine, way: str) -> Login | None:
    """How tasks log in to a machine that was built here; None where its agent is asked.

    Raises:
        MissingError: its key is not there.
    """
    if way == "agent" or machine.definition.host == "simulated":
        return None
    path = machine.folder / KEY_FILE
    accounts = machine.definition.throwaway_accounts
    if not path.is_file() or not accounts:
        raise MissingError(messages.NO_BUILD_ACCOUNT_WITH_KEY.format(name=machine.definition.name))
    return Login(accounts[0], path.read_text("utf-8"))
