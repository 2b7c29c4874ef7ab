"""Makes the demo's Windows desk: a used, made-up machine (see ``desk_machine.py``).

Run with the tool installed and ntfs-3g, gdisk, dosfstools, mtools and qemu-utils::

    PYTHONPATH=. python scripts/make_desk_disk.py

It writes ``purser-ref.qcow2`` (GPT, an EFI partition, NTFS) into ``src/zeroseal/demo``, under 1 MB.
"""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path

from scripts.desk_machine import COMPUTER, NOW, PASSWORD, boot_store, dice, files, fill
from zeroseal.blocks.store import MemoryStore
from zeroseal.filesystems.ntfs.edit import NtfsEditor

MIB = 1 << 20
ESP_START, ESP_MIB = 1, 4
SYSTEM_START, SYSTEM_MIB = 5, 30
DISK_MIB = 36
SERIAL = "5a17ba257075"
DEMO = Path(__file__).resolve().parent.parent / "src/zeroseal/demo"


def run(*words: str | Path) -> None:
    """Runs a program that must succeed."""
    subprocess.run([str(word) for word in words], check=True, stdout=subprocess.DEVNULL)


def make_firmware(path: Path) -> None:
    """The EFI partition, with the boot loader's store and something that stands for a loader."""
    path.write_bytes(bytes(ESP_MIB * MIB))
    run("mkfs.vfat", "-n", "PURSER-ESP", "-i", SERIAL[:8], path)
    store, loader = path.with_suffix(".bcd"), path.with_suffix(".efi")
    store.write_bytes(boot_store())
    loader.write_bytes(b"MZ demo: stands for the boot loader\n")
    folders = ("::EFI", "::EFI/Boot", "::EFI/Microsoft", "::EFI/Microsoft/Boot")
    run("mmd", "-i", path, *folders)
    run("mcopy", "-i", path, store, "::EFI/Microsoft/Boot/BCD")
    run("mcopy", "-i", path, loader, "::EFI/Boot/bootx64.efi")


def make_system(path: Path) -> None:
    """The system volume, with a file that was deleted: its content is still there."""
    path.write_bytes(bytes(SYSTEM_MIB * MIB))
    run("mkntfs", "-F", "-Q", "-q", "-L", "Purser", "-s", "512", "-p", "2048", "-H", "255", "-S",
        "63", path)  # fmt: skip
    store = MemoryStore(path.read_bytes())
    editor = NtfsEditor(store, NOW)
    fill(editor, files())
    deleted = f"float of {COMPUTER}, password {PASSWORD}\r\n".encode() * 900
    editor.create_file(editor.root, b"float-old.txt", deleted + dice("deleted", 4000), 0o644)
    editor.finish()
    editor = NtfsEditor(store, NOW, zero_removed=False)
    editor.remove(editor.root, b"float-old.txt")
    editor.finish()
    path.write_bytes(store.read(0, store.size_bytes))


def main() -> None:
    """Makes the disk."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        disk = folder / "disk.raw"
        disk.write_bytes(bytes(DISK_MIB * MIB))
        make_firmware(folder / "firmware")
        make_system(folder / "system")
        run("sgdisk", "-Z", "-U", "5a17ba25-0000-4000-8000-707572736572", disk)
        for number, start, size, kind in ((1, ESP_START, ESP_MIB, "ef00"),
                                          (2, SYSTEM_START, SYSTEM_MIB, "0700")):  # fmt: skip
            place = f"{number}:{start}M:+{size}M"
            run("sgdisk", "-n", place, "-t", f"{number}:{kind}", disk)
        with disk.open("r+b") as file:
            for start, part in ((ESP_START, "firmware"), (SYSTEM_START, "system")):
                file.seek(start * MIB)
                file.write((folder / part).read_bytes())
        target = DEMO / "purser-ref.qcow2"
        run("qemu-img", "convert", "-O", "qcow2", "-c", disk, target)
        print(f"{target}: {target.stat().st_size} bytes")


if __name__ == "__main__":
    main()
