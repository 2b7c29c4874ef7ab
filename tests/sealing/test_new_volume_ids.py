"""Other identities for the volumes of a disk, and for all that names them in its guest."""

from __future__ import annotations

import gzip
import json
import re
import struct
import uuid
from collections.abc import Sequence
from pathlib import Path

import pytest
from scripts.desk_machine import raw as hive_row

from tests.conftest import Command
from tests.disks import BARE_GUEST, MIB, ROOT_UUID, SEEDING, make_disk, make_ext, write_tree
from tests.lvm import lvm_disk, opened_lvm, put
from tests.oracles import (
    cut_partition,
    find_texts,
    image_info,
    judge_ext,
    judge_qcow2,
    partition_range,
    run,
    to_raw,
)
from tests.windows import make_windows_disk
from tests.xfs import judge_xfs, make_xfs
from zeroseal.errors import RefusedError
from zeroseal.guests.linux.initramfs import build_file_archive
from zeroseal.images.detect import opened_image
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.volume_ids.renew import IdPlan, plan_new_ids, renew_disk_ids

NOW = 1_795_000_000
ESP_ID, SWAP_ID = "E0F2-40AD", "d770b7ed-d323-47f9-82fc-a34a661a6ff7"
DISK_GUID = "0b9d6c1e-3a57-4b0e-9d5e-1f2a3b4c5d6e"
ROOT_GUID = "7c1f5a52-0d3b-4c8e-8a44-66f0c9c0a1b2"
ESCAPED = ROOT_UUID.replace("-", "\\x2d")
GRUB_FILE = "/boot/grub/grub.cfg"
UNIT = f"dev-disk-by\\x2duuid-{ESCAPED}.device.d"


def packed_archive() -> bytes:
    """An initramfs: microcode as it is, then a packed archive that names root and swap."""
    early = build_file_archive({"early": b"microcode"})
    inside = {
        "resume": f"RESUME=UUID={SWAP_ID}\n".encode(),
        f"wait-{ROOT_UUID}.sh": f"[ -e /dev/disk/by-uuid/{ROOT_UUID} ]\n".encode(),
        "program": b"\x7fELF\0\0nothing of interest",
    }
    return early + gzip.compress(build_file_archive(inside))


def linux_tree(folder: Path) -> Path:
    """A guest that names its volumes wherever one does."""
    tree = BARE_GUEST | SEEDING | {
        "/etc/fstab": f"UUID={ROOT_UUID} / ext4 defaults 0 1\nUUID={ESP_ID} /boot/efi vfat ro 0 2\n"
        f"/dev/disk/by-uuid/{SWAP_ID.upper()} none swap sw 0 0\n# PARTUUID={ROOT_GUID}\n",
        "/etc/crypttab": f"# tide UUID={ROOT_UUID}\n",
        "/etc/kernel/cmdline": f"root=UUID={ROOT_UUID} resume=UUID={SWAP_ID} quiet\n",
        "/etc/udev/rules.d/70-pier.rules": f'ENV{{ID_PART_ENTRY_UUID}}=="{ROOT_GUID}"\n',
        "/boot/grub/grub.cfg": f"search --no-floppy --fs-uuid --set=root {ROOT_UUID}\n"
        f"linux /boot/vmlinuz root=PARTUUID={ROOT_GUID}\n",
        "/boot/grub/grubenv": f"# GRUB Environment Block\nroot={ROOT_UUID}\n".ljust(1024, "#"),
        "/boot/efi/": "",
        f"/etc/systemd/system/{UNIT}/wait.conf": "[Unit]\nJobTimeoutSec=5\n",
        f"/etc/systemd/system/local.target.wants/dev-{ESCAPED}.swap": f"-> ../dev-{ESCAPED}.swap",
        "/srv/notes.txt": f"the root volume is {ROOT_UUID}\n",
    }  # fmt: skip
    folder.mkdir()
    write_tree(folder, tree)
    (folder / "boot/initrd.img-6.1").write_bytes(packed_archive())
    (folder / "var/lib/tide").mkdir(parents=True)
    return folder


def make_linux_disk(
    folder: Path, more: dict[str, bytes] | None = None, in_esp: dict[str, bytes] | None = None
) -> Path:
    """A GPT disk: EFI system partition, root, swap."""
    tree = linux_tree(folder / "tree")
    for name, content in (more or {}).items():
        place = tree / name.lstrip("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(content)
    root = make_ext(folder / "root.img", 24, "-t", "ext4", "-b", "1024", tree=tree)
    esp, swap = folder / "esp.img", folder / "swap.img"
    for path, size in ((esp, 4), (swap, 2)):
        with path.open("wb") as file:
            file.truncate(size * MIB)
    run("mkfs.vfat", "-i", ESP_ID.replace("-", ""), "-n", "ESP", esp)
    run("mmd", "-i", esp, "::EFI", "::EFI/debian")
    for name, content in (in_esp or {}).items():
        (folder / "file").write_bytes(content)
        run("mcopy", "-i", esp, folder / "file", f"::EFI/debian/{name}")
    run("mkswap", "-q", "-U", SWAP_ID, swap)
    disk = make_disk(folder / "disk.raw", ("ef00", esp), ("8300", root), ("8200", swap))
    run("sgdisk", "-U", DISK_GUID, "-u", f"2:{ROOT_GUID}", disk)
    return disk


def renewed(disk: Path) -> tuple[IdPlan, dict[str, str]]:
    """(the plan, new identities by old ones) of a disk that got others."""
    plan = plan_new_ids(disk)
    return plan, {one.old.text: one.new for one in renew_disk_ids(disk, plan, NOW)}


def read(disk: Path, paths: Sequence[str]) -> dict[str, bytes]:
    with opened_image(disk) as image:
        guest = Inspection.read(image).guest
        return {path: guest.read_file(path) for path in paths}


def test_everything_that_names_a_volume_names_the_new_one(tmp_path: Path) -> None:
    efi = {"grub.cfg": f"search.fs_uuid {ROOT_UUID} root\n".encode()}
    disk = make_linux_disk(tmp_path, in_esp=efi)
    plan, new = renewed(disk)
    assert {one.where for one in plan.ids} == {
        "the disk", "partition 1", "partition 2", "partition 3",
    }  # fmt: skip
    assert len(new) == 7
    raw = disk.read_bytes()
    forms = [text.encode() for text in (ESP_ID, SWAP_ID, SWAP_ID.upper(), ROOT_UUID, ESCAPED)]
    forms += [uuid.UUID(text).bytes_le for text in (DISK_GUID, ROOT_GUID)]
    forms += [ROOT_GUID.encode(), uuid.UUID(ROOT_UUID).bytes, uuid.UUID(SWAP_ID).bytes]
    assert [form for form in forms if form in raw] == []
    told = {
        "/etc/fstab": f"UUID={new[ROOT_UUID]} / ext4",
        "/etc/crypttab": new[ROOT_UUID],
        "/etc/kernel/cmdline": f"root=UUID={new[ROOT_UUID]} resume=UUID={new[SWAP_ID]} quiet",
        "/etc/udev/rules.d/70-pier.rules": new[ROOT_GUID],
        "/boot/grub/grub.cfg": f"root=PARTUUID={new[ROOT_GUID]}",
        "/boot/grub/grubenv": new[ROOT_UUID],
        "/boot/efi/EFI/debian/grub.cfg": new[ROOT_UUID],
        "/srv/notes.txt": new[ROOT_UUID],
    }
    escaped = new[ROOT_UUID].replace("-", "\\x2d")
    unit = f"/etc/systemd/system/dev-disk-by\\x2duuid-{escaped}.device.d/wait.conf"
    found = read(disk, [*told, unit, "/boot/initrd.img-6.1"])
    assert {path: text for path, text in told.items() if text.encode() not in found[path]} == {}
    assert len(found["/boot/grub/grubenv"]) == 1024
    assert f"/by-uuid/{new[SWAP_ID].upper()} none".encode() in found["/etc/fstab"]
    with opened_image(disk) as image:
        link = f"/etc/systemd/system/local.target.wants/dev-{escaped}.swap"
        assert Inspection.read(image).guest.read_link(link) == f"../dev-{escaped}.swap"
    # the archive, by cpio
    early = build_file_archive({"early": b"microcode"})
    assert found["/boot/initrd.img-6.1"].startswith(early)
    inside = tmp_path / "inside"
    inside.mkdir()
    (tmp_path / "i").write_bytes(gzip.decompress(found["/boot/initrd.img-6.1"][len(early) :]))
    run("sh", "-c", f"cd {inside} && cpio -id --quiet < {tmp_path / 'i'}")
    assert (inside / "resume").read_text() == f"RESUME=UUID={new[SWAP_ID]}\n"
    assert (inside / f"wait-{new[ROOT_UUID]}.sh").is_file()
    # what others say of the disk
    assert "No problems found" in run("sgdisk", "-v", disk)
    assert new[ROOT_GUID].upper() in run("sgdisk", "-i", "2", disk)
    assert new[DISK_GUID].upper() in run("sgdisk", "-p", disk)
    for number, old in ((1, ESP_ID), (2, ROOT_UUID), (3, SWAP_ID)):
        part = cut_partition(disk, number, tmp_path / f"part{number}")
        assert run("blkid", "-p", "-s", "UUID", "-o", "value", part).strip() == new[old]
    judge_ext(tmp_path / "part2")
    run("fsck.fat", "-n", tmp_path / "part1")


def program(content: bytes, *, signed: bool = False, sections: tuple[bytes, ...] = ()) -> bytes:
    """A program for firmware, as far as anybody looks."""
    optional = bytearray(240)
    optional[:2] = b"\x0b\x02"
    if signed:
        struct.pack_into("<II", optional, 112 + 4 * 8, 4096, 512)
    head = bytearray(0x40)
    head[:2], head[0x3C:] = b"MZ", struct.pack("<I", 0x40)
    head += b"PE\0\0" + struct.pack("<HHIIIHH", 0x8664, len(sections), 0, 0, 0, len(optional), 0)
    head += optional
    place = len(head) + 40 * len(sections)
    for number, name in enumerate(sections):
        first = number == 0
        fields = (len(content), 0, len(content) if first else 0, place if first else 0)
        head += name.ljust(8, b"\0") + struct.pack("<IIII", *fields) + bytes(16)
    return bytes(head) + content


NAMED = f"search.fs_uuid {ROOT_UUID} root\n\0".encode()
REFUSED = {
    "a database": ({"/var/lib/tide/state.db": b"SQLite\0" + NAMED}, {}, "not a text file"),
    "a signed program": ({}, {"grubx64.efi": program(NAMED, signed=True)}, "with a signature"),
    "a boot image": (
        {"/boot/EFI/Linux/tide.efi": program(packed_archive(), sections=(b".initrd",))},
        {},
        "inside a boot image",
    ),
    "an archive that is not opened": (
        {"/boot/initrd.img-6.3": bytes.fromhex("04224d18") + b"packed"},
        {},
        "packed with LZ4",
    ),
    "inside an archive": (
        {"/boot/initrd.img-6.2": gzip.compress(build_file_archive({"bin": b"\0" + NAMED}))},
        {},
        "inside it bin, which is not a text file",
    ),
}


@pytest.mark.parametrize(("more", "in_esp", "why"), REFUSED.values(), ids=REFUSED)
def test_what_cannot_be_changed_stops_it_before_anything_is_written(
    tmp_path: Path, more: dict[str, bytes], in_esp: dict[str, bytes], why: str
) -> None:
    disk = make_linux_disk(tmp_path, more, in_esp)
    place = next(iter(more), "") or f"/boot/efi/EFI/debian/{next(iter(in_esp))}"
    before = disk.read_bytes()
    with pytest.raises(RefusedError, match=why) as caught:
        plan_new_ids(disk)
    assert place in caught.value.message
    assert disk.read_bytes() == before


def test_unsigned_programs_are_changed_and_records_of_the_past_are_told(tmp_path: Path) -> None:
    more = {"/var/log/installer/partman": b"\0" + NAMED}
    disk = make_linux_disk(tmp_path, more, {"grubx64.efi": program(NAMED)})
    plan, new = renewed(disk)
    assert plan.references.history == ("/var/log/installer/partman",)
    (content,) = read(disk, ["/boot/efi/EFI/debian/grubx64.efi"]).values()
    assert content == program(NAMED.replace(ROOT_UUID.encode(), new[ROOT_UUID].encode()))


def test_a_disk_with_a_master_boot_record(tmp_path: Path) -> None:
    tree = tmp_path / "tree"
    tree.mkdir()
    fstab = "PARTUUID=0badcafe-01 / ext4 defaults 0 1\n# 0x0BADCAFE\n"
    write_tree(tree, BARE_GUEST | {"/etc/fstab": fstab})
    root = make_ext(tmp_path / "root.img", 8, "-t", "ext4", "-b", "1024", tree=tree)
    disk = tmp_path / "disk.raw"
    disk.write_bytes(bytes(MIB) + root.read_bytes() + bytes(MIB))
    run("sfdisk", "-q", disk, feed="label: dos\nlabel-id: 0x0badcafe\nstart=2048,size=16384\n")
    _plan, new = renewed(disk)
    signature = new["0badcafe"]
    assert f"0x{signature}" in run("sfdisk", "-d", disk)
    (text,) = read(disk, ["/etc/fstab"]).values()
    assert f"PARTUUID={signature}-01 / ext4".encode() in text
    assert f"0x{signature}".encode() in text.lower()


def test_lvm_gets_new_identifiers_and_its_own_programs_agree(tmp_path: Path) -> None:
    disk, tree = tmp_path / "disk.raw", tmp_path / "tree"
    tree.mkdir()
    with lvm_disk(disk, 60, 400) as lvm:
        lvm.create("root", 24)
        lvm.create("data", 330)
        names = "pv_uuid,vg_uuid,vg_name"
        before = lvm.call("pvs", "--noheadings", "-o", names).split()
        ids = set(before[::3]) | set(before[1::3])
        logical = lvm.call("lvs", "--noheadings", "-o", "lv_uuid").split()
        core = f"prefix=(lvmid/{before[1]}/{logical[0]})/boot/grub\n"
        bare = before[0].replace("-", "")
        write_tree(tree, BARE_GUEST | {
            "/etc/fstab": "/dev/tide-vg/root / ext4 rw 0 1\n/dev/tide-vg/data /srv xfs ro 0 0\n",
            "/srv/": "",
            GRUB_FILE: core + "set root='lvm/tide--vg-root'\nlinux rd.lvm.lv=tide-vg/x\n",
            "/boot/grub/grubenv": "# GRUB Environment Block\nat=/dev/mapper/tide--vg-root\n".ljust(
                1024, "#"
            ),
            "/etc/systemd/system/dev-mapper-tide\\x2d\\x2dvg\\x2droot.device.d/a.conf": "",
            "/etc/lvm/devices/system.devices": f"IDTYPE=devname PVID={bare} PART=1\n",
        })  # fmt: skip
        root = make_ext(tmp_path / "r.img", 24, "-t", "ext4", "-b", "1024", tree=tree)
        put(disk, lvm.places("root"), root.read_bytes())
        data = make_xfs(tmp_path / "d.img", megabytes=330)
        put(disk, lvm.places("data"), data.read_bytes())
    plan, new = renewed(disk)
    assert sum("logical volume" in one.where for one in plan.ids) == 2
    old = [text.encode() for text in (*ids, *logical)]
    assert find_texts(disk, [*old, bare.encode()]) == set()
    with opened_lvm(disk) as lvm:
        after = lvm.call("pvs", "--noheadings", "-o", names).split()
        assert after == [new.get(word, word) for word in before]
        assert lvm.call("lvs", "--noheadings", "-o", "lv_uuid").split() == [
            new[word] for word in logical
        ]
        for device in lvm.devices:
            lvm.call("pvck", device)
        lvm.create("late", 8)
        begin, size = lvm.places("data")[0]
    with disk.open("rb") as file:
        file.seek(begin)
        (tmp_path / "after.xfs").write_bytes(file.read(size))
    judge_xfs(tmp_path / "after.xfs")
    found = read(disk, [GRUB_FILE, "/etc/lvm/devices/system.devices"])
    assert f"lvmid/{new[before[1]]}/{new[logical[0]]}".encode() in found[GRUB_FILE]
    assert new[before[0]].replace("-", "").encode() in found["/etc/lvm/devices/system.devices"]
    # and another name of the group
    plan = plan_new_ids(disk, renames_group=True)
    renew_disk_ids(disk, plan, NOW, "pier-north")
    with opened_lvm(disk) as lvm:
        assert set(lvm.call("lvs", "--noheadings", "-o", "vg_name").split()) == {"pier-north"}
        lvm.call("pvck", *lvm.devices)
        assert lvm.places("data", "pier-north")[0] == (begin, size)
    unit = "/etc/systemd/system/dev-mapper-pier\\x2d\\x2dnorth\\x2droot.device.d/a.conf"
    found = read(disk, [GRUB_FILE, "/etc/fstab", "/boot/grub/grubenv", unit])
    assert b"set root='lvm/pier--north-root'\nlinux rd.lvm.lv=pier-north/x\n" in found[GRUB_FILE]
    assert found["/etc/fstab"].startswith(b"/dev/pier-north/root / ext4")
    assert found["/boot/grub/grubenv"] == (
        b"# GRUB Environment Block\nat=/dev/mapper/pier--north-root\n".ljust(1024, b"#")
    )
    assert find_texts(disk, [b"/dev/tide-vg", b"tide--vg"]) == set()


def test_the_name_of_a_group_needs_one(tmp_path: Path) -> None:
    disk = make_linux_disk(tmp_path)
    with pytest.raises(RefusedError, match="the disk has 0 volume groups"):
        plan_new_ids(disk, renames_group=True)


BOOT = "Objects\\{9dea862c-5cdd-4e70-acc1-f32b344d4795}\\Elements\\21000001"


def element(partition: bytes, disk: bytes, table: int) -> bytes:
    """A device element of the boot loader's store that names a partition."""
    body = struct.pack("<IIQ", 6, 0, 0x48) + partition.ljust(16, b"\0")
    return bytes(16) + body + struct.pack("<II", 0, table) + disk.ljust(16, b"\0") + bytes(16)


def test_a_windows_that_names_its_partition(tmp_path: Path) -> None:
    own, whole = uuid.UUID(ROOT_GUID).bytes_le, uuid.UUID(DISK_GUID).bytes_le
    rows = [
        ("SYSTEM", hive_row("MountedDevices", "\\DosDevices\\C:", b"DMIO:ID:" + own)),
        ("SYSTEM", hive_row("Setup\\Pier", "Element", element(own, whole, 0))),
    ]
    disk = make_windows_disk(tmp_path / "desk.raw", *rows)
    run("sgdisk", "-U", DISK_GUID, "-u", f"2:{ROOT_GUID}", disk)
    plan, new = renewed(disk)
    assert "/Windows/System32/config/SYSTEM" in plan.references.hives
    for old in (DISK_GUID, ROOT_GUID):
        assert uuid.UUID(old).bytes_le not in disk.read_bytes()
    (hive,) = read(disk, ["/Windows/System32/config/SYSTEM"]).values()
    assert b"DMIO:ID:" + uuid.UUID(new[ROOT_GUID]).bytes_le in hive
    from tests.hives import by_python_registry

    (tmp_path / "SYSTEM").write_bytes(hive)
    mounted = by_python_registry(tmp_path / "SYSTEM").keys["MountedDevices"].values
    assert mounted["\\DosDevices\\C:"][1] == b"DMIO:ID:" + uuid.UUID(new[ROOT_GUID]).bytes_le


def test_a_seal_and_its_clones_share_nothing(tmp_path: Path, zeroseal: Command) -> None:
    disk, sealed, yard = make_linux_disk(tmp_path), tmp_path / "s.qcow2", tmp_path / "yard"
    words = ("--plant-first-boot", "--same-size-clones", "--new-volume-ids")
    done = zeroseal("seal", disk, "-o", sealed, "--format", "qcow2", *words)
    assert done.status == 0, done.err
    assert "7 identities of partitions and volumes were replaced" in " ".join(done.out.split())
    record = json.loads((tmp_path / "s.qcow2.seal.json").read_text())["predicate"]
    assert "UUID of partition 2" in record["newVolumeIds"]
    judge_qcow2(sealed)
    assert find_texts(to_raw(sealed, tmp_path / "s.raw"), [ROOT_UUID.encode()]) == set()
    names = ("--name", "north", "--name", "south", "--to", yard, "--new-volume-ids", "--linked")
    made = zeroseal("clone", sealed, *names)
    assert made.status == 0, made.err
    assert "7 new identities of partitions and volumes" in " ".join(made.out.split())
    disks = [yard / name / "disk.qcow2" for name in ("north", "south")]
    compared = zeroseal("compare", *disks)
    assert compared.status == 0
    assert "By design" not in compared.out
    for path in disks:
        judge_qcow2(path)
        assert image_info(path)["backing-filename"] == "../../s.qcow2"
        assert path.stat().st_size < 2 * MIB
        raw = to_raw(path, tmp_path / "clone.raw")
        assert partition_range(raw, 2)[0] > 0
        judge_ext(cut_partition(raw, 2, tmp_path / "clone.ext4"))
    sheet = tmp_path / "gates.toml"
    sheet.write_text(
        f'version = 1\ntemplate = "{sealed}"\n[every]\nnew_volume_ids = true\n'
        '[[clone]]\nname = "west"\n'
    )
    assert zeroseal("clone", "--sheet", sheet, "--to", yard).status == 0
    told = zeroseal("compare", yard / "west/disk.qcow2", sealed, "--json")
    kinds = {item["kind"] for item in json.loads(told.out)["shared"]}
    assert kinds & {"volume UUID", "disk GUID", "partition GUID"} == set()
    folder = zeroseal("seal", "--root", tmp_path / "tree", "--in-place", "--new-volume-ids")
    assert folder.status == 4
    assert re.search("no identity that could be changed", folder.err)
