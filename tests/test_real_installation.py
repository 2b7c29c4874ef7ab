"""Debian's own installer, from an empty disk to its clones: UEFI, a TPM, a medium, pressed keys.

The installer's kernel and initrd are those of Debian's package; its packages come from a local
archive on the loopback address (``lab/installer_archive.py``). Without KVM an installation takes
half an hour and a boot some minutes: ``ZEROSEAL_LONG=1``. What comes out is judged by e2fsck,
fsck.fat, mtools, qemu-img, and by the guests themselves.
"""

from __future__ import annotations

import json
import re
import shutil
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Command
from tests.long import only_long
from tests.oracles import cut_partition, find_texts, judge_ext, judge_qcow2, need, run, to_raw
from tests.side_by_side import mount_together, started
from zeroseal.guests.linux.initramfs import build_file_archive
from zeroseal.machines.hosts.host import Shell
from zeroseal.machines.throwaway import SETTLED
from zeroseal.machines.yard import Yard

pytestmark = [pytest.mark.real_guest, pytest.mark.qemu]

EXAMPLES = Path(__file__).parent.parent / "examples"
NAME = "harbour-office"
SEAL = ("--plant-first-boot",)
CLONES = ("office-north", "office-south")
PLAIN = "TERM=dumb DEBIAN_FRONTEND=text auto=true priority=critical quiet"


@pytest.fixture(scope="module")
def archive(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Path, int]]:
    """The folder with kernel and initrd, and the port of the archive."""
    need("qemu-system-x86_64", "swtpm", "dpkg-deb", "gpg", "cpio")
    sys.path.insert(0, str(Path(__file__).parent / "lab"))
    from installer_archive import Archive, serve  # type: ignore[import-not-found]

    made: Any = Archive(tmp_path_factory.mktemp("archive"))
    made.make()
    server = serve(made)
    yield made.folder, server.server_port
    server.shutdown()
    server.server_close()


def arguments(port: int) -> str:
    """What the installer is started with: its mirror is here."""
    return f"console=ttyS0 {PLAIN} mirror/http/hostname=10.0.2.2:{port}"


def sheet_in(folder: Path, archive: Path) -> Path:
    shutil.copytree(EXAMPLES, folder)
    for name in ("linux", "initrd.gz"):
        (folder / name).symlink_to(archive / name)
    return folder / f"{NAME}.toml"


@only_long
def test_debian_is_installed_sealed_and_cloned_with_uefi_and_a_tpm(
    archive: tuple[Path, int], tmp_path: Path, zeroseal: Command
) -> None:
    files, port = archive
    sheet, yard = sheet_in(tmp_path / "sheets", files), Yard(tmp_path / "yard")
    words = ("--yard", yard.folder)
    wanted = f"origin.kernel_arguments={arguments(port)}"
    built = zeroseal("build", sheet, "--set", wanted, *words)
    # what its clones would lack is said at once, with the option that helps
    assert built.status == 1, built.err
    assert "nobody could log in to a clone" in " ".join(built.out.split())
    machine = yard.get(NAME)
    journal = json.loads((machine.folder / "build-journal.json").read_text())
    stages = [stage["name"] for stage in journal["installerStages"]]
    assert {"Loading additional components", "Installing the base system"} <= set(stages)
    assert [phase["name"] for phase in journal["phases"]] == [
        "install", "boot", "reach", "first boot", "tasks", "leave", "leave",
    ]  # fmt: skip
    assert journal["packagesAfter"]["openssh-server"] and journal["result"] == "built"
    assert list((machine.folder / "tpm").glob("*.permall"))
    shown = zeroseal("survey", machine.disk, "--machine", machine.folder / "machine.toml")
    assert "TPM state" in shown.out
    sealed = tmp_path / "office.qcow2"
    own = ("--machine", machine.folder / "machine.toml")
    done = zeroseal("seal", machine.disk, "-o", sealed, *SEAL, *own)
    assert done.status == 0, done.err
    judge_sealed(sealed, machine.disk, tmp_path)
    assert zeroseal("check", sealed, "--deep").status == 0
    shelf = ("--shelf", tmp_path / "shelf")
    added = zeroseal("shelf", "add", sealed, "--name", "office", "--version", "1", *own, *shelf)
    assert added.status == 0, added.err
    names = [word for name in (*CLONES, "office-bench") for word in ("--name", name)]
    clones = (*names, "--to", yard.folder, "--linked", "--new-volume-ids")
    made = zeroseal("clone", "office@1", *clones, "--host", "qemu", *shelf)
    assert made.status == 0, made.err
    facts = boot_twice(yard)
    assert [fact["hostname"] for fact in facts] == list(CLONES)
    for key in ("machine-id", "host key", "tpm"):
        assert facts[0][key] and facts[0][key] != facts[1][key], key
    compared = zeroseal("compare", *(yard.get(name).disk for name in CLONES))
    assert compared.status == 0, compared.out
    # each has an EFI system partition and a root that a third machine mounts beside its own
    assert mount_together(yard, "office-bench", CLONES, None) == 4


def judge_sealed(sealed: Path, source: Path, folder: Path) -> None:
    """The file, both volumes, and the search that shares no code with ours.

    This installer puts a copy of the loader where any firmware looks.
    """
    judge_qcow2(sealed)
    raw = to_raw(sealed, folder / "sealed.raw")
    esp = cut_partition(raw, 1, folder / "esp.img")
    run("fsck.fat", "-n", esp)
    names = run("mdir", "-b", "-i", esp, "::EFI/BOOT")
    assert "BOOTX64.EFI" in names
    root = cut_partition(raw, 2, folder / "root.img")
    judge_ext(root)
    before = cut_partition(to_raw(source, folder / "source.raw"), 2, folder / "before.img")
    identity = run("debugfs", "-R", "cat /etc/machine-id", before).strip().encode()
    key = run("debugfs", "-R", "cat /etc/ssh/ssh_host_ed25519_key.pub", before).split()[1].encode()
    assert len(identity) == 32
    assert find_texts(raw, [identity, key, NAME.encode()]) == set()


def boot_twice(yard: Yard) -> list[dict[str, str]]:
    """What each clone says of itself, the same after both starts; all of them run side by side."""
    facts: list[dict[str, dict[str, str]]] = []
    for _boot in range(2):
        with started(yard, CLONES, None) as shells:
            for shell in shells.values():
                # the agent answers before the planted script has done its work
                shell.run(SETTLED, as_root=True, timeout_seconds=900, is_patch=False)
            facts.append(
                {
                    name: {key: ask(shell, script) for key, script in QUESTIONS.items()}
                    for name, shell in shells.items()
                }
            )
    # a PCR is of one start; what was made stays
    assert facts[0] == facts[1]
    states = {name: next((yard.get(name).folder / "tpm").glob("*.permall")) for name in CLONES}
    return [facts[1][name] | {"tpm": states[name].read_bytes().hex()} for name in CLONES]


QUESTIONS = {
    "hostname": "cat /etc/hostname",
    "machine-id": "cat /etc/machine-id",
    "host key": "key=/etc/ssh/ssh_host_ed25519_key.pub; for n in $(seq 120); do "
    "[ -s $key ] && break; sleep 1; done; cat $key",
    "device": "ls /sys/class/tpm /sys/firmware/efi >/dev/null && echo both",
}


def ask(shell: Shell, script: str) -> str:
    answer = shell.run(script, as_root=True, timeout_seconds=300, is_patch=False)
    assert answer.status == 0, answer.text
    return answer.text.strip()


# -- the same from a medium, started by a key at its boot prompt


def make_medium(folder: Path, archive: Path, port: int) -> Path:
    """An ISO image that both firmwares start; nothing is installed until ``i`` is pressed."""
    need("grub-mkrescue", "xorriso", "mformat")
    tree = folder / "tree"
    (tree / "boot/grub").mkdir(parents=True)
    shutil.copyfile(archive / "linux", tree / "linux")
    initrd = (archive / "initrd.gz").read_bytes()
    answers = {"preseed.cfg": (folder / f"files/{NAME}.cfg").read_bytes()}
    (tree / "initrd").write_bytes(initrd + bytes(-len(initrd) % 4) + build_file_archive(answers))
    (tree / "boot/grub/grub.cfg").write_text(
        "serial --unit=0 --speed=115200\nterminal_input console serial\nterminal_output serial\n"
        "set timeout=-1\nmenuentry 'Nothing' { true }\n"
        f"menuentry 'Install' --hotkey=i {{ linux /linux {arguments(port)}; initrd /initrd }}\n"
    )
    run("grub-mkrescue", "-o", folder / "install.iso", tree)
    return folder / "install.iso"


@only_long
@pytest.mark.parametrize(("firmware", "is_whole"), [("uefi", False), ("bios", True)])
def test_an_installation_from_a_medium_begins_with_a_key_at_its_prompt(
    archive: tuple[Path, int], tmp_path: Path, zeroseal: Command, firmware: str, is_whole: bool
) -> None:
    files, port = archive
    sheet, yard = sheet_in(tmp_path / "sheets", files), Yard(tmp_path / "yard")
    text = sheet.read_text()
    start, end = text.index("[origin]"), text.index("# Tasks run through")
    medium = make_medium(sheet.parent, files, port)
    origin = (
        f'[origin]\ninstall = {{ path = "{medium}" }}\n'
        'press = [{ wait_seconds = 45, text = "i" }]\n'
        f"install_seconds = {14_400 if is_whole else 420}\n\n"
    )
    sheet.write_text(text[:start] + origin + text[end:])
    built = zeroseal("build", sheet, "--set", f"machine.firmware={firmware}", "--yard", yard.folder)
    machine = yard.get(NAME)
    journal = json.loads((machine.folder / "build-journal.json").read_text())
    stages = [stage["name"] for stage in journal["installerStages"]]
    assert "Detecting network hardware" in stages
    if not is_whole:  # that it starts is what UEFI adds
        assert built.status == 5
        assert re.search("did not end within 420 s", built.err)
        return
    assert built.status == 0, built.err
    assert "Installing the base system" in stages
    assert machine.definition.media == ()
    sealed = tmp_path / "office.qcow2"
    assert zeroseal("seal", machine.disk, "-o", sealed, "--plant-first-boot").status == 0
    judge_qcow2(sealed)
