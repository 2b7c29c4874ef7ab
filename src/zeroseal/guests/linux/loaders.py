r"""The boot loaders of a Linux on its EFI system partition, and which one any firmware finds.

Firmware whose variables name nothing starts ``\EFI\BOOT\BOOTX64.EFI`` (for x86-64). All else on
the partition is found by entries in the variables of one machine. Source: UEFI Specification 2.10,
3.5.1.1, "Removable Media Boot Behavior"; shim, README.fallback: shim starts the loader that lies
beside it, under the name that it was built with.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from zeroseal.guests.guest import Guest

ESP_FOLDERS = ("/boot/efi", "/efi", "/boot")
_BIOS_LOADERS = ("/boot/grub/i386-pc", "/boot/grub2/i386-pc")
_FALLBACK = re.compile(r"boot\w+\.efi", re.IGNORECASE)
# a shim and the loader that it starts, by the makers' names; then loaders that stand alone
_PAIRS = (("shim{arch}.efi", "grub{arch}.efi"), ("shim.efi", "grub.efi"))
_ALONE = ("grub{arch}.efi", "systemd-boot{arch}.efi")
_MOK_MANAGERS = ("mm{arch}.efi", "MokManager.efi")
_ARCHITECTURES = ("x64", "aa64", "ia32")


@dataclass(frozen=True)
class LoaderCopy:
    """A file of the partition, and where a copy of it lets any firmware find it."""

    source: str
    target: str


@dataclass(frozen=True)
class EfiLoaders:
    """What lies on an EFI system partition.

    Attributes:
        folder: where the guest mounts it.
        loaders: paths of programs for firmware, but for those in ``EFI/BOOT``.
        has_fallback: whether ``EFI/BOOT`` has one that any firmware finds.
        starts_by_bios: whether the guest has a loader for BIOS too.
    """

    folder: str
    loaders: tuple[str, ...]
    has_fallback: bool
    starts_by_bios: bool

    @property
    def needs_entry(self) -> bool:
        """Whether only an entry in a machine's own variables leads to a loader."""
        return bool(self.loaders) and not self.has_fallback


def find_efi_loaders(guest: Guest) -> EfiLoaders | None:
    """What the EFI system partition holds; None where the guest mounts none with loaders."""
    for folder in ESP_FOLDERS:
        if not guest.is_folder(f"{folder}/EFI"):
            continue
        found = [
            f"{folder}/EFI/{vendor}/{name}"
            for vendor in guest.list_names(f"{folder}/EFI")
            for name in guest.list_names(f"{folder}/EFI/{vendor}")
            if name.lower().endswith(".efi")
        ]
        own = [path for path in found if _vendor(path).upper() != "BOOT"]
        is_reachable = any(
            _vendor(path).upper() == "BOOT" and _FALLBACK.fullmatch(path.rpartition("/")[2])
            for path in found
        )
        return EfiLoaders(folder, tuple(own), is_reachable, starts_by_bios(guest))
    return None


def starts_by_bios(guest: Guest) -> bool:
    """Whether a loader for BIOS was put on the disk."""
    return any(guest.exists(path) for path in _BIOS_LOADERS)


def fallback_copies(loaders: EfiLoaders) -> tuple[LoaderCopy, ...]:
    """The copies that let any firmware start what an entry starts today.

    Empty where the layout is none that we know, or where two folders have loaders: which of them
    is started is known to the machine's firmware alone.
    """
    by_vendor: dict[str, list[str]] = {}
    for path in loaders.loaders:
        by_vendor.setdefault(_vendor(path), []).append(path)
    found = [copies for paths in by_vendor.values() if (copies := _copies(loaders.folder, paths))]
    return found[0] if len(found) == 1 else ()


def _copies(folder: str, paths: list[str]) -> tuple[LoaderCopy, ...]:
    """Of one maker's folder: a signed shim with the loader it starts, or a loader alone."""
    by_name = {path.rpartition("/")[2].lower(): path for path in paths}
    for arch in _ARCHITECTURES:
        first = f"{folder}/EFI/BOOT/BOOT{arch.upper()}.EFI"
        for names in _PAIRS:
            shim, loader = (by_name.get(name.format(arch=arch)) for name in names)
            if shim and loader:
                beside = [by_name.get(name.format(arch=arch).lower()) for name in _MOK_MANAGERS]
                return (
                    LoaderCopy(shim, first),
                    *(_beside(folder, path) for path in (loader, *beside) if path),
                )
        for name in _ALONE:
            if path := by_name.get(name.format(arch=arch)):
                return (LoaderCopy(path, first),)
    return ()


def _beside(folder: str, path: str) -> LoaderCopy:
    return LoaderCopy(path, f"{folder}/EFI/BOOT/{path.rpartition('/')[2]}")


def _vendor(path: str) -> str:
    return path.split("/")[-2]
