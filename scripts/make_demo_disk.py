"""Makes the demo's disk: the used ticket gate ``gangway`` of Saltmarsh Ferries.

Run as root (file owners) with e2fsprogs, gdisk, dosfstools, mtools, util-linux, openssh-client and
qemu-utils installed::

    python scripts/make_demo_disk.py src/zeroseal/demo/gangway.qcow2

A made-up distribution, made-up people. GPT, an EFI stub partition, ext4 and swap; under 1 MB.
"""

from __future__ import annotations

import gzip
import os
import random
import subprocess
import sys
import tempfile
from pathlib import Path

MIB = 1 << 20
WHEN = "1793260800"  # 2026-10-29
ESP_START, ESP_MIB = 1, 2
ROOT_START, ROOT_MIB = 3, 26
SWAP_START, SWAP_MIB = 29, 2
DISK_MIB = 32
ROOT_UUID = "5a17ba25-0000-4000-8000-67616e677761"
SWAP_UUID = "5a17ba25-0000-4000-8000-737761700000"
RANDOM = random.Random("Saltmarsh Ferries")
MACHINE_ID = RANDOM.randbytes(16).hex()

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
    "/usr/sbin/sshd": "#!demo: stands for the SSH server\n",
    "/usr/bin/ssh-keygen": "#!demo: stands for the key maker\n",
    "/usr/lib/systemd/system/sshd-keygen.target": "[Unit]\nDescription=SSH host keys\n",
    "/usr/lib/systemd/system/cloud-init.service": "[Unit]\nDescription=First-boot seeding\n",
    "/opt/gate/gate.conf": "pier = 3\nopens = 05:40\ncloses = 23:10\n",
    "/opt/gate/fares.csv": "route,adult,child\nSaltmarsh-Heron Point,4.20,2.10\n"
    "Saltmarsh-Long Sands,6.80,3.40\n",
    "/usr/share/doc/tideline/readme": "A made-up distribution for a demonstration.\n" * 40,
}
LINKS = {
    "/etc/systemd/system/multi-user.target.wants/sshd-keygen.target": (
        "/usr/lib/systemd/system/sshd-keygen.target"
    ),
    "/etc/systemd/system/cloud-init.target.wants/cloud-init.service": (
        "/usr/lib/systemd/system/cloud-init.service"
    ),
    "/var/mail": "spool/mail",
}
FOLDERS = ("/boot/efi", "/dev", "/proc", "/sys", "/run", "/tmp", "/var/tmp", "/var/log/journal")
PASSWD = "root:x:0:0:root:/root:/bin/bash\ndaemon:x:1:1::/usr/sbin:/usr/sbin/nologin\n"


def used_files(keys: Path) -> dict[str, bytes]:
    """What a first boot and some months of use leave on the disk."""
    log = "".join(
        f"Oct {day:02} 05:4{day % 10}:12 gangway-ref gate[412]: opened by ada.brine "
        f"from 192.0.2.{day + 10}\n"
        for day in range(1, 29)
    )
    lease = (
        'lease {\n  interface "ens3";\n  fixed-address 192.0.2.41;\n'
        '  option host-name "gangway-ref";\n  option dhcp-client-identifier '
        f"ff:{RANDOM.randbytes(8).hex(':')};\n}}\n"
    )
    files: dict[str, bytes | str] = {
        "/etc/hostname": "gangway-ref\n",
        "/etc/hosts": "127.0.0.1 localhost\n127.0.1.1 gangway-ref.saltmarsh.example gangway-ref\n",
        "/etc/machine-id": MACHINE_ID + "\n",
        "/var/lib/dbus/machine-id": MACHINE_ID + "\n",
        "/var/lib/systemd/random-seed": RANDOM.randbytes(512),
        "/etc/passwd": PASSWD + "ada.brine:x:1000:1000:Ada Brine,,02-555-0117:/home/ada.brine:"
        "/bin/bash\ntom.kelp:x:1001:1001:Tom Kelp:/home/tom.kelp:/bin/bash\n",
        "/etc/passwd-": PASSWD + "ada.brine:x:1000:1000:Ada Brine:/home/ada.brine:/bin/bash\n",
        "/etc/shadow": "root:$6$demo$" + RANDOM.randbytes(43).hex() + ":20000:0:99999:7:::\n"
        "daemon:*:20000:0:99999:7:::\n"
        f"ada.brine:$6$demo${RANDOM.randbytes(43).hex()}:20000:0:99999:7:::\n"
        f"tom.kelp:$6$demo${RANDOM.randbytes(43).hex()}:20000:0:99999:7:::\n",
        "/etc/group": "root:x:0:\ndaemon:x:1:\nadm:x:4:ada.brine\nsudo:x:27:ada.brine,tom.kelp\n"
        "ada.brine:x:1000:\ntom.kelp:x:1001:\n",
        "/etc/gshadow": "root:*::\ndaemon:*::\nadm:*::ada.brine\nsudo:*::ada.brine,tom.kelp\n"
        "ada.brine:!::\ntom.kelp:!::\n",
        "/etc/subuid": "ada.brine:100000:65536\ntom.kelp:165536:65536\n",
        "/etc/subgid": "ada.brine:100000:65536\ntom.kelp:165536:65536\n",
        "/etc/krb5.keytab": b"\x05\x02" + RANDOM.randbytes(120),
        "/home/ada.brine/.bash_history": "ssh ledger-ref\n"
        "export TIDE_TOKEN=not-a-real-token-4471\n",
        "/home/ada.brine/notes.txt": "Pier 3 sticks when the tide is high. Code 4417.\n",
        "/home/ada.brine/.ssh/id_ed25519": (keys / "ada").read_bytes(),
        "/home/ada.brine/.ssh/id_ed25519.pub": (keys / "ada.pub").read_bytes(),
        "/home/ada.brine/.ssh/known_hosts": "ledger-ref.saltmarsh.example "
        + (keys / "host_ed25519.pub").read_text(),
        "/home/tom.kelp/.bash_history": "sudo systemctl restart gate\n",
        "/root/.bash_history": "mysql -p'not-a-real-password-88'\n",
        "/root/.ssh/authorized_keys": (keys / "ada.pub").read_bytes(),
        "/var/spool/mail/ada.brine": "From: tom.kelp\n\nThe gate's key is under the mat.\n",
        "/var/lib/dhcp/dhclient.ens3.leases": lease,
        f"/var/log/journal/{MACHINE_ID}/system.journal": b"LPKSHHRH"
        + RANDOM.randbytes(60000)
        + log.encode(),
        "/var/log/gate.log": log,
        "/var/log/gate.log.1": log,
        "/var/log/auth.log": "Oct 29 08:12:44 gangway-ref sshd[412]: Accepted password for "
        "ada.brine from 192.0.2.17 port 50122 ssh2\n",
        "/var/log/wtmp": b"ada.brine".ljust(384, b"\0") * 20,
        "/var/log/btmp": b"",
        "/var/log/gate.log.2.gz": gzip.compress(RANDOM.randbytes(30000), mtime=0),
        "/var/lib/cloud/instances/i-0gate/user-data.txt": "#cloud-config\nusers: [ada.brine]\n",
        "/var/lib/cloud/sem/config_ssh.once": "done\n",
        "/etc/sudoers.d/90-cloud-init-users": "ada.brine ALL=(ALL) NOPASSWD:ALL\n",
        "/tmp/gate-dump.sql": "insert into riders values ('ada.brine', '02-555-0117');\n" * 200,
        "/var/cache/apt/archives/gate_4.1_all.deb": RANDOM.randbytes(40000),
    }
    for kind in ("ed25519", "ecdsa"):
        files[f"/etc/ssh/ssh_host_{kind}_key"] = (keys / f"host_{kind}").read_bytes()
        files[f"/etc/ssh/ssh_host_{kind}_key.pub"] = (keys / f"host_{kind}.pub").read_bytes()
    return {
        path: content.encode() if isinstance(content, str) else content
        for path, content in files.items()
    }


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


def put(tree: Path, path: str, content: bytes) -> None:
    """Writes one file of the tree, with the owner and mode that its place calls for."""
    target = tree / path.lstrip("/")
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_bytes(content)
    is_secret = path.endswith(("_key", "shadow", "id_ed25519", "keytab", ".bash_history", "-seed"))
    target.chmod(0o600 if is_secret else 0o644)
    if path.startswith("/home/"):
        owner = 1000 if "ada.brine" in path else 1001
        for item in (target, *target.parents):
            if item == tree / "home":
                break
            os.chown(item, owner, owner)


def make_tree(tree: Path, keys: Path) -> None:
    """Lays out the whole file tree."""
    for path in FOLDERS:
        (tree / path.lstrip("/")).mkdir(parents=True, exist_ok=True)
    for path, text in SYSTEM.items():
        put(tree, path, text.encode())
    for path, content in used_files(keys).items():
        put(tree, path, content)
    (tree / "etc/machine-id").chmod(0o444)
    for path, target in LINKS.items():
        link = tree / path.lstrip("/")
        link.parent.mkdir(parents=True, exist_ok=True)
        link.symlink_to(target)
    for item in sorted(tree.rglob("*")):
        os.utime(item, (int(WHEN), int(WHEN)), follow_symlinks=False)


def make_root(work: Path) -> Path:
    """Makes the root file system, with files that were deleted after use."""
    tree, keys = work / "tree", work / "keys"
    keys.mkdir()
    for kind, name in (("ed25519", "host_ed25519"), ("ecdsa", "host_ecdsa"), ("ed25519", "ada")):
        comment = "ada.brine@gangway-ref" if name == "ada" else "root@gangway-ref"
        run("ssh-keygen", "-q", "-t", kind, "-N", "", "-C", comment, "-f", keys / name)
    make_tree(tree, keys)
    (tree / "deleted").mkdir()
    (tree / "deleted/old-login").write_text("password of ada.brine: not-a-real-password-17\n" * 50)
    (tree / "deleted/old.log").write_bytes(RANDOM.randbytes(50000))
    root = work / "root.ext4"
    run(
        "mke2fs", "-q", "-t", "ext4", "-b", "1024", "-N", "1024", "-L", "gate-root",
        "-U", ROOT_UUID, "-E", f"hash_seed={ROOT_UUID},root_owner=0:0", "-J", "size=1",
        "-d", tree, root, f"{ROOT_MIB}M",
    )  # fmt: skip
    run(
        "debugfs", "-w", root,
        feed="rm /deleted/old-login\nrm /deleted/old.log\nrmdir /deleted\n",
    )  # fmt: skip
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
    with swap.open("r+b") as file:
        file.seek(64 << 10)
        file.write(b"key of the till: not-a-real-key-5512 " * 60 + RANDOM.randbytes(8000))
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
    """Makes the disk at the path given."""
    output = Path(sys.argv[1])
    with tempfile.TemporaryDirectory() as work:
        make_disk(Path(work), output)
    print(f"{output}: {output.stat().st_size} bytes")


if __name__ == "__main__":
    main()
