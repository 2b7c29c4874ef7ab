"""Small disks for tests, made by the real makers."""

from __future__ import annotations

import os
import uuid
from pathlib import Path

from tests.oracles import run

MIB = 1 << 20
ROOT_UUID = "11111111-2222-4333-8444-555555555555"

MACHINE_ID = "0123456789abcdef0123456789abcdef"

# A guest with identity and, unlike the demo's, nothing that seeds it or makes host keys.
BARE_GUEST: dict[str, str] = {
    "/etc/os-release": 'PRETTY_NAME="Tideline Linux"\nID=tideline\n',
    "/etc/fstab": f"UUID={ROOT_UUID} / ext4 defaults 0 1\n",
    "/etc/hostname": "pier-ref\n",
    "/etc/hosts": "127.0.0.1 localhost\n127.0.1.1 pier-ref.saltmarsh.example pier-ref\n",
    "/etc/machine-id": MACHINE_ID + "\n",
    "/etc/passwd": "root:x:0:0:root:/root:/bin/bash\n"
    "ada.brine:x:1000:1000::/home/ada.brine:/bin/sh\n",
    "/etc/shadow": "root:$6$rrrr:1:::::: \nada.brine:$6$aaaa:1::::::\n",
    "/etc/group": "root:x:0:\nsudo:x:27:ada.brine\nada.brine:x:1000:\n",
    "/etc/ssh/ssh_host_ed25519_key": "host-private-key-canary\n",
    "/etc/ssh/ssh_host_ed25519_key.pub": "ssh-ed25519 AAAA root@pier-ref\n",
    "/etc/systemd/network/10-pier.network": "[Network]\nDHCP=yes\n",
    "/etc/systemd/system/placeholder": "",
    "/home/ada.brine/.bash_history": "export TOKEN=home-canary\n",
    "/home/ada.brine/.ssh/authorized_keys": "ssh-ed25519 AAAA ada.brine\n",
    "/bin/sh": "",
    "/usr/bin/ssh-keygen": "",
    "/usr/sbin/resize2fs": "",
    "/usr/sbin/sfdisk": "",
    "/usr/sbin/useradd": "",
    "/usr/sbin/sshd": "",
    "/usr/lib/systemd/systemd": "",
    "/var/log/gate.log": "log-canary ada.brine\n",
}

# What a guest has that takes seeds: cloud-init as its package lays it out.
SEEDING: dict[str, str] = {
    "/etc/systemd/system/multi-user.target.wants/cloud-init.service": "-> /usr/lib/x",
    "/usr/lib/systemd/system/cloud-init.service": "[Service]\nExecStart=/usr/bin/cloud-init init\n",
    "/usr/bin/growpart": "",
}


def write_tree(folder: Path, tree: dict[str, str]) -> None:
    """Lays files out on the host; a value ``-> TARGET`` makes a symbolic link."""
    for path, content in tree.items():
        place = folder / path.lstrip("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        if content.startswith("-> "):
            place.symlink_to(content[3:])
        elif path.endswith("/"):
            place.mkdir(exist_ok=True)
        else:
            place.write_text(content)


def make_ext(
    path: Path, size_mib: int, *options: str, tree: Path | None = None, hash_seed: int = 0
) -> Path:
    """An ext file system without mounting; ``options`` go to mke2fs. The same each time."""
    path.unlink(missing_ok=True)
    words = list(options or ("-t", "ext4"))
    extended = [f"hash_seed={uuid.UUID(int=hash_seed + 1)}"]
    if "-E" in words:
        place = words.index("-E")
        extended.append(words[place + 1])
        del words[place : place + 2]
    if tree:
        words += ["-d", str(tree)]
    run(
        "mke2fs",
        "-q",
        "-F",
        "-U",
        ROOT_UUID,
        "-E",
        ",".join(extended),
        *words,
        path,
        f"{size_mib}M",
    )
    return path


def make_guest_volume(folder: Path, tree: dict[str, str], size_mib: int = 8) -> Path:
    """An ext4 volume that holds a guest, without a partition table."""
    source = folder / f"tree-{os.urandom(4).hex()}"
    source.mkdir()
    write_tree(source, tree)
    return make_ext(folder / "guest.img", size_mib, "-t", "ext4", "-b", "1024", tree=source)


def make_disk(path: Path, *volumes: tuple[str, Path]) -> Path:
    """A raw GPT disk from (type code, content) pairs, each in a partition of its own size."""
    start, words = 1, []
    for number, (code, content) in enumerate(volumes, 1):
        size = -(-content.stat().st_size // MIB)
        words += ["-n", f"{number}:{start}M:+{size}M", "-t", f"{number}:{code}"]
        start += size
    with path.open("wb") as disk:
        disk.truncate((start + 1) * MIB)
    run("sgdisk", *words, path)
    start = 1
    with path.open("r+b") as disk:
        for _code, content in volumes:
            disk.seek(start * MIB)
            disk.write(content.read_bytes())
            start += -(-content.stat().st_size // MIB)
    return path
