"""QEMU as a host, with machines that have no guest: started, held, cut off, refused, cleaned up."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.oracles import need, run
from zeroseal.errors import GuestError, HostError, InUseError, MissingError, RefusedError
from zeroseal.images.detect import open_image
from zeroseal.machines.adopt import Adoption, adopt_image
from zeroseal.machines.build import BuildWish, build_machine
from zeroseal.machines.definition import AttachedMedium, write_definition
from zeroseal.machines.firmware_variables import iter_variables
from zeroseal.machines.hosts.keys import keys_of
from zeroseal.machines.hosts.qemu import programs
from zeroseal.machines.hosts.qemu.agent import AgentShell
from zeroseal.machines.hosts.qemu.host import QemuHost
from zeroseal.machines.sheet.load import load_sheet
from zeroseal.machines.yard import Yard, YardMachine

pytestmark = pytest.mark.qemu

INSTALLER = """\
version = 1
[machine]
name = "blank"
firmware = "bios"
disk_mib = 64
[origin]
install = { path = "install.iso" }
press = [{ text = "Tide = 3!" }, { wait_seconds = 1, keys = ["ctrl-alt-delete"] }]
install_seconds = 8
"""


@pytest.fixture
def blank(tmp_path: Path) -> Iterator[tuple[QemuHost, YardMachine]]:
    """A machine with an empty disk; whatever a test does, its QEMU is ended."""
    need("qemu-system-x86_64")
    run("qemu-img", "create", "-q", "-f", "qcow2", tmp_path / "blank.qcow2", "64M")
    yard = Yard(tmp_path / "yard")
    machine = adopt_image(yard, tmp_path / "blank.qcow2", "blank", Adoption(host="qemu"))
    write_definition(machine.folder, replace(machine.definition, firmware="bios", memory_mib=128))
    host = QemuHost(yard)
    try:
        yield host, yard.get("blank")
    finally:
        host.cut_power(yard.get("blank"))


def processes(folder: Path) -> str:
    """The command lines of what runs in a folder."""
    found = [
        path.name
        for path in Path("/proc").iterdir()
        if path.name.isdigit() and _cwd(path).startswith(str(folder))
    ]
    return " ".join(found)


def _cwd(process: Path) -> str:
    try:
        return str((process / "cwd").readlink())
    except OSError:
        return ""


def test_a_machine_is_started_seen_running_and_cut_off_when_it_does_not_stop(
    blank: tuple[QemuHost, YardMachine], zeroseal: Command
) -> None:
    host, machine = blank
    yard = host.yard
    words = ("blank", "--yard", yard.folder)
    started = zeroseal("yard", "start", *words, "--json")
    assert started.status == 0, started.err
    assert json.loads(started.out)["running"]
    again = zeroseal("yard", "start", *words)
    assert (again.status, "is already running" in again.err) == (4, True)
    with pytest.raises(InUseError):
        open_image(machine.disk)
    shown = zeroseal("yard", "show", *words)
    assert "The machine is running: shut it down first" in shown.out
    removed = zeroseal("yard", "remove", *words, "--yes")
    assert (removed.status, "is running: stop it first" in removed.err) == (4, True)
    stopped = zeroseal("yard", "stop", *words, "--within", "2")
    assert "it did not shut down within" in " ".join(stopped.out.split())
    assert processes(yard.folder) == ""
    assert zeroseal("yard", "stop", *words).status == 4
    assert sorted(path.suffix for path in machine.folder.iterdir() if path.suffix == ".sock") == []


def test_a_guest_that_hears_no_button_is_shut_down_by_its_agent(
    blank: tuple[QemuHost, YardMachine], monkeypatch: pytest.MonkeyPatch
) -> None:
    host, machine = blank
    write_definition(machine.folder, replace(machine.definition, agent=True))
    monkeypatch.setattr("zeroseal.machines.hosts.qemu.host._PRESS_AGAIN_SECONDS", 1.0)
    asked: list[str] = []

    def power_off(_shell: AgentShell) -> None:
        asked.append("asked")
        os.kill(host.yard.get("blank").state.pid, signal.SIGTERM)  # as a guest that goes off

    monkeypatch.setattr(AgentShell, "connect", lambda _shell, _seconds: None)
    monkeypatch.setattr(AgentShell, "power_off", power_off)
    host.start(host.yard.get("blank"), is_bound=True)
    stopped = host.stop(host.yard.get("blank"), 60)
    assert asked == ["asked"]
    assert stopped.messages == ()


def test_a_machine_that_was_ended_from_outside_is_known_to_be_off(
    blank: tuple[QemuHost, YardMachine],
) -> None:
    host, yard = blank[0], blank[0].yard
    running = host.start(yard.get("blank"), is_bound=False).machine
    os.kill(running.state.pid, signal.SIGKILL)
    assert not host.is_running(yard.get("blank"))
    with pytest.raises(RefusedError, match="is not running"):
        host.stop(yard.get("blank"), 5)
    assert not yard.get("blank").state.running
    running = host.start(yard.get("blank"), is_bound=True).machine
    os.kill(running.state.pid, signal.SIGKILL)
    with pytest.raises(HostError, match="QEMU ended while blank was in use"):
        host.open_shell(running, None, 30)
    running = host.start(yard.get("blank"), is_bound=True).machine
    with pytest.raises(
        GuestError, match="guest agent did not answer within 2 s; the console ended"
    ):
        host.open_shell(running, None, 2)


def test_a_guest_that_writes_nothing_is_not_taken_for_settled(
    blank: tuple[QemuHost, YardMachine],
) -> None:
    host, _machine = blank
    running = host.start(host.yard.get("blank"), is_bound=True).machine
    assert host.written_operations(running) == 0
    with pytest.raises(GuestError, match="did not reach a stable state within"):
        host.wait_until_settled(running, 3)
    os.kill(running.state.pid, signal.SIGKILL)
    with pytest.raises(GuestError, match="blank ended by itself"):
        host.wait_until_settled(running, 30)


def test_a_start_that_cannot_be_is_told_with_qemus_own_reason(
    blank: tuple[QemuHost, YardMachine], monkeypatch: pytest.MonkeyPatch
) -> None:
    host, machine = blank
    yard = host.yard
    write_definition(machine.folder, replace(machine.definition, cpu_model="no-such-model"))
    with pytest.raises(HostError, match=r"QEMU did not start blank: .*no-such-model"):
        host.start(yard.get("blank"), is_bound=True)
    assert not yard.get("blank").state.running
    medium = AttachedMedium("/srv/none.iso")
    write_definition(machine.folder, replace(machine.definition, media=(medium,)))
    with pytest.raises(MissingError, match=r"the medium /srv/none\.iso was not found"):
        host.start(yard.get("blank"), is_bound=True)
    write_definition(machine.folder, replace(machine.definition, devices=("teapot",)))
    with pytest.raises(Exception, match="the device 'teapot', which QEMU does not provide"):
        host.start(yard.get("blank"), is_bound=True)
    monkeypatch.setenv("PATH", "/nowhere")
    with pytest.raises(
        MissingError, match="qemu-system-x86_64 was not found on the PATH: install QEMU"
    ):
        host.start(yard.get("blank"), is_bound=True)
    monkeypatch.setattr(programs, "_DESCRIPTION_FOLDERS", ("/nowhere",))
    with pytest.raises(MissingError, match="no UEFI firmware for QEMU was found"):
        programs.find_firmware()


def test_a_machine_with_uefi_gets_its_own_variables(blank: tuple[QemuHost, YardMachine]) -> None:
    host, machine = blank
    yard = host.yard
    firmware = programs.find_firmware()
    write_definition(
        machine.folder,
        replace(machine.definition, firmware="uefi", memory_mib=256, disk_bus="scsi",
                devices=("sound", "usb", "tablet", "watchdog", "floppy"), display="vga"),
    )  # fmt: skip
    host.start(yard.get("blank"), is_bound=True)
    host.cut_power(yard.get("blank"))
    variables = machine.folder / "firmware-vars.fd"
    assert variables.stat().st_size == firmware.variables.stat().st_size


def test_secure_boot_gives_a_machine_its_firmware_and_the_makers_keys(
    blank: tuple[QemuHost, YardMachine],
) -> None:
    host, machine = blank
    yard = host.yard
    definition = replace(machine.definition, firmware="uefi", memory_mib=256, secure_boot=True)
    write_definition(machine.folder, definition)
    host.start(yard.get("blank"), is_bound=True)
    console = machine.folder / "console.log"
    end = time.monotonic() + 90
    while "BdsDxe" not in console.read_text("utf-8", "replace") and time.monotonic() < end:
        time.sleep(0.5)
    host.cut_power(yard.get("blank"))
    assert "BdsDxe" in console.read_text("utf-8", "replace")  # it ran, and found nothing to start
    written = dict(iter_variables((machine.folder / "firmware-vars.fd").read_bytes()))
    assert {"PK", "KEK", "db"} <= {name for _space, name in written}


def test_an_installer_that_never_ends_is_ended_and_the_machine_kept(
    tmp_path: Path, zeroseal: Command
) -> None:
    need("qemu-system-x86_64", "genisoimage")
    (tmp_path / "a").mkdir()
    (tmp_path / "a/readme").write_text("no loader\n")
    run("genisoimage", "-quiet", "-o", tmp_path / "install.iso", tmp_path / "a")
    sheet, yard = tmp_path / "blank.toml", Yard(tmp_path / "yard")
    sheet.write_text(INSTALLER)
    with pytest.raises(GuestError, match=r"installer (did not end within 8 s|wrote nothing)"):
        build_machine(load_sheet(sheet), yard, BuildWish(1))
    machine = yard.get("blank")
    assert machine.state.unfinished
    assert open_image(machine.disk).size_bytes == 64 << 20
    shown = zeroseal("yard", "show", "blank", "--yard", yard.folder)
    assert (shown.status, "Its disk cannot be examined" in shown.out) == (0, True)
    assert processes(yard.folder) == ""
    sheet.write_text(INSTALLER.replace('" }\npress', f'", sha256 = "{"0" * 64}" }}\npress'))
    answer = zeroseal("build", sheet, "--yard", yard.folder)
    assert (answer.status, "is not the disk that the sheet names" in answer.err) == (3, True)


@pytest.mark.parametrize("sent", [signal.SIGINT, signal.SIGTERM, signal.SIGKILL])
def test_a_build_that_is_interrupted_leaves_no_process(
    tmp_path: Path, sent: signal.Signals
) -> None:
    need("qemu-system-x86_64", "genisoimage", "setpriv")
    (tmp_path / "a").mkdir()
    run("genisoimage", "-quiet", "-o", tmp_path / "install.iso", tmp_path / "a")
    sheet = INSTALLER.replace("install_seconds = 8", "install_seconds = 600")
    (tmp_path / "blank.toml").write_text(sheet)
    words = [sys.executable, "-m", "zeroseal", "build", "blank.toml"]
    build = subprocess.Popen(words, cwd=tmp_path, stderr=subprocess.PIPE, text=True)
    socket = tmp_path / "yard/blank/qmp.sock"
    end = time.monotonic() + 60
    while not socket.exists() and time.monotonic() < end:
        time.sleep(0.1)
    time.sleep(1.0)
    assert processes(tmp_path / "yard")
    build.send_signal(sent)
    _out, told = build.communicate(timeout=60)
    end = time.monotonic() + 10
    while processes(tmp_path / "yard") and time.monotonic() < end:
        time.sleep(0.1)
    assert processes(tmp_path / "yard") == ""
    assert Yard(tmp_path / "yard").get("blank").state.unfinished
    if sent is not signal.SIGKILL:
        assert build.returncode == 130
        assert "the machine blank is kept, switched off and unfinished" in told
        assert "Traceback" not in told


def test_text_is_typed_by_the_names_of_keys() -> None:
    assert keys_of("Tide = 3!") == [
        "shift-t", "i", "d", "e", "spc", "equal", "spc", "3", "shift-1",
    ]  # fmt: skip
