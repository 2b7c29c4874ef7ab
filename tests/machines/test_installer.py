"""Installers on QEMU: read by their consoles, and ended where they would wait for ever.

What boots is a medium of ours that says on the serial port what installers say. The whole line with
Debian's own installer is in ``test_real_installation``.
"""

from __future__ import annotations

import json
import os
import signal
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from tests.boot_medium import HALT, SWITCH_OFF, WAIT_A_SECOND, WAIT_FOR_KEY, make_boot_medium
from tests.oracles import need, run
from zeroseal.errors import GuestError, NoSpaceError
from zeroseal.guests.linux.initramfs import build_file_archive, split_initramfs
from zeroseal.machines import install as install_module
from zeroseal.machines.build import BuildWish, build_machine
from zeroseal.machines.hosts.keys import keys_of, linux_codes
from zeroseal.machines.hosts.qemu.host import QemuHost
from zeroseal.machines.installer_console import InstallerConsole
from zeroseal.machines.sheet.load import load_sheet
from zeroseal.machines.yard import Yard
from zeroseal.progress import Step

SHEET = """\
version = 1
[machine]
name = "pier"
firmware = "bios"
cpu_model = "qemu64"
memory_mib = 128
disk_mib = 64
[origin]
install = { path = "install.iso" }
install_seconds = 60
"""
# what Debian 13's installer said on a serial console, with DEBIAN_FRONTEND=text
DEBIAN = (
    b"\x1b[2J\x1b[01;01HStarting system log daemon: syslogd, klogd.\r\n"
    b"Detecting network hardware  ... 2%... 95%... 100%\r\n"
    b"Waiting for link-local address...  ... 16%... 25%... 100%\r\n"
    b"Configuring the network with DHCP  ... 4%... 100%\r\n"
    b"Download installer components\r\n-----------------------------\r\n\r\n"
    b"!! ERROR: Installation step failed\r\n\r\n"
    b"An installation step failed. The failing step is: Download \r\ninstaller components\r\n"
)


@pytest.fixture
def yard(tmp_path: Path) -> Iterator[Yard]:
    need("qemu-system-x86_64")
    yard = Yard(tmp_path / "yard")
    try:
        yield yard
    finally:
        for machine in yard.machines():
            QemuHost(yard).cut_power(machine)


def failed(folder: Path, *parts: str | bytes, sheet: str = SHEET) -> GuestError:
    """Builds from a medium that does this, and returns how that failed."""
    make_boot_medium(folder / "install.iso", *parts)
    (folder / "pier.toml").write_text(sheet)
    yard = Yard(folder / "yard")
    with pytest.raises(GuestError) as caught:
        build_machine(load_sheet(folder / "pier.toml"), yard, BuildWish(1))
    machine = yard.get("pier")
    assert (bool(machine.state.unfinished), machine.state.running) == (True, False)
    return caught.value


@pytest.mark.qemu
def test_an_installation_goes_through_its_stages_and_answers_at_the_prompt(
    tmp_path: Path, yard: Yard
) -> None:
    make_boot_medium(
        tmp_path / "install.iso",
        "boot: ", WAIT_FOR_KEY, "\r\nCopying files... 10%\r\n", WAIT_A_SECOND, WAIT_A_SECOND,
        "Writing the loader: 50% done\r\n", WAIT_A_SECOND, SWITCH_OFF, HALT,
    )  # fmt: skip
    (tmp_path / "pier.toml").write_text(
        SHEET + 'press = [{ wait_seconds = 4, text = "y" }, { keys = ["ret"] }]\n'
    )
    loaded = load_sheet(tmp_path / "pier.toml")
    # the disk stays empty, so that the build ends after the installation
    with pytest.raises(GuestError, match="first boot"):
        build_machine(
            load_sheet(tmp_path / "pier.toml"), yard, BuildWish(1),
            lambda step: _stop_at_first_boot(step, yard),
        )  # fmt: skip
    journal = json.loads((yard.get("pier").folder / "build-journal.json").read_text())
    assert [stage["name"] for stage in journal["installerStages"]] == [
        "Copying files", "Writing the loader",
    ]  # fmt: skip
    assert [phase["name"] for phase in journal["phases"]] == ["install", "boot", "first boot"]
    assert journal["sheetDigest"] == loaded.digest and "first boot" in journal["result"]
    assert journal["phases"][0]["console"][-1] == "Writing the loader: 50% done"
    assert yard.get("pier").definition.media == ()


def _stop_at_first_boot(step: Step, yard: Yard) -> None:
    pid = yard.get("pier").state.pid
    if pid and step.stage.startswith("waiting for the first boot"):
        with suppress(ProcessLookupError):
            os.kill(pid, signal.SIGTERM)


@pytest.mark.qemu
def test_a_question_a_loop_and_a_full_disk_end_an_installation_with_their_place(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    need("qemu-system-x86_64")
    monkeypatch.setattr(install_module, "_ASKING_SECONDS", 3)
    stage = "Copying files... 10%\r\n"
    error = failed(tmp_path / "a", stage, "Overwrite the disk? [y/N] ", WAIT_FOR_KEY)
    assert "asks a question that nobody answers: 'Overwrite the disk? [y/N]'" in error.message
    assert "it was at stage 1, 'Copying files'" in error.message
    assert str(error.facts["output"]).endswith("Overwrite the disk? [y/N]")
    more = (stage, WAIT_A_SECOND, "Installing packages... 5%\r\n", WAIT_A_SECOND)
    error = failed(tmp_path / "b", *more)
    assert "repeats the same stages" in error.message
    journal = next((tmp_path / "b").rglob("build-journal.json"))
    stages = {stage["name"] for stage in json.loads(journal.read_text())["installerStages"]}
    assert stages == {"Copying files", "Installing packages"}
    error = failed(tmp_path / "c", stage, "cp: No space left on device\r\n", HALT)
    assert "no room left: 'cp: No space left on device' (give the machine more disk_mib)" in (
        error.message
    )
    quick = SHEET.replace("= 60\n", "= 60\ninstall_quiet_seconds = 4\n")
    error = failed(tmp_path / "d", "Starting...\r\n", HALT, sheet=quick)
    assert "wrote nothing to its console and used no disk" in error.message
    assert "it had not named any stage on its console" in error.message


@pytest.mark.qemu
def test_a_full_disk_of_this_computer_is_told_as_such(
    tmp_path: Path, yard: Yard, monkeypatch: pytest.MonkeyPatch
) -> None:
    make_boot_medium(tmp_path / "install.iso", "Copying... 1%\r\n", HALT)
    (tmp_path / "pier.toml").write_text(SHEET)
    monkeypatch.setattr(QemuHost, "is_out_of_room", lambda *_words: True)
    with pytest.raises(NoSpaceError, match="no space is left for the disk of pier"):
        build_machine(load_sheet(tmp_path / "pier.toml"), yard, BuildWish(1))


def console_of(path: Path, raw: bytes) -> InstallerConsole:
    path.write_bytes(raw)
    console = InstallerConsole(path)
    console.read(7)
    return console


def test_a_console_is_read_as_a_terminal_would_show_it(tmp_path: Path) -> None:
    console = console_of(tmp_path / "c", DEBIAN + b"[Press enter to continue] ")
    assert [name for name, _second in console.stages] == [
        "Detecting network hardware",
        "Waiting for link-local address",
        "Configuring the network with DHCP",
    ]
    assert (console.percent, console.question) == (100, "[Press enter to continue]")
    assert console.end[-2:] == ("installer components", "[Press enter to continue]")
    # what comes in pieces is the same
    whole, pieces = (tmp_path / "w").write_bytes(DEBIAN), InstallerConsole(tmp_path / "p")
    for at in range(0, whole, 7):
        with (tmp_path / "p").open("ab") as file:
            file.write(DEBIAN[at : at + 7])
        pieces.read(at)
    assert [name for name, _second in pieces.stages] == [name for name, _s in console.stages]
    assert not pieces.question
    # a long line of percentages is one stage, however far it has come
    long = b"Installing the base system  ... " + b"".join(b"%d%%... " % n for n in range(60))
    assert [name for name, _s in console_of(tmp_path / "l", long + b"\n").stages] == [
        "Installing the base system"
    ]


@pytest.mark.parametrize(
    ("text", "asks"),
    [
        ("Prompt: '?' for help, default=1> ", True), ("Continue (yes/no) ", True),
        ("Root password: ", True), ("pier login: ", True), ("Go on? ", True),
        ("Press any key to continue...", True), ("Unpacking libc6 ...", False),
        ("Is there a medium? no\n", False), ("Setting the root password\n", False), ("", False),
    ],
)  # fmt: skip
def test_questions_are_told_from_what_is_merely_said(tmp_path: Path, text: str, asks: bool) -> None:
    assert bool(console_of(tmp_path / "c", b"Copying 10%\r\n" + text.encode()).question) is asks


def test_a_console_of_any_bytes_is_read(tmp_path: Path) -> None:
    for raw in (b"\x00" * 99, b"%" * 9, b"\r\r\n%\n", b"9" * 5000 + b"%\n", b"\xff\x1b[" * 400):
        console_of(tmp_path / "c", raw)
    assert not InstallerConsole(tmp_path / "none").read(1)


def test_answers_are_added_to_an_initrd_as_the_kernel_reads_it(tmp_path: Path) -> None:
    need("cpio")
    raw = build_file_archive({"preseed.cfg": b"d-i a b c\n", "other": b""})
    (tmp_path / "added").write_bytes(raw)
    (tmp_path / "out").mkdir()
    run("sh", "-c", f"cd {tmp_path}/out && cpio -id --quiet < ../added")
    assert (tmp_path / "out/preseed.cfg").read_bytes() == b"d-i a b c\n"
    assert (tmp_path / "out/other").read_bytes() == b""
    (archive,) = split_initramfs(raw)
    assert [entry.path for entry in archive.entries] == ["preseed.cfg", "other"]


def test_keys_have_the_codes_of_linux() -> None:
    assert [linux_codes(key) for key in keys_of("Go.")] == [[42, 34], [24], [52]]
    assert linux_codes("ctrl-alt-delete") == [29, 56, 111]
