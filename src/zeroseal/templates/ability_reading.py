"""Reading from a disk what its guest can be told, and how."""

from __future__ import annotations

from pathlib import Path

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.cloud_init import read_cloud_init
from zeroseal.guests.linux.loaders import find_efi_loaders
from zeroseal.guests.linux.network_files import find_network_service
from zeroseal.guests.linux.services import Services
from zeroseal.guests.system import as_windows
from zeroseal.guests.windows.identity import FirstStart
from zeroseal.images.detect import opened_image
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.linux.first_boot import SEED, read_tasks
from zeroseal.templates.abilities import (
    CLOUD_INIT,
    NOTHING,
    PLANTED,
    WINDOWS_REGISTRY,
    WINDOWS_SET_UP,
    Abilities,
)
from zeroseal.traces.finders import regrower
from zeroseal.traces.load import get_trace

_WINDOWS_LOADERS = "/*:/EFI/Boot/boot*.efi"


def read_abilities(image: Path, reach: Reach = OWN_FOLDER) -> Abilities:
    """Reads them from a disk.

    Raises:
        ImageError, RefusedError: it cannot be read.
    """
    with opened_image(image, reach=reach) as disk:
        inspection = Inspection.read(disk)
        windows = as_windows(inspection.system)
        if windows:
            return _of_windows(inspection.guest, windows.windows_facts.identity.first_start)
        return abilities_of(inspection.guest)


def abilities_of(guest: Guest) -> Abilities:
    """Reads them from a guest."""
    services, loaders = Services(guest), find_efi_loaders(guest)
    seeded_by = NOTHING
    if read_cloud_init(guest, services).takes_seed_media:
        seeded_by = CLOUD_INIT
    elif SEED in read_tasks(guest):
        seeded_by = PLANTED
    return Abilities(
        seeded_by=seeded_by,
        network=find_network_service(guest),
        makes_host_keys=has_no_server(guest)
        or bool(guest.glob("/etc/ssh/ssh_host_*_key"))
        or bool(regrower(get_trace("keys.ssh-host"), guest, services)),
        fallback_loader=loaders is not None and loaders.has_fallback,
    )


def _of_windows(guest: Guest, start: FirstStart) -> Abilities:
    told_by = WINDOWS_SET_UP if start.makes_identity else WINDOWS_REGISTRY
    return Abilities(
        told_by, "Dhcp", makes_host_keys=True, fallback_loader=bool(guest.glob(_WINDOWS_LOADERS))
    )


def has_no_server(guest: Guest) -> bool:
    """Whether the guest has no SSH server that would need host keys."""
    return not any(guest.exists(path) for path in ("/usr/sbin/sshd", "/usr/sbin/dropbear"))
