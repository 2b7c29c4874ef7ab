"""The monthly cycle: patch the unsealed machine, keep a way back, seal a copy, put it on the shelf.

The reference machine is never sealed itself. Tasks that are for the template alone run on a
throwaway copy, which is discarded after the seal.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from zeroseal.errors import RefusedError, UsageError, ZeroSealError
from zeroseal.guests.linux.packages import changed_packages
from zeroseal.images.copying import copy_image_file
from zeroseal.images.facts import read_image_facts
from zeroseal.images.output import write_small_file
from zeroseal.machines import FILE_NAME, snapshots
from zeroseal.machines.blueprint import KEY_FILE
from zeroseal.machines.build import login_of
from zeroseal.machines.definition import new_uuid, write_definition
from zeroseal.machines.hosts.choose import host_of
from zeroseal.machines.hosts.host import Host
from zeroseal.machines.journal import read_package_versions
from zeroseal.machines.readiness import knowledge_of
from zeroseal.machines.sheet.load import LoadedSheet
from zeroseal.machines.sheet.model import Task
from zeroseal.machines.tasks import TaskReport, TaskRunner, check_files
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import templates as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.job import SealRequest, SealResult, seal
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy
from zeroseal.sealing.record import Lineage
from zeroseal.sealing.signing import RecordSigner
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.sentences import counted
from zeroseal.templates.shelf.entry import VERSION_PATTERN, Template
from zeroseal.templates.shelf.intake import NewTemplate, take_in
from zeroseal.templates.shelf.shelf import CURRENT, Shelf

PURPOSE = "renewal"
_BEFORE = "before-renewal"  # while a renewal is under way
NOTES_FILE = "patches.txt"
_DAY = "%Y-%m-%d"
_TOLD_CHANGES = 3


@dataclass(frozen=True)
class RenewWish:
    """How to renew.

    Attributes:
        template: the name on the shelf; empty for the machine's.
        version: on the shelf; empty for the month.
        kept_snapshots: how many snapshots of earlier renewals stay.
        signer: who signs the seal record; None for nobody.
        host: where it is started, instead of where its definition says; empty for that.
        now: seconds since 1970.
    """

    now: int
    template: str = ""
    version: str = ""
    kept_snapshots: int = 3
    policy: Policy = DEFAULT_POLICY
    signer: RecordSigner | None = None
    host: str = ""


@dataclass(frozen=True)
class Renewal:
    """A machine that was renewed.

    Attributes:
        host: where it was started.
        tasks: the patches' tasks, and those on the copy.
        changes: packages that changed, as texts.
        snapshot: the state of the disk after the patches; empty where its format keeps none.
        dropped: older snapshots that went.
        messages: what else is to be known, sentences.
    """

    machine: YardMachine
    host: str
    is_simulated: bool
    tasks: tuple[TaskReport, ...]
    copy_tasks: tuple[TaskReport, ...]
    changes: tuple[str, ...]
    snapshot: str
    dropped: tuple[str, ...]
    sealed: SealResult
    template: Template
    messages: tuple[str, ...]


def renew_machine(
    loaded: LoadedSheet,
    yard: Yard,
    name: str,
    shelf: Shelf,
    wish: RenewWish,
    progress: Progress = quiet,
) -> Renewal:
    """Runs the whole cycle; the machine is left unsealed and off, whatever happens.

    Where something fails, its disk is what it was before, as far as its format keeps snapshots.

    Raises:
        UsageError: a name or version that cannot be one, or is taken; no patch task.
        RefusedError: the machine runs, is unfinished, or is not fit to be sealed.
        GuestError, HostError: a task failed.
        UnfinishedError: no space, or the seal could not be proven.
    """
    machine = yard.get(name)
    title, version = _check_wish(loaded, machine, shelf, wish)
    host = host_of(machine, yard, wish.now, loaded.sheet.simulated, wish.host)
    host.check_ready(machine)
    check_files(loaded)
    with yard.claimed(name), _as_it_was_on_failure(yard, name, wish.now):
        before = read_package_versions(machine.disk)
        patches = [task for task in loaded.sheet.task if task.patch]
        tasks, remarks = _run(loaded, yard, machine, host, patches, progress)
        machine = yard.get(name)
        after = read_package_versions(machine.disk)
        changes = changed_packages(before, after)
        snapshot, dropped = _keep_way_back(machine, version, wish, progress)
        with _copy_to_seal(loaded, yard, machine, host, progress) as (disk, copy_tasks):
            sealed_path = disk.with_name("sealed.qcow2")
            policy = wish.policy.for_machine(knowledge_of(machine.definition, machine.folder))
            lineage = _lineage(shelf, title, changes)
            target = NewFile(sealed_path, "qcow2")
            request = SealRequest(
                source=disk,
                target=target,
                policy=policy,
                now=wish.now,
                signer=wish.signer,
                lineage=lineage,
            )
            sealed = seal(request, progress)
            notes = _notes(machine, wish.now, changes)
            new = NewTemplate(title, version, notes, definition=machine.definition, policy=policy)
            template = take_in(shelf, sealed_path, new, wish.now, progress)
        _write_changes(template, notes, len(before), after, changes)
    return Renewal(
        machine=yard.get(name),
        host=wish.host or machine.definition.host,
        is_simulated=host.is_simulated,
        tasks=tuple(tasks),
        copy_tasks=tuple(copy_tasks),
        changes=tuple(changes),
        snapshot=snapshot,
        dropped=tuple(dropped),
        sealed=sealed,
        template=template,
        messages=tuple(remarks),
    )


@contextmanager
def _as_it_was_on_failure(yard: Yard, name: str, now: int) -> Iterator[None]:
    """Keeps the state of the disk, and goes back to it where the renewal fails."""
    machine = yard.get(name)
    if read_image_facts(machine.disk).format_name != "qcow2":
        yield
        return
    if _BEFORE in [item.name for item in snapshots.list_snapshots(machine)]:
        # an earlier renewal was killed: its machine goes back first
        snapshots.revert(machine, _BEFORE)
    else:
        snapshots.take(machine, _BEFORE, "before a renewal", now)
    try:
        yield
    except BaseException as error:
        snapshots.revert(yard.get(name), _BEFORE)
        if isinstance(error, ZeroSealError):
            told = messages.PUT_BACK.format(message=error.message, name=name)
            raise type(error)(told, **error.facts) from error
        raise
    finally:
        snapshots.drop(yard.get(name), _BEFORE)


def _check_wish(
    loaded: LoadedSheet, machine: YardMachine, shelf: Shelf, wish: RenewWish
) -> tuple[str, str]:
    """Everything that can be refused is refused before the machine is started."""
    name = machine.definition.name
    if machine.state.running:
        raise RefusedError(messages.STOP_MACHINE_FIRST.format(name=name))
    if machine.state.unfinished:
        raise RefusedError(messages.BUILD_FAILED.format(name=name))
    blockers = knowledge_of(machine.definition, machine.folder).blockers
    if blockers:
        raise RefusedError(messages.NOT_FIT_TO_BE_SEALED.format(name=name, blockers=blockers[0]))
    if not any(task.patch for task in loaded.sheet.task):
        raise UsageError(messages.NO_PATCH_TASK.format(path=loaded.path, name=name))
    version = wish.version or datetime.fromtimestamp(wish.now, UTC).strftime("%Y-%m")
    if not re.match(VERSION_PATTERN, version):
        raise UsageError(messages.NOT_VALID_VERSION.format(version=version))
    title = wish.template or name
    taken = [item.entry.title for item in shelf.templates()]
    if f"{title}@{version}" in taken:
        raise UsageError(messages.RENEWED_VERSION_TAKEN.format(title=title, version=version))
    return title, version


def _run(
    loaded: LoadedSheet,
    yard: Yard,
    machine: YardMachine,
    host: Host,
    tasks: list[Task],
    progress: Progress,
) -> tuple[list[TaskReport], list[str]]:
    """Starts a machine, runs tasks, shuts it down; it is off afterwards in any case."""
    connect = loaded.sheet.connect
    try:
        running = host.start(machine, is_bound=True, progress=progress).machine
        login = login_of(machine, connect.by)
        shell = host.open_shell(running, login, connect.within_seconds, progress)
        try:
            runner = TaskRunner(loaded, shell, progress, host.is_simulated)
            reports = runner.run_all(tasks)
        finally:
            shell.close()
        bound = loaded.sheet.leave.shutdown_seconds
        done = host.stop(yard.get(running.folder.name), bound, progress)
    finally:
        host.cut_power(yard.get(machine.folder.name))
    return reports, list(done.messages)


def _keep_way_back(
    machine: YardMachine, version: str, wish: RenewWish, progress: Progress
) -> tuple[str, list[str]]:
    """A snapshot after the patches; of those of earlier renewals the last ones stay."""
    progress(Step("taking a snapshot", 0, 0))
    if read_image_facts(machine.disk).format_name != "qcow2":
        return "", []
    names = [item.name for item in snapshots.list_snapshots(machine)]
    name = f"renewed-{version}"
    if name in names:
        name += datetime.fromtimestamp(wish.now, UTC).strftime("-%d-%H%M%S")
    snapshots.take(machine, name, PURPOSE, wish.now)
    return name, snapshots.drop_older(machine, PURPOSE, wish.kept_snapshots)


@contextmanager
def _copy_to_seal(
    loaded: LoadedSheet, yard: Yard, machine: YardMachine, host: Host, progress: Progress
) -> Iterator[tuple[Path, list[TaskReport]]]:
    """A disk to seal: the machine's own, or that of a throwaway copy after the copy's tasks.

    The sealed disk is written beside it, into the copy's folder, and goes with it.
    """
    name = f"{machine.definition.name}-copy"[:63].rstrip("-")
    if (yard.folder / name).exists():
        raise RefusedError(
            messages.EARLIER_RENEWAL_LEFT.format(folder=yard.folder / name, name=name)
        )
    reports: list[TaskReport] = []
    try:
        with yard.new_machine(name) as folder:
            progress(Step("copying the machine", 0, 0))
            copy_image_file(machine.disk, folder / machine.disk.name)
            more = [Path(name) for name in machine.definition.more_disks]
            for path in more:
                copy_image_file(machine.folder / path, folder / path.name)
            key = machine.folder / KEY_FILE
            if key.is_file():
                write_small_file(folder / KEY_FILE, key.read_bytes(), 0o600)
            # its own UUID stays away from the machine's; the disk is the same
            copy = replace(
                machine.definition,
                name=name,
                uuid=new_uuid(),
                disk=machine.disk.name,
                more_disks=tuple(path.name for path in more),
            )
            write_definition(folder, copy)
        if loaded.sheet.on_copy:
            reports, _told = _run(
                loaded, yard, yard.get(name), host, list(loaded.sheet.on_copy), progress
            )
        yield yard.get(name).disk, reports
    finally:
        if (yard.folder / name / FILE_NAME).is_file():
            host.cut_power(yard.get(name))
            yard.remove(name, with_disk=True)


def _lineage(shelf: Shelf, name: str, changes: list[str]) -> Lineage:
    """What the new template takes the place of, and what changed since."""
    same = [item for item in shelf.templates() if item.entry.name == name]
    last = next((item.entry for item in same if item.state == CURRENT), None)
    return Lineage(
        previous=last.title if last else "",
        previous_digest=last.digest if last else "",
        patches=tuple(changes),
    )


def _notes(machine: YardMachine, now: int, changes: list[str]) -> str:
    day = datetime.fromtimestamp(now, UTC).strftime(_DAY)
    count = len(changes)
    named = ", ".join(changes[:_TOLD_CHANGES]) + (", ..." if count > _TOLD_CHANGES else "")
    what = f"{counted(count, 'package')} changed: {named}" if count else "no changes"
    return f"renewed {day} from {machine.definition.name}; {what}"


def _write_changes(
    template: Template, notes: str, before: int, after: dict[str, str], changes: list[str]
) -> None:
    """The whole lists go beside the template, for people."""
    lines = [f"{template.entry.title}, {notes.partition(';')[0]}", ""]
    lines += ["changed:", *(f"  {text}" for text in changes or ["nothing"]), ""]
    lines += [f"packages ({len(after)}, before {before}):"]
    lines += [f"  {name} {version}" for name, version in sorted(after.items())]
    write_small_file(template.folder / NOTES_FILE, ("\n".join(lines) + "\n").encode())
