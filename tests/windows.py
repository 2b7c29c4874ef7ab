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
SID = "S-1-5-21-1111111111-2222222222-3333333333"
RAW_SID = bytes.fromhex("0104000000000005") + b"".join(
    number.to_bytes(4, "little") for number in (21, 1111111111, 2222222222, 3333333333)
)
GUID, UPDATE = "9f0b3d52-6c1e-4a87-b1d4-0a5c3e7f2b64", "5f3c2b1a-1111-4222-8333-444455556666"
CURRENT = "Microsoft\\Windows\\CurrentVersion"
TCPIP = "ControlSet001\\Services\\Tcpip\\Parameters"
Row = tuple[str, str, int, bytes]


def text(path: str, name: str, content: str) -> Row:
    return path, name, values.SZ, values.pack(values.SZ, content)


def number(path: str, name: str, content: int) -> Row:
    return path, name, values.DWORD, values.pack(values.DWORD, content)


def account(name: str, rid: int, flags: int) -> list[Row]:
    """An account as the database has it: the type of the name's value is the identifier."""
    users = "SAM\\Domains\\Account\\Users"
    facts = bytes(0x38) + flags.to_bytes(2, "little") + bytes(22)
    return [
        (f"{users}\\Names\\{name}", "", rid, b""),
        (f"{users}\\{rid:08X}", "F", values.BINARY, facts),
    ]


def hives(*more: tuple[str, Row]) -> dict[str, bytes]:
    """The hives of a plain machine; rows of ``more`` are added to the one named, or replace."""
    version = "Microsoft\\Windows NT\\CurrentVersion"
    rows: dict[str, list[Row]] = {
        "SOFTWARE": [
            text(version, "ProductName", PRODUCT),
            text(version, "CurrentBuild", BUILD),
            text("Microsoft\\Cryptography", "MachineGuid", GUID),
            text(f"{CURRENT}\\WindowsUpdate", "SusClientId", UPDATE),
            text(f"{CURRENT}\\Setup\\State", "ImageState", "IMAGE_STATE_COMPLETE"),
            text(f"{version}\\ProfileList\\S-1-5-18", "ProfileImagePath", "C:\\Windows\\x"),
            text(f"{version}\\ProfileList\\{SID}-1001", "ProfileImagePath", "C:\\Users\\ada"),
        ],
        "SYSTEM": [
            text("ControlSet001\\Control\\ComputerName\\ComputerName", "ComputerName", COMPUTER),
            text(TCPIP, "NV Hostname", COMPUTER.lower()),
            number("Setup", "SystemSetupInProgress", 0),
            number("Setup", "OOBEInProgress", 0),
        ],
        "SAM": [
            ("SAM\\Domains\\Account", "V", values.BINARY, bytes(96) + RAW_SID),
            *account("Administrator", 500, 0x211),
            *account("ada", 1001, 0x210),
        ],
    }
    for hive, row in more:
        rows[hive].append(row)
    return {name: build_hive(*items) for name, items in rows.items()}


def build_hive(*rows: Row) -> bytes:
    """A hive with values, each (key, name, type, data)."""
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    for path, name, kind, data in rows:
        key, parts = editor.root, path.split("\\")
        for depth, part in enumerate(parts, 1):
            found = editor.find_key("\\".join(parts[:depth]))
            key = editor.add_key(key, part) if found is None else found
        editor.set_value(key, name, kind, data)
    return editor.build()


def make_windows_volume(path: Path, *more: tuple[str, Row]) -> Path:
    """The system volume: its hives, a page file."""
    make_ntfs(path, "-L", "Purser", megabytes=32)
    store = FileStore(path)
    editor = NtfsEditor(store, NOW)
    folder = editor.root
    for name in (b"Windows", b"System32", b"config"):
        folder = editor.create_folder(folder, name, 0o755)
    for hive, raw in hives(*more).items():
        editor.create_file(folder, hive.encode(), raw, 0o644)
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
