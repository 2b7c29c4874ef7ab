"""A disk with a made-up Windows: real structures, nothing that was ever somebody's."""

from __future__ import annotations

import shutil
from pathlib import Path

from tests.disks import make_disk
from tests.ntfs import NOW, make_ntfs
from tests.oracles import run
from tests.xfs import FileStore
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.guests.registry import values
from zeroseal.guests.registry.create import new_hive
from zeroseal.guests.registry.edit import HiveEditor

COMPUTER, PRODUCT, BUILD = "PURSER-REF", "Windows 10 Pro", "22631"


def build_hive(*rows: tuple[str, str, str]) -> bytes:
    """A hive with text values, each (key, name, text)."""
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    for path, name, text in rows:
        key, parts = editor.root, path.split("\\")
        for depth, part in enumerate(parts, 1):
            found = editor.find_key("\\".join(parts[:depth]))
            key = editor.add_key(key, part) if found is None else found
        editor.set_value(key, name, values.SZ, values.pack(values.SZ, text))
    return editor.build()


def make_windows_volume(path: Path, megabytes: int = 32) -> Path:
    """The system volume: two hives, a few files."""
    make_ntfs(path, "-L", "Purser", megabytes=megabytes)
    store = FileStore(path)
    editor = NtfsEditor(store, NOW)
    folder = editor.root
    for name in (b"Windows", b"System32", b"config"):
        folder = editor.create_folder(folder, name, 0o755)
    version = "Microsoft\\Windows NT\\CurrentVersion"
    editor.create_file(
        folder,
        b"SOFTWARE",
        build_hive((version, "ProductName", PRODUCT), (version, "CurrentBuild", BUILD)),
        0o644,
    )
    key = "ControlSet001\\Control\\ComputerName\\ComputerName"
    editor.create_file(folder, b"SYSTEM", build_hive((key, "ComputerName", COMPUTER)), 0o644)
    editor.create_file(editor.root, b"pagefile.sys", b"page" * 4096, 0o644)
    editor.finish()
    store.close()
    return path


def make_windows_disk(path: Path, name: str = "system") -> Path:
    """A disk with an EFI system partition and the system volume."""
    folder = path.parent
    firmware = folder / "efi.img"
    with firmware.open("wb") as file:
        file.truncate(4 << 20)
    run("mkfs.vfat", "-n", "ESP", firmware)
    volume = make_windows_volume(folder / f"{name}.ntfs")
    shutil.copy(volume, folder / f"{name}.copy")
    return make_disk(path, ("ef00", firmware), ("0700", volume))
