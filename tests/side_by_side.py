"""Machines started side by side, and what a machine that holds the disks of others sees."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace

from tests.oracles import judge_qcow2
from zeroseal.machines.definition import write_definition
from zeroseal.machines.hosts.choose import host_of
from zeroseal.machines.hosts.host import Login, Shell
from zeroseal.machines.yard import Yard
from zeroseal.progress import quiet

# everything that blkid shows, without what a partition and its device have in common
OWN = (
    "PATH=$PATH:/usr/sbin:/sbin; for tag in UUID PARTUUID UUID_SUB; do blkid -s $tag -o value; done"
)
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
def started(yard: Yard, names: tuple[str, ...], login: Login | None) -> Iterator[dict[str, Shell]]:
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


def mount_together(yard: Yard, bench: str, names: tuple[str, ...], login: Login | None) -> int:
    """How many file systems of the disks of *names* the machine *bench* mounts at once.

    No identity may be seen twice there, and every disk must still be sound afterwards.
    """
    machine = yard.get(bench)
    for name in names:
        shutil.copyfile(yard.get(name).disk, machine.folder / f"{name}.qcow2")
    disks = tuple(f"{name}.qcow2" for name in names)
    write_definition(machine.folder, replace(machine.definition, more_disks=disks))
    with started(yard, (bench,), login) as shells:
        shown = ask(shells[bench], OWN)
        assert len(shown) == len(set(shown)) >= 4 * (len(names) + 1)
        answer = ask(shells[bench], MOUNT)
    assert set(names) <= set(answer)
    for name in names:
        judge_qcow2(machine.folder / f"{name}.qcow2")
    assert answer[-2] == "mounted"
    return int(answer[-1])
