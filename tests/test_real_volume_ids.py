"""Clones with volume identities of their own, started, and attached to one machine at once.

A real Debian on ext4, on XFS over LVM, and on btrfs: sealed, two linked clones with
``--new-volume-ids``, both started side by side; then both disks in a third machine, which mounts
everything on them. Without KVM that takes a quarter of an hour each: ``ZEROSEAL_LONG=1``.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Command
from tests.long import only_long
from tests.oracles import need
from tests.side_by_side import OWN, ask, mount_together, started
from zeroseal.machines.guest_life import new_key_pairs
from zeroseal.machines.hosts.host import Login
from zeroseal.machines.yard import Yard

pytestmark = [pytest.mark.real_guest, pytest.mark.qemu]

NAMES = ("north", "south")


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
    assert mount_together(yard, "bench", NAMES, login) == mounts
