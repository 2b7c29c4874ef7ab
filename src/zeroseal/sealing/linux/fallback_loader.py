"""What ``--plant-fallback-loader`` puts onto the EFI partition: a loader for any firmware.

A clone gets firmware variables of its own, and those name nothing. The copies are of the guest's
own files, as the maker signed them.
"""

from __future__ import annotations

from zeroseal.blocks.sizes import size_text
from zeroseal.errors import NoSpaceError, RefusedError
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.loaders import LoaderCopy, fallback_copies, find_efi_loaders
from zeroseal.messages import sealing_linux as messages

_MODE = 0o755
_MOST_BYTES = 64 << 20


def planned_copies(guest: Guest) -> tuple[LoaderCopy, ...]:
    """The copies that are to be made; none where any firmware finds a loader already.

    Raises:
        RefusedError: which file would have to be copied is not known.
    """
    loaders = find_efi_loaders(guest)
    if loaders is None or not loaders.needs_entry:
        return ()
    copies = fallback_copies(loaders)
    if not copies:
        raise RefusedError(messages.NO_LOADER_TO_COPY.format(esp=loaders.folder))
    return copies


def plant_fallback_loader(guest: Guest) -> None:
    """Makes the copies.

    Raises:
        RefusedError: as ``planned_copies``.
        NoSpaceError: the partition has no room for them.
    """
    copies = [(item.target, guest.read_file(item.source, _MOST_BYTES))
              for item in planned_copies(guest)]  # fmt: skip
    for target, content in copies:
        try:
            guest.put_file(target, content, _MODE)
        except NoSpaceError as error:
            size = size_text(sum(len(content) for _target, content in copies))
            folder = target.partition("/EFI/")[0]
            raise NoSpaceError(
                messages.NO_ROOM_FOR_LOADER.format(message=error.message, size=size, folder=folder)
            ) from error
