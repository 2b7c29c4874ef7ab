"""Which firmware a disk boots with, where nobody says it."""

from __future__ import annotations

from pathlib import Path

from zeroseal.errors import NoGuestError
from zeroseal.guests.linux.loaders import find_efi_loaders, starts_by_bios
from zeroseal.images.detect import opened_image
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.sealing.inspection import Inspection


def guess_firmware(image: Path, reach: Reach = OWN_FOLDER) -> str:
    """``uefi`` where the EFI partition holds a loader; ``bios`` where it does not.

    Raises:
        ImageError, RefusedError: the image cannot be read.
    """
    with opened_image(image, reach=reach) as disk:
        try:
            guest = Inspection.read(disk).guest
        except NoGuestError:
            return "uefi"
        found = find_efi_loaders(guest)
        has_loader = found is not None and (found.has_fallback or bool(found.loaders))
        return "bios" if starts_by_bios(guest) and not has_loader else "uefi"
