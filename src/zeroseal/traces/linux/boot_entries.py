"""Boot entries that are named by the machine ID: renamed, so that the machine still boots.

Source: UAPI Boot Loader Specification (types 1 and 2), kernel-install(8) (entry-token),
loader.conf(5), GRUB's blscfg: it reads the same entries, and the default one from ``saved_entry``
in ``grubenv``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.guest import Guest
from zeroseal.traces.changes import PutFile, RenamePath, TextChange
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.linux.context import LinuxContext

TOKEN = "template"
_GRUB_BLOCK = "# GRUB Environment Block\n"
_TOKEN_FILE = "/etc/kernel/entry-token"
_ENTRY_FOLDERS = ("/boot/loader/entries", "/boot/efi/loader/entries", "/efi/loader/entries")
_KERNEL_FOLDERS = ("/boot", "/boot/efi", "/efi", "/boot/efi/EFI/Linux", "/boot/EFI/Linux",
                   "/efi/EFI/Linux")  # fmt: skip
_TEXTS = ("/boot/loader/loader.conf", "/boot/efi/loader/loader.conf", "/efi/loader/loader.conf",
          "/boot/grub2/grubenv", "/boot/grub/grubenv", "/boot/efi/EFI/*/grubenv",
          "/etc/kernel/install.conf", "/etc/kernel/cmdline", "/etc/default/grub",
          "/boot/grub2/grub.cfg", "/boot/grub/grub.cfg", "/boot/efi/EFI/*/grub.cfg")  # fmt: skip


@dataclass(frozen=True)
class SwapBootToken(TextChange):
    """Puts a neutral word in the place of the machine ID in files of the boot loader."""

    old: str
    new: str

    def edited(self, text: str) -> str:
        """The text with a neutral token for the machine ID; a block of GRUB keeps its size.

        What would give each clone the old ID again goes: ``systemd.machine_id=`` on the kernel's
        command line, and the ``machine-id`` line of an entry.
        """
        changed = text.replace(f" systemd.machine_id={self.old}", "")
        changed = re.sub(rf"(?m)^machine-id\s+{re.escape(self.old)}\n", "", changed).replace(
            self.old, self.new
        )
        if text.startswith(_GRUB_BLOCK) and len(changed) < len(text):
            changed += "#" * (len(text) - len(changed))
        return changed


class BootEntries(Finder[LinuxContext]):
    """Finds the files and folders with the machine ID in their names, and what refers to them."""

    name = "boot-entries"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        guest = context.guest
        machine_id = guest.read_text("/etc/machine-id").strip()
        if not re.fullmatch(r"[0-9a-f]{32}", machine_id):
            return
        for folder in _ENTRY_FOLDERS:
            for name in guest.list_names(folder):
                yield from _swap_boot_token(guest, f"{folder}/{name}", machine_id)
        for pattern in _TEXTS:
            for path in guest.glob(pattern):
                yield from _swap_boot_token(guest, path, machine_id)
        renamed = False
        # names last, so that each path above is still what it was
        for folder in (*_ENTRY_FOLDERS, *_KERNEL_FOLDERS):
            for name in guest.list_names(folder):
                if machine_id in name:
                    renamed = True
                    new = name.replace(machine_id, TOKEN)
                    yield RenamePath(f"{folder}/{name}", new), f"becomes {new}"
        if renamed and guest.read_text(_TOKEN_FILE).strip() != TOKEN:
            yield PutFile(_TOKEN_FILE, TOKEN + "\n"), "kernels installed later follow it"


def _swap_boot_token(guest: Guest, path: str, machine_id: str) -> Iterator[Found]:
    if guest.is_file(path) and machine_id in guest.read_text(path):
        yield SwapBootToken(path, machine_id, TOKEN), "names entries by the machine ID"
