"""Initramfs archives: made and judged by cpio and the compressors themselves."""

from __future__ import annotations

import contextlib
import os
import struct
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_guest_volume, write_tree
from tests.oracles import need, run
from zeroseal.filesystems.drivers import VolumeTrees, read_disk
from zeroseal.guests.compressors import UNPACK_ERRORS, Packing, iter_unpacked, pack
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.initramfs import (
    find_initrd_of_boot_image,
    rewrite_initramfs,
    split_initramfs,
)
from zeroseal.guests.open import open_guest
from zeroseal.images.detect import open_image

KEY = "private-host-key-canary"
INSIDE = {
    "/init": "#!/bin/sh\nexec /sbin/init\n",
    "/etc/hostname": "pier-ref\n",
    "/etc/machine-id": "5f3a9c0d7e21448b9d10c3b7a6e5f401\n",
    "/etc/dropbear/dropbear_ed25519_host_key": KEY,
    "/root-a1b2/.ssh/authorized_keys": "ssh-ed25519 AAAA ada.brine@gangway",
    "/usr/lib/module.ko": "m" * 300_000,
    "/bin/link": "-> ../init",
}
PACKERS = {
    "gzip": ["gzip", "-9nc"],
    "bzip2": ["bzip2", "-c"],
    "xz": ["xz", "--check=crc32", "-c"],
    "lzma": ["lzma", "-c"],
    "zstd": ["zstd", "-qc"],
    "lz4": ["lz4", "-lc"],
}


def make_archive(folder: Path, tree: dict[str, str], form: str = "newc") -> bytes:
    write_tree(folder, tree)
    names = "\n".join(str(path.relative_to(folder)) for path in sorted(folder.rglob("*")))
    done = subprocess.run(
        ["cpio", "-o", "--quiet", "-H", form], input=names.encode(), cwd=folder,
        capture_output=True, check=True,
    )  # fmt: skip
    return done.stdout


def packed(name: str, content: bytes) -> bytes:
    need(PACKERS[name][0])
    return subprocess.run(PACKERS[name], input=content, capture_output=True, check=True).stdout


def opened(name: str, content: bytes) -> bytes:
    words = [PACKERS[name][0], "-dc"]
    return subprocess.run(words, input=content, capture_output=True, check=True).stdout


def contents(archive: bytes, folder: Path) -> dict[str, bytes]:
    """What cpio takes out of an archive."""
    folder.mkdir()
    subprocess.run(["cpio", "-id", "--quiet"], input=archive, cwd=folder, check=True)
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file()
    }


@pytest.mark.parametrize("name", PACKERS)
@pytest.mark.parametrize("form", ["newc", "crc"])
def test_entries_go_and_the_rest_stays_byte_for_byte(tmp_path: Path, name: str, form: str) -> None:
    need("cpio")
    microcode = make_archive(tmp_path / "early", {"/kernel/x86/microcode/a.bin": "u" * 5000})
    main = make_archive(tmp_path / "main", INSIDE, form)
    raw = microcode + packed(name, main)
    dropped = {"etc/dropbear/dropbear_ed25519_host_key", "root-a1b2/.ssh/authorized_keys"}
    emptied = {"etc/machine-id"}
    result = rewrite_initramfs(raw, dropped.__contains__, emptied.__contains__)
    assert result.startswith(microcode)
    archive = opened(name, result[len(microcode) :])
    found, before = contents(archive, tmp_path / "after"), contents(main, tmp_path / "before")
    assert found == {path: text for path, text in before.items() if path not in dropped} | {
        "etc/machine-id": b""
    }
    assert KEY.encode() not in archive
    assert rewrite_initramfs(result, dropped.__contains__, emptied.__contains__) == result


def test_the_content_of_a_hard_linked_file_stays_with_the_other_name(tmp_path: Path) -> None:
    write_tree(tmp_path / "m", {"/a/kept": "shared content"})
    (tmp_path / "m" / "b").mkdir()
    os.link(tmp_path / "m" / "a" / "kept", tmp_path / "m" / "b" / "gone")
    raw = make_archive(tmp_path / "m", {})
    found = contents(rewrite_initramfs(raw, "b/gone".__eq__, "".__eq__), tmp_path / "o")
    assert found == {"a/kept": b"shared content"}


def test_large_content_is_packed_as_a_kernel_reads_it() -> None:
    content = os.urandom(100) * 200_000
    for name, packing in (("lz4", Packing.LZ4_LEGACY), ("zstd", Packing.ZSTD), ("xz", Packing.XZ)):
        assert opened(name, pack(content, packing)) == content
        assert b"".join(iter_unpacked(packed(name, content))) == content


@given(places=st.lists(st.tuples(st.integers(0, 3000), st.integers(0, 255)), max_size=8),
       cut=st.integers(0, 4000), kind=st.sampled_from([None, *list(Packing)[:6]]))  # fmt: skip
def test_damaged_archives_raise_only_what_is_declared(
    places: list[tuple[int, int]], cut: int, kind: Packing | None
) -> None:
    entry = b"070701" + b"%08x" * 13 % (1, 0o100644, 0, 0, 1, 0, 2000, 0, 0, 0, 0, 5, 0)
    raw = entry + b"file\0\0" + b"x" * 2000
    raw += b"070701" + b"%08x" * 13 % (0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 11, 0) + b"TRAILER!!!\0"
    raw = raw.ljust(-(-len(raw) // 4) * 4, b"\0")
    if kind and kind is not Packing.LZ4:
        raw = pack(raw, kind)
    damaged = bytearray(raw)
    for place, value in places:
        if place < len(damaged):
            damaged[place] = value
    content = bytes(damaged[: max(1, cut)])
    with contextlib.suppress(ValueError):
        split_initramfs(content)
    with contextlib.suppress(*UNPACK_ERRORS):
        list(iter_unpacked(content))


def boot_image(initrd: bytes) -> bytes:
    """A PE file with a section ``.initrd``, as a unified kernel image has it."""
    head = b"MZ".ljust(0x3C, b"\0") + struct.pack("<I", 0x40)
    head += b"PE\0\0" + struct.pack("<HHIIIHH", 0x8664, 2, 0, 0, 0, 0, 0)
    table = b".text\0\0\0" + struct.pack("<IIII16x", 16, 0, 16, 512)
    table += b".initrd\0" + struct.pack("<IIII16x", len(initrd), 0, len(initrd), 1024)
    return (head + table).ljust(1024, b"\0") + initrd


def guest_of(image: Path) -> Guest:
    return open_guest(read_disk(open_image(image)), VolumeTrees()).guest


def test_a_seal_takes_identity_out_of_an_initramfs(tmp_path: Path, zeroseal: Command) -> None:
    tree = {path: text for path, text in INSIDE.items() if not path.startswith("/usr")}
    raw = packed("zstd", make_archive(tmp_path / "m", tree))
    clean = packed("zstd", make_archive(tmp_path / "c", {"/init": "x", "/etc/hostname": ""}))
    source = tmp_path / "boot"
    image = make_guest_volume(tmp_path, BARE_GUEST | {"/boot/initrd.img-6.1": "", "/boot/x": ""})
    source.mkdir()
    for name, content in (("initrd.img-6.1", raw), ("initrd.img-6.2", clean)):
        (source / name).write_bytes(content)
        run("debugfs", "-w", "-R", f"rm /boot/{name}", image)
        run("debugfs", "-w", "-R", f"write {source / name} /boot/{name}", image)
    words = ("--expect-seed", "--plant-first-boot")
    told = " ".join(zeroseal("seal", image, "--dry-run", "--places", *words).out.split())
    assert "identity.initramfs 1" in told
    assert "/boot/initrd.img-6.1" in told
    assert "initrd.img-6.2" not in told
    done = zeroseal("seal", image, "-o", tmp_path / "s.img", *words)
    assert done.status == 0, done.err
    sealed = guest_of(tmp_path / "s.img").read_file("/boot/initrd.img-6.1")
    found = contents(opened("zstd", sealed), tmp_path / "after")
    assert found["etc/machine-id"] == found["etc/hostname"] == b""
    assert "etc/dropbear/dropbear_ed25519_host_key" not in found
    assert zeroseal("check", tmp_path / "s.img").status == 0


def test_identity_inside_a_signed_boot_image_stops_the_seal(
    tmp_path: Path, zeroseal: Command
) -> None:
    raw = packed(
        "gzip", make_archive(tmp_path / "m", {"/etc/machine-id": INSIDE["/etc/machine-id"]})
    )
    assert find_initrd_of_boot_image(boot_image(raw)) == raw
    (tmp_path / "linux.efi").write_bytes(boot_image(raw))
    image = make_guest_volume(tmp_path, BARE_GUEST | {"/boot/EFI/Linux/x": ""})
    run("debugfs", "-w", "-R", f"write {tmp_path / 'linux.efi'} /boot/EFI/Linux/linux.efi", image)
    answer = zeroseal("seal", image, "-o", tmp_path / "s.img", "--expect-seed")
    assert answer.status == 4
    assert "/boot/EFI/Linux/linux.efi is a boot image with etc/machine-id" in answer.err
