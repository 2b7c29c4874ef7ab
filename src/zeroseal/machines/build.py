"""Building a reference machine on the simulated host, from a build sheet."""

from __future__ import annotations

import hashlib
from pathlib import Path

from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, MissingError, UsageError
from zeroseal.guests.accounts import find_account, read_accounts
from zeroseal.images.copying import copy_image_file
from zeroseal.machines.definition import MachineDefinition, new_mac, new_uuid, write_definition
from zeroseal.machines.disk_change import changed_disk
from zeroseal.machines.guest_life import GuestLife
from zeroseal.machines.seed import Seed, SeedAccount
from zeroseal.machines.sheet import BuildSheet, UsedFile, load_sheet
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.survey import read_image_facts
from zeroseal.volumes.swap import data_range, find_swap

_DAY = 86_400
_PIECE_BYTES = 4 << 20


def build_machine(
    sheet_path: Path, yard: Yard, now: int, progress: Progress = quiet
) -> YardMachine:
    """Makes the machine that a sheet describes: a first boot, some use, a shutdown.

    Args:
        sheet_path: the build sheet; its base disk is looked for beside it.
        yard: where the machine will live.
        now: the moment of the shutdown, seconds since 1970; the use lies before it.
        progress: told of each stage.

    Raises:
        UsageError: the sheet is wrong.
        MissingError, DamagedError: the base disk is not there, or its checksum is wrong.
        OutputExistsError: there is a machine of that name. Nothing half-made is left.
    """
    sheet = load_sheet(sheet_path)
    base = sheet_path.parent / sheet.origin.base_disk
    with yard.new_machine(sheet.machine.name) as folder:
        verify_checksum(base, sheet.origin.sha256, progress)
        image = read_image_facts(base)
        if image.other_files:
            raise UsageError(f"the base disk {base} needs other files too: give a whole disk")
        disk = folder / f"disk.{image.format_name}"
        copy_image_file(base, disk)
        definition = _definition(sheet, yard, disk.name)
        progress(Step("first boot and use", 0, 0))
        live_through(disk, sheet, definition, yard, now)
        write_definition(folder, definition)
    return yard.get(sheet.machine.name)


def verify_checksum(base: Path, expected: str, progress: Progress = quiet) -> None:
    """Reads a base disk and compares its SHA-256.

    Raises:
        MissingError: it is not there.
        DamagedError: it has another checksum.
    """
    if not base.is_file():
        raise MissingError(
            f"the base disk {base} is not there: correct origin.base_disk in the sheet"
        )
    hasher, size = hashlib.sha256(), base.stat().st_size
    with base.open("rb") as file:
        while piece := file.read(_PIECE_BYTES):
            hasher.update(piece)
            progress(Step("verifying the base disk", file.tell(), size))
    if hasher.hexdigest() != expected:
        raise DamagedError(
            f"the base disk {base} is not the one that the sheet names: its SHA-256 is "
            f"{hasher.hexdigest()}; fetch it again, or correct origin.sha256",
            expected=expected,
            got=hasher.hexdigest(),
        )


def live_through(
    disk: Path, sheet: BuildSheet, definition: MachineDefinition, yard: Yard, now: int
) -> None:
    """A first boot with the sheet's seed, the use that it describes, and a shutdown."""
    seed = seed_of(sheet, definition.uuid)
    with changed_disk(disk, now) as subject:
        life = GuestLife(subject.opened.guest, now, definition.mac, yard.lease, seed)
        life.start()
        for day in range(sheet.use.days, 0, -1):
            if sheet.use.visitor:
                text = f"Accepted publickey for {sheet.use.visitor} from 192.0.2.17"
                life.log("sshd[412]", text, back_seconds=day * _DAY)
        for file in sheet.use.files:
            _use_file(life, file)
        for file in sheet.use.files:
            if file.deleted:
                life.guest.remove(file.path)
        if sheet.use.swap_text:
            for volume in subject.opened.swaps:
                _dirty_swap(volume.store, sheet.use.swap_text.encode())
        life.stop()


def seed_of(sheet: BuildSheet, machine_uuid: str) -> Seed:
    """The seed that a sheet means for one machine."""
    return Seed(
        instance_id=f"i-{machine_uuid[:8]}",
        host_name=sheet.seed.host_name,
        domain=sheet.seed.domain,
        root_password_hash=sheet.seed.root_password_hash,
        accounts=tuple(
            SeedAccount(
                user.name, user.full_name, tuple(user.public_keys), user.password_hash, user.admin
            )
            for user in sheet.seed.users
        ),
    )


def _definition(sheet: BuildSheet, yard: Yard, disk: str) -> MachineDefinition:
    machine = sheet.machine
    taken = yard.macs()
    if machine.mac and machine.mac in taken:
        raise UsageError(f"the MAC {machine.mac} is taken by another machine of {yard.folder}")
    return MachineDefinition(
        name=machine.name,
        uuid=new_uuid(),
        mac=machine.mac or new_mac(taken),
        disk=disk,
        cpus=machine.cpus,
        memory_mib=machine.memory_mib,
        firmware=machine.firmware,
        notes=machine.notes,
    )


def _use_file(life: GuestLife, file: UsedFile) -> None:
    account = find_account(read_accounts(life.guest), file.owner)
    if account is None:
        raise UsageError(
            f"the sheet's file {file.path} belongs to {file.owner!r}, which is no account"
        )
    mode = 0o600 if account.uid else 0o644
    life.put(file.path, (file.text * file.repeat).encode(), mode, account.uid, account.gid)


def _dirty_swap(store: Store, text: bytes) -> None:
    area = find_swap(store)
    if area:
        start, length = data_range(store, area)
        store.write(start, (text + b" ") * min(200, length // (len(text) + 1)))
