"""Learning by experiment: an image is started as two machines, and their files are compared.

The first machine is started once more, so that what changes with time is told from what stays.
"""

from __future__ import annotations

import shutil
import time
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import UnsupportedError, environment_error
from zeroseal.guests.system import as_windows
from zeroseal.images.detect import opened_image
from zeroseal.images.facts import ImageFacts, read_image_facts
from zeroseal.machines.guest_life import new_key_pairs
from zeroseal.machines.hosts.choose import choose_host
from zeroseal.machines.hosts.host import Host, Login
from zeroseal.machines.sheet.load import LoadedSheet
from zeroseal.machines.tasks import TaskRunner
from zeroseal.machines.throwaway import (
    ACCOUNT,
    NAMES,
    SETTLED,
    TrialWish,
    make_machine,
    throwaway_yard,
)
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import machines as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.linux.learned import Learned, learn_from
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy

_FIRST_STATE = "first.qcow2"


@dataclass(frozen=True)
class LearnResult:
    """What two machines of an image showed.

    Attributes:
        seconds: how long it took.
        notes: what else is to be known of the machines, sentences.
    """

    image: ImageFacts
    is_simulated: bool
    learned: Learned
    notes: tuple[str, ...]
    seconds: int

    @property
    def is_good(self) -> bool:
        """Whether nothing was found that looks like identity and that no trace covers."""
        return not self.learned.uncovered and not self.learned.shared_values


def learn_image(
    image: Path,
    wish: TrialWish,
    sheet: LoadedSheet | None = None,
    policy: Policy = DEFAULT_POLICY,
    progress: Progress = quiet,
) -> LearnResult:
    """Starts two machines from overlays of an image, the first one twice, and compares all files.

    Args:
        image: sealed or not; it is only read.
        wish: how to start them.
        sheet: whose tasks are run on both, after their first start.
        policy: whose traces may cover a file.
        progress: told of each step.

    Raises:
        UnsupportedError: the image holds no Linux.
        GuestError, HostError: a machine did not come up; nothing is left behind.
    """
    began = time.monotonic()
    facts = read_image_facts(image, wish.reach)
    with opened_image(image, reach=wish.reach) as disk:
        if as_windows(Inspection.read(disk).system):
            raise UnsupportedError(messages.LEARN_IS_FOR_LINUX.format(image=image))
    with throwaway_yard(wish.host) as yard:
        host = choose_host(wish.host, yard, wish.now, is_isolated=True)
        host.check_ready()
        private, public = new_key_pairs("trial")["ed25519"]
        for number, name in enumerate(NAMES):
            make_machine(yard, name, facts, wish, public.decode().strip(), number)
        login = Login(ACCOUNT, private.decode()) if wish.with_seed else None
        notes = _live(yard, host, _Visit(login, wish, sheet, progress))
        progress(Step("comparing files", 0, 0))
        first, other = yard.get(NAMES[0]), yard.get(NAMES[1])
        with ExitStack() as stack:
            inspections = [
                Inspection.read(stack.enter_context(opened_image(path, reach=wish.reach)))
                for path in (image, first.folder / _FIRST_STATE, first.disk, other.disk)
            ]
            base, once, again, two = inspections
            learned = learn_from(base, once, again, two, policy, NAMES)
    seconds = int(time.monotonic() - began)
    return LearnResult(facts, host.is_simulated, learned, tuple(notes), seconds)


@dataclass(frozen=True)
class _Visit:
    """What is done with each machine while it runs."""

    login: Login | None
    wish: TrialWish
    sheet: LoadedSheet | None
    progress: Progress

    def wait(self, machine: YardMachine, host: Host, with_tasks: bool) -> None:
        """Waits until a start has ended, and runs the tasks of the sheet."""
        if self.login is None:
            host.wait_until_settled(machine, self.wish.within_seconds, self.progress)
            return
        within = self.wish.within_seconds
        shell = host.open_shell(machine, self.login, within, self.progress)
        try:
            if not host.is_simulated:
                shell.doing = f"waiting for the start of {machine.definition.name}"
                shell.run(SETTLED, as_root=True, timeout_seconds=within, is_patch=False)
            if self.sheet and with_tasks:
                runner = TaskRunner(self.sheet, shell, self.progress, host.is_simulated)
                runner.run_all(self.sheet.sheet.task)
        finally:
            shell.close()


def _live(yard: Yard, host: Host, visit: _Visit) -> list[str]:
    """Starts both, keeps the first one's disk, and starts that one again; what hosts said."""
    notes: list[str] = []
    within, progress = visit.wish.within_seconds, visit.progress
    try:
        for name in NAMES:
            host.start(yard.get(name), is_bound=True, progress=progress)
        for name in NAMES:
            visit.wait(yard.get(name), host, with_tasks=True)
        for name in NAMES:
            notes += host.stop(yard.get(name), within, progress).messages
        first = yard.get(NAMES[0])
        try:
            shutil.copyfile(first.disk, first.folder / _FIRST_STATE)
        except OSError as error:
            raise environment_error(error, first.folder, "writing to") from error
        host.start(first, is_bound=True, progress=progress)
        visit.wait(yard.get(NAMES[0]), host, with_tasks=False)
        notes += host.stop(yard.get(NAMES[0]), within, progress).messages
    finally:
        for machine in yard.machines():
            host.cut_power(machine)
    return notes
