"""Real Debians with many services, each started as two machines: what differs is treated or told.

The comparison shares no code with ours: the kernel mounts the disks, hashes are Python's. Without
KVM a suite takes the better part of an hour; ``ZEROSEAL_DIFFERENCE=ONE:TWO`` names two disks that
were started from one already, as qcow2 with the root file system (ext4) in partition 3.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import subprocess
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.long import only_long
from tests.oracles import cut_partition, kernel_mount, need, run, to_raw

pytestmark = [pytest.mark.real_guest, pytest.mark.qemu]

LAB = Path(__file__).parent / "lab" / "make-debian-disk.sh"
SERVICES = (
    "etckeeper,bind9,bacula-fd,monit,mosquitto,rabbitmq-server,open-iscsi,postfix,postgresql,"
    "mariadb-server,slapd,mdadm,popularity-contest,dovecot-core,uuid-runtime,docker.io,cups,apache2,"
    "chrony,snmpd,ssl-cert,redis-server,samba,plocate,nfs-common,fail2ban,squid,tor,avahi-daemon,"
    "network-manager,unattended-upgrades,sysstat,auditd,at,wireguard-tools,puppet-agent"
)
DATABASES = re.compile(
    r"^/var/lib/(postgresql|mysql|ldap|rabbitmq/mnesia|redis|mosquitto)/|^/etc/ldap/slapd\.d/"
)
# what tells the time of a start, is counted up by it, or is put together again by the next one
NOISE = re.compile(
    r"^/(var/cache|var/log|var/tmp|tmp|run)/|^/boot/(initrd|grub/grubenv)"
    r"|^/var/lib/(apt|dpkg|systemd|logrotate|NetworkManager/timestamps|plymouth|ucf|sudo)(/|$)"
    r"|^/var/lib/containerd/io\.containerd\.metadata\.v1\.bolt/meta\.db$"  # counts its changes
    r"|^/etc/(ld\.so\.cache|\.pwd\.lock|resolv\.conf|mtab|adjtime|.*\.db)$"
)


def start(base: Path, folder: Path, number: int) -> Path:
    """Starts a machine from an overlay, with a name of its own, until it shuts itself down."""
    need("qemu-system-x86_64", "genisoimage")
    name, disk = f"pier-{number}", folder / f"pier-{number}.qcow2"
    run("qemu-img", "create", "-q", "-f", "qcow2", "-b", base, "-F", "qcow2", disk)
    (folder / "meta-data").write_text(f"instance-id: i-{number}\nlocal-hostname: {name}\n")
    (folder / "user-data").write_text(
        "#cloud-config\nruncmd: [[sh, -c, 'systemctl is-system-running --wait; uuidgen --time']]\n"
        "power_state: {mode: poweroff, delay: now, timeout: 120}\n"
    )
    seed = folder / f"{name}.iso"
    run("genisoimage", "-quiet", "-o", seed, "-V", "cidata", "-r", "-J", folder / "meta-data",
        folder / "user-data")  # fmt: skip
    words = ["qemu-system-x86_64", "-cpu", "max", "-smp", "2", "-m", "3072", "-display", "none",
             "-drive", f"file={disk},if=virtio", "-drive", f"file={seed},if=virtio,format=raw",
             "-nic", f"user,model=virtio-net-pci,mac=52:54:00:17:00:0{number}"]  # fmt: skip
    subprocess.run(words, check=True, timeout=3600)
    return disk


def hashes(disk: Path, folder: Path) -> dict[str, str]:
    """The SHA-256 of every file of the root volume, as the kernel reads it."""
    raw = to_raw(disk, folder / "disk.raw")
    volume = cut_partition(raw, 3, folder / "root.ext4")
    found = {}
    with kernel_mount(volume, "ro,noload") as point:
        for top, _folders, names in os.walk(point):
            for name in names:
                path = Path(top, name)
                if path.is_file() and not path.is_symlink():
                    place = f"/{path.relative_to(point)}"
                    found[place] = hashlib.sha256(path.read_bytes()).hexdigest()
    raw.unlink()
    volume.unlink()
    return found


@only_long
@pytest.mark.parametrize("suite", ["bullseye", "bookworm", "trixie"])
def test_what_differs_between_two_machines_is_treated_or_told(
    suite: str, tmp_path: Path, zeroseal: Command
) -> None:
    if given := os.environ.get("ZEROSEAL_DIFFERENCE"):
        one, two = map(Path, given.split(":"))
    else:
        base = tmp_path / f"{suite}.qcow2"
        more = os.environ | {"SUITE": suite, "MORE": SERVICES, "CACHE": str(tmp_path)}
        subprocess.run(["bash", LAB, base], env=more, check=True, stdout=subprocess.DEVNULL)
        one, two = (start(base, tmp_path, number) for number in (1, 2))
    sealed = tmp_path / "sealed.qcow2"
    words = ("--expect-seed", "--restart-history", "--same-size-clones", "--allow-residue")
    done = zeroseal("seal", one, "-o", sealed, *words)
    assert done.status == 0, done.err
    before, other, after = (hashes(disk, tmp_path) for disk in (one, two, sealed))
    differing = {path for path in before.keys() & other.keys() if before[path] != other[path]}
    assert len(differing) > 30
    staying = {path for path in differing if after.get(path) == before[path]}
    record = json.loads((tmp_path / "sealed.qcow2.seal.json").read_text())["predicate"]
    told = {item["path"] for kind in ("unclaimed", "secrets") for item in record["stays"][kind]}
    left = {path for path in staying - told if not NOISE.search(path) and not DATABASES.match(path)}
    assert left == set()
    if any(DATABASES.match(path) for path in staying):
        assert any("clones share their identifiers" in text for text in record["consequences"])
