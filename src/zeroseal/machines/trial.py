"""A trial: two throwaway machines are booted from overlays of an image, and their disks are read.

Did each identity grow again, are the two different, did a service fail, does what the sheet accepts
hold? The image itself is only read. What a login shows is extra evidence; the disks decide.
"""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import RefusedError
from zeroseal.guests.guest import Guest
from zeroseal.guests.identity_value import IdentityValue
from zeroseal.guests.linux.failures import failed_on_console, read_failed_services
from zeroseal.guests.registry.paths import Registry
from zeroseal.guests.system import as_windows
from zeroseal.guests.windows.answer_build import FirstStartAnswers, build_answer_file
from zeroseal.guests.windows.answer_files import CACHED_PATHS
from zeroseal.guests.windows.issue import issue_identity
from zeroseal.guests.windows.services import WindowsServices
from zeroseal.images.detect import opened_image
from zeroseal.images.facts import ImageFacts, read_image_facts
from zeroseal.machines.disk_change import changed_disk
from zeroseal.machines.guest_life import new_key_pairs
from zeroseal.machines.hosts.choose import choose_host
from zeroseal.machines.hosts.console import CONSOLE_LOG, plain_text
from zeroseal.machines.hosts.host import Host, Login, Shell
from zeroseal.machines.hosts.simulated import LABEL
from zeroseal.machines.sheet.model import Accept
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
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.check import check_image
from zeroseal.sealing.compare import SharedFile, find_shared_files, read_values
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import resolve
from zeroseal.sealing.verdict import Level, Verdict

_SSH_SERVERS = ("/usr/sbin/sshd", "/usr/sbin/dropbear")
_SYSTEMD = ("/usr/lib/systemd/systemd", "/lib/systemd/systemd")
# each trial machine has a network of its own, where all get the same address
_NOT_COMPARED = frozenset(("leased address",))
_FAILED_UNITS = "systemctl --failed --plain --no-legend"
_UNIT = re.compile(
    r"^(\S+\.(?:service|socket|mount|timer|target|path|swap|device))\s", re.MULTILINE
)
_LONGEST_CONSOLE = 16 << 20


@dataclass(frozen=True)
class TrialMachine:
    """What one of the two showed.

    Attributes:
        values: its identity, from its disk.
        failed: services that failed, by the disk, the console and the login.
        refused: what should hold on a clone and does not, sentences.
        messages: what else is to be known.
    """

    name: str
    values: tuple[IdentityValue, ...]
    failed: tuple[str, ...]
    refused: tuple[str, ...]
    messages: tuple[str, ...]


@dataclass(frozen=True)
class Regrowth:
    """Whether one kind of identity grew again on both, and differs; ``is_good`` says both."""

    kind: str
    is_good: bool
    text: str


@dataclass(frozen=True)
class TrialResult:
    """A finished trial.

    Attributes:
        kept: secrets and files that look like identity, which both have from the image.
        seconds: how long it took.
    """

    image: ImageFacts
    is_simulated: bool
    machines: tuple[TrialMachine, ...]
    regrowth: tuple[Regrowth, ...]
    seconds: int
    kept: tuple[SharedFile, ...] = ()

    @property
    def is_good(self) -> bool:
        """Whether clones of this image come up as machines of their own."""
        sound = all(not item.failed and not item.refused for item in self.machines)
        return sound and all(item.is_good for item in self.regrowth)


def try_image(image: Path, wish: TrialWish, progress: Progress = quiet) -> TrialResult:
    """Boots two machines from overlays of an image and reads their disks afterwards.

    Raises:
        RefusedError: the image is not sealed, or changed while it was tried.
        GuestError, HostError: a machine did not come up; nothing is left behind.
    """
    began = time.monotonic()
    checked = check_image(image, Level.QUICK, progress, policy=resolve(reach=wish.reach))
    if checked.verdict not in (Verdict.SEALED, Verdict.CLEAN):
        raise RefusedError(
            messages.ONLY_SEALED_IMAGES_CAN_BE_TRIED.format(
                image=image, verdict=checked.verdict.value, reason=checked.reason
            )
        )
    before = _fingerprint(image)
    facts = read_image_facts(image, wish.reach)
    is_windows = _is_windows(image, wish)
    with throwaway_yard(wish.host) as yard:
        # a throwaway clone must not enrol anywhere as if it were one to stay
        host = choose_host(wish.host, yard, wish.now, is_isolated=True)
        host.check_ready()
        private, public = new_key_pairs("trial")["ed25519"]
        for number, name in enumerate(NAMES):
            make_machine(yard, name, facts, wish, public.decode().strip(), number)
            if is_windows:
                _tell_windows(yard.get(name), wish.now)
        login = Login(ACCOUNT, private.decode()) if wish.with_seed else None
        results = _run_both(yard, host, login, wish, progress)
        machines = tuple(_read_machine(yard.get(name), wish, *results[name]) for name in NAMES)
        regrowth = tuple(_judge(yard.get(NAMES[0]).disk, machines, wish))
        policy = resolve(reach=wish.reach)
        kept = find_shared_files([yard.get(name).disk for name in NAMES], policy)
    if _fingerprint(image) != before:
        raise RefusedError(messages.CHANGED_DURING_TRIAL.format(image=image))
    seconds = int(time.monotonic() - began)
    return TrialResult(facts, host.is_simulated, machines, regrowth, seconds, kept)


# -- the two machines


def _is_windows(image: Path, wish: TrialWish) -> bool:
    """Whether the image holds a Windows, which no host but the simulated one starts here."""
    with opened_image(image, reach=wish.reach) as disk:
        is_windows = as_windows(Inspection.read(disk).system) is not None
    if is_windows and wish.host != LABEL:
        raise RefusedError(messages.WINDOWS_TRIAL_IS_SIMULATED.format(image=image, label=LABEL))
    return is_windows


def _tell_windows(machine: YardMachine, now: int) -> None:
    """A Windows takes no seed: it is told in its disk, as a clone is."""
    with changed_disk(machine.disk, now) as inspection:
        system, name = as_windows(inspection.system), machine.definition.name
        assert system is not None  # the image has one
        identity = system.windows_facts.identity
        if identity.first_start.makes_identity:
            answers = build_answer_file(FirstStartAnswers(name))
            system.guest.put_file(CACHED_PATHS[0], answers, 0o644)
        else:
            issue_identity(system.registry, name, identity.sid, now)


def _run_both(
    yard: Yard, host: Host, login: Login | None, wish: TrialWish, progress: Progress
) -> dict[str, tuple[list[str], list[str], list[str]]]:
    """Boots both at once; of each: what failed, what was refused, what is to be told."""
    found = {}
    try:
        for name in NAMES:
            host.start(yard.get(name), is_bound=True, progress=progress)
        for name in NAMES:
            found[name] = _visit(yard.get(name), host, login, wish, progress)
        for name in NAMES:
            notes = host.stop(yard.get(name), wish.within_seconds, progress).messages
            found[name][2].extend(notes)
    finally:
        for machine in yard.machines():
            host.cut_power(machine)
    return found


def _visit(
    machine: YardMachine, host: Host, login: Login | None, wish: TrialWish, progress: Progress
) -> tuple[list[str], list[str], list[str]]:
    if host.is_simulated:
        return [], [], []
    if login is None:
        host.wait_until_settled(machine, wish.within_seconds, progress)
        notes = ["without a seed nobody can log in: only its disk and console were examined"]
        return [], [], notes
    shell = host.open_shell(machine, login, wish.within_seconds, progress)
    try:
        shell.doing = f"waiting for the first boot of {machine.definition.name}"
        shell.run(SETTLED, as_root=True, timeout_seconds=wish.within_seconds, is_patch=False)
        failed = _UNIT.findall(
            shell.run(_FAILED_UNITS, as_root=True, timeout_seconds=120, is_patch=False).text
        )
        refused = _ask_accepted(shell, wish.accept)
    finally:
        shell.close()
    return (failed if wish.accept.no_failed_units else []), refused, ["a login over SSH worked"]


def _ask_accepted(shell: Shell, accept: Accept) -> list[str]:
    refused = []
    for service in accept.services:
        answer = shell.run(
            f"systemctl is-active {service}", as_root=True, timeout_seconds=120, is_patch=False
        )
        if answer.status:
            refused.append(f"the service {service} is {answer.text.strip() or 'not there'}")
    for command in accept.commands:
        answer = shell.run(command, as_root=True, timeout_seconds=600, is_patch=False)
        if answer.status:
            refused.append(f"{command!r} ended with status {answer.status}")
    return refused


# -- what their disks say


def _read_machine(
    machine: YardMachine,
    wish: TrialWish,
    failed: list[str],
    refused: list[str],
    notes: list[str],
) -> TrialMachine:
    with opened_image(machine.disk) as image:
        inspection = Inspection.read(image)
        values = read_values(inspection)
        guest = inspection.guest
        if wish.accept.no_failed_units:
            failed = failed or read_failed_services(guest)
    if wish.accept.no_failed_units and not failed:  # a console cuts long names
        failed = failed_on_console(_console_lines(machine.folder))
    return TrialMachine(
        name=machine.definition.name,
        values=tuple(values),
        failed=tuple(dict.fromkeys(failed)),
        refused=tuple(refused),
        messages=tuple(notes),
    )


def _console_lines(folder: Path) -> list[str]:
    try:
        raw = (folder / CONSOLE_LOG).read_bytes()[-_LONGEST_CONSOLE:]
    except OSError:
        return []
    return [plain_text(line) for line in raw.splitlines()]


def _judge(disk: Path, machines: tuple[TrialMachine, ...], wish: TrialWish) -> Iterator[Regrowth]:
    with opened_image(disk) as image:
        inspection = Inspection.read(image)
        windows = as_windows(inspection.system)
        if windows:
            wanted = _wanted_of_windows(windows.registry)
        else:
            wanted = _wanted_kinds(inspection.guest)
    for kind in wanted:
        sets = [{v.shown for v in machine.values if v.kind == kind} for machine in machines]
        missing = [machine.name for machine, found in zip(machines, sets, strict=True) if not found]
        if missing:
            yield Regrowth(
                kind, is_good=False, text=f"was not created again on {' and '.join(missing)}"
            )
        elif sets[0] & sets[1]:
            yield Regrowth(kind, is_good=False, text="is the same on both machines")
        else:
            yield Regrowth(kind, is_good=True, text="was created again and differs")
    if wish.with_seed:
        yield _judge_names(machines)
    known = {*wanted, *_NOT_COMPARED, "host name"}
    shared = {
        value.kind
        for value in machines[0].values
        if value in machines[1].values and not value.by_design and value.kind not in known
    }
    for kind in sorted(shared):
        yield Regrowth(kind, is_good=False, text="is the same on both machines")


def _judge_names(machines: tuple[TrialMachine, ...]) -> Regrowth:
    for machine in machines:
        names = {value.shown for value in machine.values if value.kind == "host name"}
        if names != {machine.name}:
            message = ", ".join(sorted(names)) or "empty"
            text = f"{machine.name} did not get its name; its host name is {message}"
            return Regrowth("host name", is_good=False, text=text)
    return Regrowth("host name", is_good=True, text="is what each was given")


def _wanted_of_windows(registry: Registry) -> list[str]:
    kinds = ["security identifier", "machine GUID", "update client ID", "random seed"]
    return kinds + (["SSH host key"] if WindowsServices(registry).is_enabled("sshd") else [])


def _wanted_kinds(guest: Guest) -> list[str]:
    kinds = []
    if any(guest.exists(path) for path in _SYSTEMD) or guest.exists("/etc/machine-id"):
        kinds.append("machine ID")
    if any(guest.exists(path) for path in _SSH_SERVERS):
        kinds.append("SSH host key")
    if any(guest.exists(path) for path in _SYSTEMD):
        kinds.append("random seed")
    return kinds


def _fingerprint(image: Path) -> tuple[int, int]:
    facts = image.stat()
    return facts.st_size, facts.st_mtime_ns
