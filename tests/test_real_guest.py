"""The whole job on a real, bootable Debian 12 disk, judged from outside; and a boot of the result.

The disk is made by ``tests/lab/make-debian-disk.sh`` (root, loop devices, a package mirror) once a
session. ``ZEROSEAL_DEBIAN_DISK`` names one that is there already.
"""

from __future__ import annotations

import os
import re
import subprocess
import time
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.oracles import cut_partition, find_texts, judge_ext, judge_qcow2, need, run, to_raw
from zeroseal.machines.definition import read_definition

pytestmark = pytest.mark.real_guest

VALUES = [
    b"gangway-ref", b"ada.brine", b"Ada Brine", b"02-555-0117", b"TIDE_TOKEN", b"192.0.2.17",
    b"not-a-real-token-4471", b"deleted-canary-5512",
]  # fmt: skip
BOOT_SECONDS = 600


@pytest.fixture(scope="session")
def debian(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The used disk of a real Debian."""
    given = os.environ.get("ZEROSEAL_DEBIAN_DISK")
    if given:
        return Path(given)
    if os.geteuid() != 0:
        pytest.skip("needs root to make the disk")
    need("mmdebstrap", "sgdisk", "mkfs.vfat", "losetup")
    path = tmp_path_factory.mktemp("debian") / "debian.qcow2"
    script = Path(__file__).parent / "lab/make-debian-disk.sh"
    done = subprocess.run(["bash", str(script), str(path)], stdout=subprocess.DEVNULL, check=False)
    if done.returncode and not os.environ.get("CI"):
        pytest.skip("could not make the disk: no package mirror?")
    assert done.returncode == 0
    return path


@pytest.fixture(scope="session")
def identity(debian: Path, tmp_path_factory: pytest.TempPathFactory) -> list[bytes]:
    """What the used disk holds of its machine, read by debugfs."""
    folder = tmp_path_factory.mktemp("identity")
    volume = cut_partition(to_raw(debian, folder / "d.raw"), 3, folder / "root.ext4")

    def cat(path: str) -> str:
        return run("debugfs", "-R", f"cat {path}", volume)

    values = [cat("/etc/machine-id").strip()]
    for key in ("/etc/ssh/ssh_host_ed25519_key", "/etc/ssh/ssh_host_rsa_key",
                "/home/ada.brine/.ssh/id_ed25519"):  # fmt: skip
        values += cat(key).splitlines()[2:4]
    values += [line.split(":")[1] for line in cat("/etc/shadow").splitlines() if ":$" in line]
    found = [value.encode() for value in values]
    assert len(found) >= 9
    assert find_texts(folder / "d.raw", [*found, *VALUES]) == {*found, *VALUES}
    (folder / "d.raw").unlink()
    return found


@pytest.mark.parametrize("form", ["qcow2", "raw", "compressed"])
def test_a_real_debian_is_sealed_without_a_trace(
    debian: Path, identity: list[bytes], tmp_path: Path, zeroseal: Command, form: str
) -> None:
    source = debian
    if form != "qcow2":
        source = tmp_path / "source"
        options = {"raw": ["-O", "raw"], "compressed": ["-c", "-O", "qcow2"]}[form]
        run("qemu-img", "convert", *options, debian, source)
    surveyed = zeroseal("survey", source)
    assert surveyed.status == 0
    assert "Debian GNU/Linux 12" in surveyed.out.splitlines()[0]
    assert zeroseal("check", source).status == 1
    sealed = tmp_path / "sealed"
    assert zeroseal("seal", source, "-o", sealed).status == 0
    assert zeroseal("check", sealed).out.startswith("SEALED")
    if form != "raw":
        judge_qcow2(sealed)
    raw = to_raw(sealed, tmp_path / "sealed.raw")
    run("sgdisk", "-v", raw)
    judge_ext(cut_partition(raw, 3, tmp_path / "root.ext4"))
    assert find_texts(raw, [*VALUES, *identity]) == set()


def test_a_clone_of_the_sealed_debian_boots_and_grows_a_new_identity(
    debian: Path, identity: list[bytes], tmp_path: Path, zeroseal: Command
) -> None:
    need("qemu-system-x86_64", "ssh-keygen")
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", tmp_path / "ops")
    assert zeroseal("seal", debian, "-o", tmp_path / "sealed.qcow2", "--quiet").status == 0
    made = zeroseal(
        "clone", tmp_path / "sealed.qcow2", "--name", "north", "--to", tmp_path / "yard",
        "--linked", "--user", "ops", "--public-key", tmp_path / "ops.pub",
    )  # fmt: skip
    assert made.status == 0, made.err
    clone, log = tmp_path / "yard/north", tmp_path / "console.log"
    definition = read_definition(clone)
    machine = subprocess.Popen(
        ["qemu-system-x86_64", "-m", "1024", "-smp", "2", "-display", "none", "-no-reboot",
         "-nic", f"user,model=virtio-net-pci,mac={definition.mac},restrict=on",
         "-smbios", f"type=1,uuid={definition.uuid}", "-serial", f"file:{log}",
         "-monitor", "stdio",
         "-drive", f"file={clone}/disk.qcow2,if=virtio,cache=unsafe",
         "-drive", f"file={clone}/seed.iso,if=virtio,format=raw,readonly=on"],
        stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, text=True,
    )  # fmt: skip
    try:
        end = time.monotonic() + BOOT_SECONDS
        while time.monotonic() < end and machine.poll() is None:
            console = log.read_text(errors="replace") if log.exists() else ""
            if re.search(r"Cloud-init .* finished", console):
                break
            time.sleep(2)
        machine.communicate("system_powerdown\n", timeout=BOOT_SECONDS)
    finally:
        machine.kill()
        machine.wait()
    console = log.read_text(errors="replace")
    assert re.search(r"Cloud-init .* finished", console), console[-3000:]
    assert "gangway-ref" not in console
    assert "Failed to start" not in console
    volume = cut_partition(to_raw(clone / "disk.qcow2", tmp_path / "c.raw"), 3, tmp_path / "c.ext4")
    judge_ext(volume)

    def cat(path: str) -> str:
        return run("debugfs", "-R", f"cat {path}", volume).strip()

    machine_id = cat("/etc/machine-id")
    assert len(machine_id) == 32
    assert machine_id.encode() not in identity
    assert cat("/etc/hostname") == "north"
    assert "PRIVATE KEY" in cat("/etc/ssh/ssh_host_ed25519_key")
    ours = (tmp_path / "ops.pub").read_text().split()[1]
    assert ours in cat("/home/ops/.ssh/authorized_keys")
    assert zeroseal("check", tmp_path / "sealed.qcow2").out.startswith("SEALED")
    compared = zeroseal("compare", clone / "disk.qcow2", debian)
    assert compared.out.startswith("UNIQUE")
