"""Clones with volume identities of their own, started, and attached to one machine at once.

A real Debian on ext4, on XFS over LVM, and on btrfs: sealed, two linked clones with
``--new-volume-ids``, both started side by side; then both disks in a third machine, which mounts
everything on them. Without KVM that takes a quarter of an hour each: ``ZEROSEAL_LONG=1``.
"""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.long import only_long
from tests.oracles import judge_qcow2, need
from zeroseal.machines.definition import write_definition
from zeroseal.machines.guest_life import new_key_pairs
from zeroseal.machines.hosts.choose import host_of
from zeroseal.machines.hosts.host import Login, Shell
from zeroseal.machines.yard import Yard
from zeroseal.progress import quiet

pytestmark = [pytest.mark.real_guest, pytest.mark.qemu]

NAMES = ("north", "south")
# everything that blkid shows, without what a partition and its device have in common
OWN = "blkid -s UUID -o value | sort; blkid -s PARTUUID -o value | sort; blkid -s UUID_SUB -o value"
MOUNT = r"""
set -e
export PATH=$PATH:/usr/sbin:/sbin
number=0
for id in $(vgs --noheadings -o vg_uuid 2>/dev/null); do
  name=$(vgs --noheadings -o vg_name -S vg_uuid=$id 2>/dev/null | tr -d ' ')
  case $(pvs --noheadings -o pv_name -S vg_uuid=$id 2>/dev/null) in *vda*) continue ;; esac
  number=$((number + 1))
  vgrename -q $id rescue$number >/dev/null 2>&1
  vgchange -q -ay rescue$number >/dev/null 2>&1
done
count=0
for device in /dev/vd[b-z][0-9]* /dev/mapper/rescue*; do
  [ -e $device ] || continue
  case $(blkid -o value -s TYPE $device) in ext4 | xfs | btrfs | vfat) ;; *) continue ;; esac
  mkdir -p /mnt/${device##*/}
  mount $device /mnt/${device##*/}
  count=$((count + 1))
done
cat /mnt/*/etc/hostname /mnt/*/@/etc/hostname 2>/dev/null || true
echo mounted $count
"""


@contextmanager
def started(yard: Yard, names: tuple[str, ...], login: Login) -> Iterator[dict[str, Shell]]:
    """Machines that run side by side, each with a shell as root."""
    shells: dict[str, Shell] = {}
    hosts = {name: host_of(yard.get(name), yard, 0) for name in names}
    try:
        for name, host in hosts.items():
            host.start(yard.get(name), is_bound=True, progress=quiet)
        for name, host in hosts.items():
            shells[name] = host.open_shell(yard.get(name), login, 1800, quiet)
        yield shells
        for name, host in hosts.items():
            shells[name].close()
            host.stop(yard.get(name), 600, quiet)
    finally:
        for name, host in hosts.items():
            host.cut_power(yard.get(name))


def ask(shell: Shell, script: str) -> list[str]:
    answer = shell.run(script, as_root=True, timeout_seconds=600, is_patch=False)
    assert answer.status == 0, answer.text
    return answer.text.split()


@only_long
@pytest.mark.parametrize(
    ("fixture", "options", "mounts"),
    [
        ("debian", (), 4),
        ("debian_on_xfs", (), 8),
        ("debian_on_btrfs", ("--drop-snapshots",), 4),
    ],
    ids=["ext4", "lvm-xfs", "btrfs"],
)
def test_two_clones_are_mounted_in_one_machine(
    request: pytest.FixtureRequest,
    debian: Path,
    tmp_path: Path,
    zeroseal: Command,
    fixture: str,
    options: tuple[str, ...],
    mounts: int,
) -> None:
    need("qemu-system-x86_64")
    yard = Yard(tmp_path / "yard")
    for name, disk, more in (
        ("sealed", request.getfixturevalue(fixture), options),
        ("rescue", debian, ()),  # a system whose volume group, if it had one, would be another
    ):
        words = ("-o", tmp_path / f"{name}.qcow2", "--plant-first-boot", *more)
        done = zeroseal("seal", disk, *words)
        assert done.status == 0, done.err
    private, public = new_key_pairs("test")["ed25519"]
    (tmp_path / "key.pub").write_bytes(public)
    login = Login("ops", private.decode())
    like = ("--host", "qemu", "--user", "ops", "--public-key", tmp_path / "key.pub", "--linked")
    for source, names in (("sealed", NAMES), ("rescue", ("bench",))):
        called = [word for name in names for word in ("--name", name)]
        own = (*called, *like, "--to", yard.folder, "--new-volume-ids")
        made = zeroseal("clone", tmp_path / f"{source}.qcow2", *own)
        assert made.status == 0, made.err
    with started(yard, NAMES, login) as shells:
        ids = {name: ask(shell, OWN) for name, shell in shells.items()}
        for name, shell in shells.items():
            assert ask(shell, "cat /etc/hostname") == [name]
            assert ask(shell, "swapon --noheadings --show=SIZE") != []
            assert ask(shell, "findmnt -n -o OPTIONS / | grep -o '^rw'") == ["rw"]
    assert len(ids["north"]) > 5
    assert set(ids["north"]) & set(ids["south"]) == set()
    assert zeroseal("compare", *(yard.get(name).disk for name in NAMES)).status == 0
    bench = yard.get("bench")
    for name in NAMES:
        shutil.copyfile(yard.get(name).disk, bench.folder / f"{name}.qcow2")
    disks = tuple(f"{name}.qcow2" for name in NAMES)
    write_definition(bench.folder, replace(bench.definition, more_disks=disks))
    with started(yard, ("bench",), login) as shells:
        shown = ask(shells["bench"], OWN)
        assert len(shown) == len(set(shown)) > 15
        answer = ask(shells["bench"], MOUNT)
        assert answer[-2:] == ["mounted", str(mounts)]
        assert {"north", "south"} <= set(answer)
    for name in NAMES:
        judge_qcow2(bench.folder / f"{name}.qcow2")
