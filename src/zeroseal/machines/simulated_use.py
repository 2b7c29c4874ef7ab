"""What some weeks of use leave on a disk, as a sheet's ``use`` table says; simulated host only."""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.errors import UsageError
from zeroseal.guests.linux.accounts import find_account, read_accounts
from zeroseal.machines.disk_change import changed_disk
from zeroseal.machines.guest_life import GuestLife
from zeroseal.machines.sheet.model import BuildSheet, UsedFile
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import machines as messages
from zeroseal.volumes.swap import data_range, find_swap

_DAY = 86_400


def live_through(machine: YardMachine, sheet: BuildSheet, yard: Yard, now: int) -> None:
    """Does to a machine's disk what the sheet says its use does.

    Raises:
        UsageError: a file belongs to an account that is not there.
    """
    use = sheet.use
    with changed_disk(machine.disk, now) as inspection:
        life = GuestLife(inspection.guest, now, machine.definition.mac, yard.lease, None)
        for day in range(use.days, 0, -1):
            if use.visitor:
                text = f"Accepted publickey for {use.visitor} from 192.0.2.17"
                life.log("sshd[412]", text, back_seconds=day * _DAY)
        for file in use.files:
            _use_file(life, file)
        for file in use.files:
            if file.deleted:
                life.guest.remove(file.path)
        if use.swap_text:
            for volume in inspection.swaps:
                _dirty_swap(volume.store, use.swap_text.encode())


def _use_file(life: GuestLife, file: UsedFile) -> None:
    account = find_account(read_accounts(life.guest), file.owner)
    if account is None:
        raise UsageError(
            messages.FILE_OWNER_NOT_AN_ACCOUNT.format(path=file.path, owner=file.owner)
        )
    mode = 0o600 if account.uid else 0o644
    life.put(file.path, (file.text * file.repeat).encode(), mode, account.uid, account.gid)


def _dirty_swap(store: Store, text: bytes) -> None:
    area = find_swap(store)
    if area:
        start, length = data_range(store, area)
        store.write(start, (text + b" ") * min(200, length // (len(text) + 1)))
