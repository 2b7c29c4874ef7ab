"""Telling a clone who it is by writing into its disk, for guests that read no seed."""

from __future__ import annotations

from pathlib import Path

from zeroseal.errors import RefusedError
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.account_edits import (
    NewAccount,
    add_account,
    give_all_rights,
    set_password,
)
from zeroseal.guests.linux.name_edits import has_time_zone, set_host_name, set_locale, set_time_zone
from zeroseal.guests.linux.network_files import set_network
from zeroseal.machines.disk_change import changed_disk
from zeroseal.machines.guest_life import new_key_pairs
from zeroseal.machines.seed import Seed
from zeroseal.messages import templates as messages
from zeroseal.templates.ability_reading import abilities_of

_RIGHTS_FILE = "/etc/sudoers.d/90-zeroseal-clone"
_CLOUD_FOLDER = "/etc/cloud/cloud.cfg.d"
_CLOUD_FILE = f"{_CLOUD_FOLDER}/99-zeroseal-clone.cfg"
_CLOUD_TEXT = """\
# Written for this machine by Zero Seal: its name and network are in its own files.
preserve_hostname: true
network: {config: disabled}
"""
_DAY_SECONDS = 86_400


def write_identity(disk: Path, seed: Seed, now: int) -> list[str]:
    """Writes what a seed says into a disk; whole or not at all, and consistent.

    Args:
        disk: a clone's own disk, or its overlay.
        seed: who it is; it may hold no packages, commands or script.
        now: the moment of the change, seconds since 1970.

    Returns:
        What was done beside the plain wishes, sentences.

    Raises:
        RefusedError: the guest cannot be told that; nothing was written.
        ImageError: the disk cannot be read.
    """
    with changed_disk(disk, now) as inspection:
        return _write(inspection.guest, seed, now)


def _write(guest: Guest, seed: Seed, now: int) -> list[str]:
    notes = []
    set_host_name(guest, seed.host_name, seed.domain)
    notes += _set_network(guest, seed)
    for account in seed.accounts:
        add_account(
            guest,
            NewAccount(account.name, account.full_name, account.public_keys, account.password_hash),
            now // _DAY_SECONDS,
        )
    admins = [account.name for account in seed.accounts if account.admin]
    if admins:
        if not guest.is_folder("/etc/sudoers.d"):
            raise RefusedError(messages.NO_SUDOERS_FOLDER.format(admins=admins[0]))
        give_all_rights(guest, admins, _RIGHTS_FILE)
    if seed.root_password_hash:
        set_password(guest, "root", seed.root_password_hash)
    if seed.time_zone:
        if not has_time_zone(guest, seed.time_zone):
            raise RefusedError(messages.TIME_ZONE_NOT_FOUND.format(time_zone=seed.time_zone))
        set_time_zone(guest, seed.time_zone)
    if seed.locale:
        set_locale(guest, seed.locale)
    for file in seed.files:
        guest.put_file(file.path, file.content, file.mode)
    if not abilities_of(guest).makes_host_keys:
        _put_host_keys(guest, seed.host_name)
        notes.append("nothing in the guest creates SSH host keys: new ones were written")
    if "SELINUX=enforcing" in guest.read_text("/etc/selinux/config").replace(" ", ""):
        guest.put_file("/.autorelabel", b"", 0o644)
        notes.append("SELinux labels are restored on its first boot")
    return notes


def _set_network(guest: Guest, seed: Seed) -> list[str]:
    if seed.network is None:
        return []
    plan = set_network(guest, seed.network)
    if guest.is_folder(_CLOUD_FOLDER):
        guest.put_file(_CLOUD_FILE, _CLOUD_TEXT.encode(), 0o644)
    notes = [f"network: {plan.files[0][0]} ({plan.service})"]
    return notes + [f"network: {path} was removed" for path in plan.gone]


def _put_host_keys(guest: Guest, host_name: str) -> None:
    for kind, (private, public) in new_key_pairs(f"root@{host_name}").items():
        guest.put_file(f"/etc/ssh/ssh_host_{kind}_key", private, 0o600)
        guest.put_file(f"/etc/ssh/ssh_host_{kind}_key.pub", public, 0o644)
