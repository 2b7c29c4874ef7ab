"""Disks with a made-up Windows, for tests; the machine itself is ``scripts.desk_machine``."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from scripts.desk_machine import NOW, Row, boot_store, files, fill

from tests.disks import make_disk
from tests.ntfs import make_ntfs
from tests.oracles import run
from tests.xfs import FileStore
from zeroseal.filesystems.ntfs.edit import NtfsEditor


def make_windows_volume(
    path: Path,
    *more: tuple[str, Row],
    without: Iterable[tuple[str, str, str]] = (),
    extra: dict[str, bytes] | None = None,
) -> Path:
    """The system volume.

    Args:
        path: of the volume.
        more: (hive, row) of further values, or of others in their place.
        without: (hive, key, name) of values that are left out.
        extra: further files, or other content of some.
    """
    make_ntfs(path, "-L", "Purser", megabytes=32)
    store = FileStore(path)
    editor = NtfsEditor(store, NOW)
    fill(editor, files(*more, without=without) | (extra or {}))
    editor.finish()
    store.close()
    return path


def make_windows_disk(
    path: Path,
    *more: tuple[str, Row],
    without: Iterable[tuple[str, str, str]] = (),
    extra: dict[str, bytes] | None = None,
    behind: Iterable[tuple[str, Path]] = (),
) -> Path:
    """A disk with an EFI system partition and the system volume; ``behind`` are further ones."""
    firmware, store = path.with_suffix(".efi"), path.with_suffix(".bcd")
    with firmware.open("wb") as file:
        file.truncate(4 << 20)
    run("mkfs.vfat", "-n", "ESP", firmware)
    store.write_bytes(boot_store())
    run("mmd", "-i", firmware, "::EFI", "::EFI/Microsoft", "::EFI/Microsoft/Boot", "::EFI/Boot")
    run("mcopy", "-i", firmware, store, "::EFI/Microsoft/Boot/BCD")
    run("mcopy", "-i", firmware, store, "::EFI/Boot/bootx64.efi")
    volume = make_windows_volume(path.with_suffix(".ntfs"), *more, without=without, extra=extra)
    return make_disk(path, ("ef00", firmware), ("0700", volume), *behind)
