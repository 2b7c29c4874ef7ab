"""Which firmware a disk boots with, where nobody says it."""

from __future__ import annotations

from pathlib import Path

from zeroseal.errors import NoGuestError
from zeroseal.images.detect import opened_image
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.sealing.inspection import Inspection

# UEFI, "Removable Media Boot Behavior": what is started where the variables name nothing, and what
# the loaders of distributions lie beside
_LOADERS = ("/boot/efi/EFI/*/*.efi", "/efi/EFI/*/*.efi", "/boot/EFI/*/*.efi")


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
        loaders = [path for pattern in _LOADERS for path in guest.glob(pattern)]
        has_bios_loader = guest.exists("/boot/grub/i386-pc") or guest.exists("/boot/grub2/i386-pc")
    return "bios" if has_bios_loader and not loaders else "uefi"
