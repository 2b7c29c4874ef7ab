"""Makes the demo's base disk: a pristine, made-up distribution that ``build`` makes a machine of.

Run as root (file owners) with e2fsprogs, gdisk, dosfstools, mtools, util-linux and qemu-utils::

    python scripts/make_base_disk.py

It writes ``src/zeroseal/demo/tideline-4.qcow2`` (GPT, an EFI stub partition, ext4 and swap; under
1 MB) and puts its checksum into the demo's build sheet.
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


def main() -> None:
    """Makes the disk and notes its checksum in the sheet."""
    output, sheet = DEMO / "tideline-4.qcow2", DEMO / "gangway.toml"
    with tempfile.TemporaryDirectory() as work:
        make_disk(Path(work), output)
    checksum = hashlib.sha256(output.read_bytes()).hexdigest()
    sheet.write_text(re.sub(r'sha256 = "[^"]*"', f'sha256 = "{checksum}"', sheet.read_text()))
    print(f"{output}: {output.stat().st_size} bytes")


if __name__ == "__main__":
    main()
