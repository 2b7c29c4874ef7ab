"""Makes the demo's base disks: a pristine, made-up distribution that ``build`` makes machines of.

Run as root (file owners, loop devices) with the tool installed and e2fsprogs, xfsprogs, lvm2,
gdisk, dosfstools, mtools, util-linux and qemu-utils::

    PYTHONPATH=. python scripts/make_base_disk.py

It writes ``tideline-4.qcow2`` (GPT, an EFI stub partition, ext4 and swap) and
``tideline-4-server.qcow2`` (an EFI stub partition, ``/boot`` on ext4, root on XFS and swap on LVM)
into ``src/zeroseal/demo``, each under 1 MB, and puts their checksums into the demo's build sheets.
"""

from __future__ import annotations

import hashlib
import os
import re
import subprocess
import tempfile
from pathlib import Path

MIB = 1 << 20
WHEN = "1793260800"  # 2026-10-29
ESP_START, ESP_MIB = 1, 2
SWAP_START, SWAP_MIB = 3, 2
ROOT_START, ROOT_MIB = 5, 26  # last on the disk, so that it can grow
DISK_MIB = 32
ROOT_UUID = "5a17ba25-0000-4000-8000-67616e677761"
SWAP_UUID = "5a17ba25-0000-4000-8000-737761700000"
DEMO = Path(__file__).resolve().parent.parent / "src/zeroseal/demo"

SYSTEM = {
    "/etc/os-release": 'NAME="Tideline Linux"\nPRETTY_NAME="Tideline Linux 4 (Spring Tide)"\n'
    "ID=tideline\nVERSION_ID=4\n",
    "/etc/fstab": f"UUID={ROOT_UUID} / ext4 defaults 0 1\nLABEL=GATE-ESP /boot/efi vfat "
    f"umask=0077,nofail 0 1\nUUID={SWAP_UUID} none swap sw 0 0\n",
    "/etc/login.defs": "UID_MIN 1000\nUID_MAX 60000\n",
    "/etc/shells": "/bin/sh\n/bin/bash\n",
    "/etc/ssh/sshd_config": "PermitRootLogin prohibit-password\n",
    "/etc/systemd/network/10-gate.network": "[Match]\nName=en*\n\n[Network]\nDHCP=yes\n",
    "/usr/lib/systemd/systemd": "#!demo: stands for the service manager\n",
    "/usr/lib/systemd/systemd-random-seed": "#!demo: stands for the seed service\n",
    "/usr/sbin/qemu-ga": "#!demo: stands for the guest agent\n",
    "/usr/sbin/sshd": "#!demo: stands for the SSH server\n",
    "/bin/sh": "#!demo: stands for the shell\n",
    "/usr/bin/cloud-init": "#!demo: stands for the first-boot seeding\n",
    "/usr/bin/growpart": "#!demo: stands for what lets a partition grow\n",
    "/usr/sbin/resize2fs": "#!demo: stands for what lets a file system grow\n",
    "/usr/lib/systemd/system-generators/cloud-init-generator": "#!demo: stands for its generator\n",
    "/usr/bin/ssh-keygen": "#!demo: stands for the key maker\n",
    "/usr/lib/systemd/system/sshd-keygen.target": "[Unit]\nDescription=SSH host keys\n",
    "/usr/lib/systemd/systemd-networkd": "#!demo: stands for the network service\n",
    "/usr/lib/systemd/system/systemd-networkd.service": "[Unit]\nDescription=Network\n",
    "/usr/share/zoneinfo/Europe/Dublin": "demo: stands for a time zone\n",
    "/usr/lib/systemd/system/sshd.service": "[Unit]\nDescription=SSH server\n",
    "/usr/lib/systemd/system/cloud-init.service": "[Unit]\nDescription=First-boot seeding\n",
    "/opt/gate/gate.conf": "pier = 3\nopens = 05:40\ncloses = 23:10\n",
    "/opt/gate/fares.csv": "route,adult,child\nSaltmarsh-Heron Point,4.20,2.10\n"
    "Saltmarsh-Long Sands,6.80,3.40\n",
    "/usr/share/doc/tideline/readme": "A made-up distribution for a demonstration.\n" * 40,
    "/etc/hostname": "localhost\n",
    "/etc/hosts": "127.0.0.1 localhost\n",
    "/etc/machine-id": "",
    "/etc/passwd": "root:x:0:0:root:/root:/bin/bash\ndaemon:x:1:1::/usr/sbin:/usr/sbin/nologin\n",
    "/etc/shadow": "root:!:20000:0:99999:7:::\ndaemon:*:20000:0:99999:7:::\n",
    "/etc/group": "root:x:0:\ndaemon:x:1:\nsudo:x:27:\n",
    "/etc/gshadow": "root:*::\ndaemon:*::\nsudo:*::\n",
    "/etc/subuid": "",
    "/etc/subgid": "",
    "/var/log/btmp": "",
}
LINKS = {
    "/etc/systemd/system/multi-user.target.wants/sshd-keygen.target": (
        "/usr/lib/systemd/system/sshd-keygen.target"
    ),
    "/etc/systemd/system/multi-user.target.wants/sshd.service": (
        "/usr/lib/systemd/system/sshd.service"
    ),
    "/etc/systemd/system/multi-user.target.wants/systemd-networkd.service": (
        "/usr/lib/systemd/system/systemd-networkd.service"
    ),
    "/etc/systemd/system/cloud-init.target.wants/cloud-init.service": (
        "/usr/lib/systemd/system/cloud-init.service"
    ),
    "/var/mail": "spool/mail",
}
FOLDERS = ("/boot/efi", "/dev", "/proc", "/sys", "/run", "/tmp", "/var/tmp", "/var/log/journal",
           "/home", "/root", "/srv", "/var/spool/mail", "/etc/sudoers.d")  # fmt: skip


def run(*words: str | Path, feed: str | None = None) -> None:
    """Runs a program that must succeed."""
    environ = os.environ | {"SOURCE_DATE_EPOCH": WHEN, "E2FSPROGS_FAKE_TIME": WHEN}
    subprocess.run(
        [str(word) for word in words],
        check=True,
        env=environ,
        stdout=subprocess.DEVNULL,
        input=feed,
        text=True,
    )


def make_tree(tree: Path) -> None:
    """Lays out the whole file tree."""
    for path in FOLDERS:
        (tree / path.lstrip("/")).mkdir(parents=True, exist_ok=True)
    for path, text in SYSTEM.items():
        place = tree / path.lstrip("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(text)
        place.chmod(0o600 if path.endswith("shadow") else 0o644)
    (tree / "etc/machine-id").chmod(0o444)
    (tree / "root").chmod(0o700)
    for path, target in LINKS.items():
        link = tree / path.lstrip("/")
        link.parent.mkdir(parents=True, exist_ok=True)
        link.symlink_to(target)
    for item in sorted(tree.rglob("*")):
        os.utime(item, (int(WHEN), int(WHEN)), follow_symlinks=False)


def make_root(work: Path) -> Path:
    """Makes the root file system."""
    tree, root = work / "tree", work / "root.ext4"
    make_tree(tree)
    run(
        "mke2fs", "-q", "-t", "ext4", "-b", "1024", "-N", "1024", "-L", "gate-root",
        "-U", ROOT_UUID, "-E", f"hash_seed={ROOT_UUID},root_owner=0:0", "-J", "size=1",
        "-d", tree, root, f"{ROOT_MIB}M",
    )  # fmt: skip
    # mke2fs takes over when the tree's files were laid out: all of it happened at one time
    places = ["/", "/lost+found", *(f"/{item.relative_to(tree)}" for item in tree.rglob("*"))]
    fields = ("ctime", "crtime", "atime", "mtime")
    lines = [f"set_inode_field {place} {field} @{WHEN}\n" for place in places for field in fields]
    run("debugfs", "-w", "-f", "-", root, feed="".join(lines))
    run("e2fsck", "-fn", root)
    return root


def make_disk(work: Path, output: Path) -> None:
    """Puts the volumes onto a partitioned disk and packs it."""
    disk, esp, swap = work / "disk.raw", work / "esp.fat", work / "swap"
    root = make_root(work)
    esp.write_bytes(b"")
    os.truncate(esp, ESP_MIB * MIB)
    run("mkfs.vfat", "-F", "12", "-i", "5a17ba25", "-n", "GATE-ESP", "--invariant", esp)
    run("mmd", "-i", esp, "::/EFI", "::/EFI/BOOT")
    swap.write_bytes(b"")
    os.truncate(swap, SWAP_MIB * MIB)
    run("mkswap", "-q", "-L", "gate-swap", "-U", SWAP_UUID, swap)
    with disk.open("wb") as file:
        file.truncate(DISK_MIB * MIB)
        for start, part in ((ESP_START, esp), (ROOT_START, root), (SWAP_START, swap)):
            file.seek(start * MIB)
            file.write(part.read_bytes())
    run(
        "sgdisk", "-U", ROOT_UUID,
        "-n", f"1:{ESP_START}M:+{ESP_MIB}M", "-t", "1:ef00", "-c", "1:esp",
        "-n", f"2:{ROOT_START}M:+{ROOT_MIB}M", "-t", "2:8304", "-c", "2:root",
        "-n", f"3:{SWAP_START}M:+{SWAP_MIB}M", "-t", "3:8200", "-c", "3:swap",
        "-u", f"1:{ROOT_UUID[:-1]}2", "-u", f"2:{ROOT_UUID[:-1]}3", "-u", f"3:{ROOT_UUID[:-1]}4",
        disk,
    )  # fmt: skip
    run("qemu-img", "convert", "-c", "-O", "qcow2", disk, output)


# -- the server: root on XFS over LVM

SERVER_UUID = "5a17ba25-0000-4000-8000-6c6564676572"
BOOT_UUID = "5a17ba25-0000-4000-8000-626f6f740000"
BOOT_START, BOOT_MIB, GROUP_START, GROUP_MIB = 3, 8, 11, 316
XFS_MIB, SERVER_SWAP_MIB = 304, 4  # mkfs.xfs makes nothing below 300 MB
SERVER = SYSTEM | {
    "/etc/fstab": "/dev/mapper/saltmarsh-root / xfs defaults 0 0\n"
    f"UUID={BOOT_UUID} /boot ext4 defaults 0 2\n"
    "LABEL=QUAY-ESP /boot/efi vfat umask=0077,nofail 0 1\n"
    "/dev/mapper/saltmarsh-swap none swap sw 0 0\n",
    "/usr/sbin/xfs_growfs": "#!demo: stands for what lets a file system grow\n",
    "/srv/ledger/accounts.csv": "account,name\n4000,fares\n6100,fuel\n",
}
_LVM = ("--driverloaded", "n", "--config", "devices{use_devicesfile=0 "
        'global_filter=["a|^/dev/loop|","r|.*|"]} activation{udev_sync=0 udev_rules=0} '
        "backup{backup=0 archive=0}")  # fmt: skip


def make_server_root(root: Path) -> None:
    """Makes the XFS root file system; its content is laid by our own editor, and judged."""
    from tests.xfs import FileStore

    from zeroseal.filesystems.xfs.edit import XfsEditor

    root.write_bytes(b"")
    os.truncate(root, XFS_MIB * MIB)
    run("mkfs.xfs", "-q", "-L", "quay-root", "-m", f"uuid={SERVER_UUID}", root)
    store = FileStore(root)
    editor = XfsEditor(store, int(WHEN))
    nodes = {"": editor.root}

    def folder_of(path: str) -> int:
        above, _slash, name = path.rpartition("/")
        if path not in nodes:
            mode = 0o700 if path == "/root" else 0o755
            nodes[path] = editor.create_folder(folder_of(above), name.encode(), mode)
        return nodes[path]

    for path in FOLDERS:
        folder_of(path)
    for path, text in SERVER.items():
        above, _slash, name = path.rpartition("/")
        mode = 0o444 if path == "/etc/machine-id" else 0o600 if path.endswith("shadow") else 0o644
        editor.create_file(folder_of(above), name.encode(), text.encode(), mode)
    for path, target in LINKS.items():
        above, _slash, name = path.rpartition("/")
        editor.create_link(folder_of(above), name.encode(), target.encode())
    editor.finish()
    store.close()
    run("xfs_repair", "-n", "-f", root)


def make_server(work: Path, output: Path) -> None:
    """Puts root and swap into a volume group, and all volumes onto a disk."""
    disk, esp, boot, root = (work / name for name in ("s.raw", "s.fat", "boot.ext4", "root.xfs"))
    make_server_root(root)
    esp.write_bytes(b"")
    os.truncate(esp, ESP_MIB * MIB)
    run("mkfs.vfat", "-F", "12", "-i", "5a17ba26", "-n", "QUAY-ESP", "--invariant", esp)
    run("mmd", "-i", esp, "::/EFI", "::/EFI/BOOT")
    (work / "efi" / "efi").mkdir(parents=True)
    run(
        "mke2fs", "-q", "-t", "ext4", "-b", "1024", "-L", "quay-boot", "-U", BOOT_UUID,
        "-E", f"hash_seed={BOOT_UUID},root_owner=0:0", "-J", "size=1", "-d", work / "efi", boot,
        f"{BOOT_MIB}M",
    )  # fmt: skip
    with disk.open("wb") as file:
        file.truncate((GROUP_START + GROUP_MIB + 1) * MIB)
        for start, part in ((ESP_START, esp), (BOOT_START, boot)):
            file.seek(start * MIB)
            file.write(part.read_bytes())
    run(
        "sgdisk", "-U", SERVER_UUID,
        "-n", f"1:{ESP_START}M:+{ESP_MIB}M", "-t", "1:ef00", "-c", "1:esp",
        "-n", f"2:{BOOT_START}M:+{BOOT_MIB}M", "-t", "2:8300", "-c", "2:boot",
        "-n", f"3:{GROUP_START}M:+{GROUP_MIB}M", "-t", "3:8e00", "-c", "3:lvm",
        "-u", f"1:{SERVER_UUID[:-1]}3", "-u", f"2:{SERVER_UUID[:-1]}4",
        "-u", f"3:{SERVER_UUID[:-1]}5", disk,
    )  # fmt: skip
    for name, place in lay_group(disk, {"root": XFS_MIB, "swap": SERVER_SWAP_MIB}).items():
        if name == "swap":
            swap = work / "server-swap"
            swap.write_bytes(b"")
            os.truncate(swap, SERVER_SWAP_MIB * MIB)
            run("mkswap", "-q", "-L", "quay-swap", swap)
        content = root if name == "root" else work / "server-swap"
        run("dd", f"if={content}", f"of={disk}", "bs=1M", f"seek={place // MIB}",
            "conv=notrunc,sparse", "status=none")  # fmt: skip
    run("qemu-img", "convert", "-c", "-O", "qcow2", disk, output)


def lay_group(disk: Path, volumes: dict[str, int]) -> dict[str, int]:
    """Makes the volume group ``saltmarsh``; where each volume lies on the disk, in bytes."""
    begin = GROUP_START * MIB
    device = subprocess.check_output(
        ["losetup", "-f", "--show", "-o", str(begin), "--sizelimit", str(GROUP_MIB * MIB), disk],
        text=True,
    ).strip()
    try:
        run("pvcreate", *_LVM, device)
        run("vgcreate", *_LVM, "-s", "1m", "saltmarsh", device)
        for name, megabytes in volumes.items():
            size = ("-an", "-Zn", "-Wn", "-L", f"{megabytes}M")
            run("lvcreate", *_LVM, *size, "-n", name, "saltmarsh")
        told = subprocess.check_output(
            ["lvs", *_LVM, "--noheadings", "-o", "lv_name,seg_start_pe,seg_pe_ranges", "saltmarsh"],
            text=True,
        )
    finally:
        run("losetup", "-d", device)
    found = {}
    for line in told.splitlines():
        name, _start, extents = line.split()
        found[name] = begin + MIB + int(extents.rpartition(":")[2].partition("-")[0]) * MIB
    return found


def main() -> None:
    """Makes the disks and notes their checksums in the sheets."""
    for name, sheet_name, make in (
        ("tideline-4.qcow2", "gangway.toml", make_disk),
        ("tideline-4-server.qcow2", "ledger.toml", make_server),
    ):
        output, sheet = DEMO / name, DEMO / sheet_name
        with tempfile.TemporaryDirectory() as work:
            make(Path(work), output)
        checksum = hashlib.sha256(output.read_bytes()).hexdigest()
        sheet.write_text(re.sub(r'sha256 = "[^"]*"', f'sha256 = "{checksum}"', sheet.read_text()))
        print(f"{output}: {output.stat().st_size} bytes")


if __name__ == "__main__":
    main()
