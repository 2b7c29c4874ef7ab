"""The lab machine: a used Windows guest around what Windows itself wrote, filled by ntfs-3g.

The system volume was formatted by Windows, the SYSTEM hive is of a real Windows 10; its computer
name and security identifier are the machine's in every other hive. Everything else is laid out as
on real systems, with made-up content. ``tests/lab/make_windows_disk.py`` makes one by hand.
"""

from __future__ import annotations

import os
import shutil
import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from scripts import desk_machine
from scripts.desk_machine import (
    CURRENT,
    GUID,
    VERSION,
    Row,
    build_hive,
    descriptor,
    dice,
    number,
    raw,
    text,
)

from tests.compact import add_compact
from tests.disks import make_disk
from tests.ntfs import fuse, make_ntfs
from tests.oracles import run
from tests.xfs import FileStore
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.guests.registry.hive import Hive
from zeroseal.guests.registry.paths import fits
from zeroseal.guests.windows.sids import MachineSid

SECTOR = 512
MANY, FEW = 20_000, 1_500  # files of the component store
ADMIN = "Users/Administrator"
SECRET_WORDS = ("Anchor-9-chains", "Not-a-real-token-4471", "Bunker-prices-2026")
# the machine that the real hive is of
COMPUTER, NUMBERS = "DESKTOP-M3OSHQU", (3701996020, 3811166631, 2097765435)
RESEALED = "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"


@dataclass(frozen=True)
class Lab:
    """A lab machine: its disk, and files that a seal must leave as they are; some are compact."""

    disk: Path
    kept: tuple[str, ...]
    compact: tuple[str, ...]
    system_partition: int = 3


@contextmanager
def as_machine(numbers: tuple[int, int, int], computer: str) -> Iterator[None]:
    """Lets ``desk_machine`` describe another machine."""
    sid = MachineSid(numbers)
    own = {
        "COMPUTER": computer, "MACHINE": sid, "SID": sid.text, "RAW_SID": sid.raw,
        "ADA_SID": sid.account(desk_machine.ADA), "TOM_SID": sid.account(desk_machine.TOM),
    }  # fmt: skip
    before = {name: getattr(desk_machine, name) for name in own}
    vars(desk_machine).update(own)
    try:
        yield
    finally:
        vars(desk_machine).update(before)


def make_lab(folder: Path, data: Path, *, components: int = FEW, resealed: bool = False) -> Lab:
    """Makes the machine in a folder.

    Args:
        folder: where the disk and its parts are made.
        data: what ``fetch-windows-data.sh`` brought.
        components: how many files the component store has.
        resealed: whether Windows' own generalize pass has resealed it.
    """
    folder.mkdir(parents=True, exist_ok=True)
    volume = _volume_of_windows(data / "ntfs-cloud.bin", folder / "system.ntfs")
    with as_machine(NUMBERS, COMPUTER):
        content = _files(data, resealed)
        owners = _owners()
    kept = _fill(volume, content, owners, components)
    compact = _add_compact_files(volume)
    firmware = _firmware(folder / "esp.fat")
    reserved, recovery = folder / "msr", make_ntfs(folder / "recovery.ntfs", "-L", "Recovery")
    reserved.write_bytes(bytes(8192) + b"left by the installation before, of ada.brine " * 4000)
    with fuse(recovery) as point:
        (point / "Recovery/WindowsRE").mkdir(parents=True)
        (point / "Recovery/WindowsRE/ReAgent.xml").write_text("<WindowsRE version='2.0'/>")
        (point / "Recovery/WindowsRE/Winre.wim").write_bytes(b"MSWIM\0\0\0" + dice("wim", 200_000))
    disk = make_disk(
        folder / "lab.raw",
        ("ef00", firmware), ("0c01", reserved), ("0700", volume), ("2700", recovery),
    )  # fmt: skip
    with disk.open("r+b") as file:  # what an earlier table left before the first partition
        file.seek(200 * SECTOR)
        file.write(b"an older volume of ada.brine " * 40)
    return Lab(disk, kept, compact)


def _volume_of_windows(source: Path, target: Path) -> Path:
    """The volume, closed, with room for the copy of its boot sector, without cloud files."""
    run("cp", "--sparse=always", source, target)
    with source.open("rb") as file:
        sectors = int.from_bytes(file.read(SECTOR)[0x28:0x30], "little")
    with target.open("r+b") as file:
        file.truncate((sectors + 1) * SECTOR)
    run("ntfsfix", "-d", target)
    with fuse(target) as point:
        for name in ("$RECYCLE.BIN", "OneDriveTemp", "System Volume Information"):
            shutil.rmtree(point / name)
    store = FileStore(target)  # ntfs-3g does not remove a folder that is kept in a cloud
    editor = NtfsEditor(store, desk_machine.NOW)
    editor.remove_tree(editor.root, b"OneDrive")
    editor.finish()
    store.close()
    return target


def _system_hive(data: Path, resealed: bool) -> bytes:
    """The real hive, with a service that needs a password, and its set-up state."""
    from zeroseal.guests.registry import value_types
    from zeroseal.guests.registry.edit import HiveEditor

    content = (data / "SYSTEM").read_bytes()
    hive = Hive(content, "SYSTEM")
    assert [key.name for key in hive.subkeys(hive.root) if fits(key.name, "ControlSet*")]
    editor = HiveEditor(content, desk_machine.NOW)
    if resealed:
        key = editor.find_key("Setup")
        assert key is not None
        one = value_types.pack(value_types.DWORD, 1)
        editor.set_value(key, "OOBEInProgress", value_types.DWORD, one)
    return editor.build()


def _files(data: Path, resealed: bool) -> dict[str, bytes]:
    """Files of the system volume: those of the desk, around the real hive, and what it lacks."""
    config, sid = "Windows/System32/config", desk_machine.SID
    administrator = f"{sid}-500"
    rows: list[tuple[str, Row]] = [
        ("SOFTWARE", text(f"{VERSION}\\ProfileList\\{administrator}", "ProfileImagePath",
                          "C:\\Users\\Administrator")),
        ("SOFTWARE", text(f"{VERSION}\\ProfileList\\S-1-5-19", "ProfileImagePath",
                          "%systemroot%\\ServiceProfiles\\LocalService")),
        ("SOFTWARE", text(f"{VERSION}\\ProfileList\\S-1-5-80-3880718306-1-2-3-4",
                          "ProfileImagePath", "C:\\Users\\GateSQL")),
        ("SOFTWARE", text(VERSION, "RegisteredOrganization", "Saltmarsh Ferries")),
        ("SOFTWARE", text(VERSION, "ProductId", "00330-80000-00000-AA000")),
        ("SOFTWARE", raw(VERSION, "DigitalProductId", dice("product id", 164))),
        ("SOFTWARE", number(f"{CURRENT}\\Component Based Servicing", "Version", 10)),
        ("SOFTWARE", text(f"{CURRENT}\\EventCollector\\Subscriptions\\Tide gauges", "URI", "w")),
        ("SECURITY", raw(f"Policy\\Accounts\\{administrator}", "", b"rights")),
        ("SECURITY", raw("Policy\\Secrets\\L$_RasDefaultCredentials#0\\CurrVal", "",
                         dice("ras", 64))),
        ("DEFAULT", text("Environment", "PIER", "set up by ada.brine")),
        ("DEFAULT", text("Volatile Environment", "LOGONSERVER", f"\\\\{desk_machine.COMPUTER}")),
    ]  # fmt: skip
    if resealed:
        rows.append(("SOFTWARE", text(f"{CURRENT}\\Setup\\State", "ImageState", RESEALED)))
    made = desk_machine.files(*rows)
    made[f"{config}/SYSTEM"] = _system_hive(data, resealed)
    made["Windows/System32/winevt/Logs/TestLogX.evtx"] = (data / "TestLogX.evtx").read_bytes()
    made[f"{config}/COMPONENTS"] = build_hive(text("DerivedData", "Architecture", "amd64"))
    profile = desk_machine.user_hives("Administrator", 500)
    made |= {f"{ADMIN}/{name}": content for name, content in profile.items()}
    local = f"{ADMIN}/AppData/Local"
    roaming = f"{ADMIN}/AppData/Roaming/Microsoft"
    wmi = "Windows/System32/wbem/Repository"
    words = [word.encode() for word in SECRET_WORDS]
    made |= {
        f"{ADMIN}/Desktop/bunker.txt": words[2] * 40,
        f"{local}/Browser/User Data/Login Data": b"SQLite format 3\0" + words[0],
        f"{local}/Microsoft/Windows/Explorer/thumbcache_256.db": dice("thumbnail", 40_000),
        f"{local}/Microsoft/Credentials/DFBE70A7": dice("credential", 420),
        f"{roaming}/Crypto/RSA/{administrator}/{'7d' * 16}_{GUID}": dice("admin key", 900),
        f"{roaming}/Windows/PowerShell/PSReadLine/ConsoleHost_history.txt": words[1] + b"\r\n",
        f"$Recycle.Bin/{administrator}/$RAB12CD.txt": words[1] * 20,
        "Windows/ServiceProfiles/LocalService/NTUSER.DAT": build_hive(
            text("Environment", "TEMP", "%TEMP%")
        ),
        "Windows/ServiceProfiles/LocalService/AppData/Roaming/Microsoft/Crypto/Keys/"
        f"{'8e' * 16}_{GUID}": dice("service key", 700),
        "Users/GateSQL/NTUSER.DAT": build_hive(text("Environment", "TEMP", "%TEMP%")),
        f"{wmi}/OBJECTS.DATA": dice("wmi", 90_000) + desk_machine.COMPUTER.encode() + b"\0" * 400,
        f"{wmi}/INDEX.BTR": dice("wmi index", 40_000),
        f"{wmi}/MAPPING1.MAP": dice("wmi map", 8_000),
        "ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd": _repository(),
        "Windows/servicing/Packages/Tideline-Base~31bf.mum": b"<assembly/>",
        "Windows/System32/catroot2/edb.log": dice("catroot", 9000),
        "Windows/System32/config/systemprofile/AppData/Local/Microsoft/Credentials/A1": dice(
            "system credential", 420
        ),
        "inetpub/logs/LogFiles/u_ex261101.log": b"192.0.2.9 GET /float ada.brine\r\n" * 30,
    }
    return made


def _repository() -> bytes:
    """A state repository with an account that goes and one of the system."""
    with closing(sqlite3.connect(":memory:", isolation_level=None)) as made:
        made.execute("CREATE TABLE User(Id INTEGER PRIMARY KEY, Sid TEXT)")
        made.execute("CREATE TABLE App(Id INTEGER, User INTEGER REFERENCES User(Id), Path TEXT)")
        made.executemany("INSERT INTO User VALUES (?, ?)",
                         [(1, desk_machine.ADA_SID), (2, "S-1-5-18")])  # fmt: skip
        rows = [(n, 1 + n % 2, f"C:\\Program Files\\App {n}") for n in range(300)]
        rows = [(n, 1 + n % 2, f"C:\\Program Files\\App {n}") for n in range(300)]
        made.executemany("INSERT INTO App VALUES (?, ?, ?)", rows)
        return made.serialize()


def _owners() -> dict[str, bytes]:
    """Descriptors by the beginning of a path: what lies in a profile belongs to its person."""
    machine = desk_machine.MACHINE
    people = {"ada.brine": desk_machine.ADA, "tom.kelp": desk_machine.TOM, "Administrator": 500}
    found = {}
    for name, rid in people.items():
        own = descriptor(machine.raw_account(rid), desk_machine.SYSTEM, desk_machine.ADMINISTRATORS)
        found[f"Users/{name}"] = own
        found[f"$Recycle.Bin/{machine.account(rid)}"] = own
    return found


def _fill(
    volume: Path, content: Mapping[str, bytes], owners: Mapping[str, bytes], components: int
) -> tuple[str, ...]:
    """Writes all files through ntfs-3g; returns some that must stay as they are."""
    kept = []
    with fuse(volume, "compression") as point:
        for path, data in content.items():
            target = point / path
            if path.endswith("/"):
                target.mkdir(parents=True, exist_ok=True)
            else:
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(data)
        store, system = point / "Windows/WinSxS", point / "Windows/System32"
        for count in range(components):
            folder = store / f"amd64_tideline-part-{count // 40:04d}_31bf3856ad364e35_10.0.1"
            if count % 40 == 0:
                folder.mkdir(parents=True)
                short = f"AMD64_~{count // 40}".encode()
                os.setxattr(folder, "system.ntfs_dos_name", short)
            file = folder / f"component{count:05d}.dll"
            file.write_bytes(b"MZ" + dice(f"component {count}", 200 + count % 3000))
            if count % 25 == 0:
                os.link(file, system / file.name)
                kept.append(f"/Windows/System32/{file.name}")
        packed = point / "ProgramData/Saltmarsh"
        packed.mkdir()
        os.setxattr(packed, "system.ntfs_attrib_be", (0x0810).to_bytes(4, "big"))
        (packed / "timetable.csv").write_bytes(b"pier;tide;ferry\r\n" * 9000)
        with (packed / "soundings.dat").open("wb") as sparse:
            sparse.write(dice("soundings", 5000))
            sparse.seek(1 << 20)
            sparse.write(dice("soundings 2", 5000))
        (packed / "soundings.dat:Zone.Identifier").write_bytes(b"[ZoneTransfer]\r\nZoneId=3\r\n")
        kept += ["/ProgramData/Saltmarsh/timetable.csv", "/ProgramData/Saltmarsh/soundings.dat"]
        os.setxattr(point / "Program Files", "system.ntfs_dos_name", b"PROGRA~1")
        for path, data in owners.items():
            top = point / path
            for file in (top, *top.rglob("*")):
                os.setxattr(file, "system.ntfs_acl", data)
    return tuple(kept)


def _add_compact_files(volume: Path) -> tuple[str, ...]:
    """Files that the system keeps compact, as ``compact /exe`` leaves them; some must stay."""
    store = FileStore(volume)
    editor = NtfsEditor(store, desk_machine.NOW)
    folder = editor.root
    for part in (b"Windows", b"System32"):
        entry = editor.find_child(folder, part)
        assert entry is not None
        folder = entry.node
    names = [f"compacted{number}.dll" for number in range(6)]
    for name in names:
        content = (b"MZ12345678" * 900 + dice(name, 3000)) * 3
        add_compact(editor, folder, name.encode(), content)
    editor.finish()
    store.close()
    return tuple(f"/Windows/System32/{name}" for name in names)


def _firmware(path: Path) -> Path:
    with path.open("wb") as file:
        file.truncate(4 << 20)
    run("mkfs.vfat", "-n", "ESP", path)
    store = path.with_suffix(".bcd")
    store.write_bytes(desk_machine.boot_store())
    run("mmd", "-i", path, "::EFI", "::EFI/Microsoft", "::EFI/Microsoft/Boot", "::EFI/Boot")
    run("mcopy", "-i", path, store, "::EFI/Microsoft/Boot/BCD")
    run("mcopy", "-i", path, store, "::EFI/Boot/bootx64.efi")
    return path
