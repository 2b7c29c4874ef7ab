"""A TPM and firmware variables of one machine: started, kept there, copied by nothing, told."""

from __future__ import annotations

import json
import struct
import subprocess
import time
import uuid
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_guest_volume
from tests.oracles import need, run
from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import HostError, MissingError
from zeroseal.machines import VARIABLES_FILE
from zeroseal.machines.adopt import Adoption, adopt_image
from zeroseal.machines.definition import read_definition, write_definition
from zeroseal.machines.firmware_variables import (
    iter_variables,
    parse_boot_entry,
    read_boot_entries,
)
from zeroseal.machines.hosts import tpm
from zeroseal.machines.hosts.qemu.host import QemuHost
from zeroseal.machines.hosts.qemu.programs import find_firmware
from zeroseal.machines.outside_values import values_outside
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.volumes.encrypted import is_bound_to_tpm

GLOBAL = uuid.UUID("8be4df61-93ca-11d2-aa0d-00e098032b8c")


@pytest.fixture
def machine(tmp_path: Path) -> Iterator[tuple[QemuHost, YardMachine]]:
    """A machine with an empty disk and a TPM."""
    need("qemu-system-x86_64", "swtpm")
    run("qemu-img", "create", "-q", "-f", "qcow2", tmp_path / "blank.qcow2", "64M")
    yard = Yard(tmp_path / "yard")
    made = adopt_image(yard, tmp_path / "blank.qcow2", "blank", Adoption(host="qemu"))
    definition = replace(made.definition, firmware="bios", memory_mib=128, tpm=True)
    write_definition(made.folder, definition)
    host = QemuHost(yard)
    try:
        yield host, yard.get("blank")
    finally:
        for left in yard.machines():
            host.cut_power(left)


def tpm_processes(folder: Path) -> str:
    done = subprocess.run(["pgrep", "-x", "swtpm"], capture_output=True, text=True, check=False)
    mine = []
    for pid in done.stdout.split():
        try:
            if str(folder.resolve()).encode() in Path(f"/proc/{pid}/cmdline").read_bytes():
                mine.append(pid)
        except OSError:
            continue
    return " ".join(mine)


def await_no_tpm(folder: Path) -> None:
    end = time.monotonic() + 20
    while tpm_processes(folder) and time.monotonic() < end:
        time.sleep(0.1)
    assert tpm_processes(folder) == ""


@pytest.mark.qemu
@pytest.mark.parametrize("is_bound", [True, False])
def test_a_tpm_is_started_with_its_machine_ends_with_it_and_keeps_its_state(
    machine: tuple[QemuHost, YardMachine], is_bound: bool
) -> None:
    host, made = machine
    for boot in range(2):
        running = host.start(made, is_bound).machine
        assert tpm_processes(made.folder)
        host.cut_power(running)
        await_no_tpm(made.folder)
        assert not (made.folder / "tpm.sock").exists()
        state = sorted((made.folder / "tpm").glob("*.permall"))
        assert len(state) == 1, boot
        assert (made.folder / "tpm").stat().st_mode & 0o077 == 0
    (value,) = [v for v in values_outside(made.definition, made.folder) if v.kind == "TPM state"]
    assert value.shown.startswith("hash ")
    # a copy of the machine has none of it, and removing it leaves none
    host.yard.remove("blank", with_disk=False)
    assert sorted(path.name for path in made.folder.iterdir()) == ["disk.qcow2"]


@pytest.mark.qemu
def test_a_tpm_that_does_not_start_leaves_no_machine(
    machine: tuple[QemuHost, YardMachine], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    host, made = machine
    broken = tmp_path / "swtpm"
    broken.write_text("#!/bin/sh\necho no permission >&2\nexit 3\n")
    broken.chmod(0o755)
    monkeypatch.setattr(tpm, "find_tpm_program", lambda: str(broken))
    with pytest.raises(HostError, match="swtpm did not start the TPM of blank: no permission"):
        host.start(made, is_bound=True)
    assert not host.yard.get("blank").state.running
    monkeypatch.undo()
    monkeypatch.setenv("PATH", str(tmp_path / "nothing"))
    with pytest.raises(MissingError, match="swtpm was not found on the PATH"):
        tpm.find_tpm_program()


def test_nothing_copies_a_tpm(tmp_path: Path, zeroseal: Command) -> None:
    disk = make_guest_volume(tmp_path, BARE_GUEST)
    (tmp_path / "tpm").mkdir()
    (tmp_path / "tpm/tpm2-00.permall").write_bytes(b"seed-of-the-endorsement-key")
    (tmp_path / VARIABLES_FILE).write_bytes(b"variables of the machine")
    (tmp_path / "machine.toml").write_text(
        "version = 2\nname = 'pier'\nuuid = '4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10'\n"
        "disk = 'guest.img'\ntpm = true\nfirmware = 'bios'\n"
        "[[adapters]]\nmac = '02:5a:17:00:00:41'\n"
    )
    yard, shelf = ("--yard", tmp_path / "yard"), ("--shelf", tmp_path / "shelf")
    words = ("--machine", tmp_path / "machine.toml")
    taken = zeroseal("yard", "adopt", disk, *words, *yard)
    assert taken.status == 0, taken.err
    assert read_definition(tmp_path / "yard/pier").tpm
    sealed = tmp_path / "sealed.qcow2"
    seal = ("--expect-seed", "--plant-first-boot", "--same-size-clones", *words)
    done = zeroseal("seal", disk, "-o", sealed, *seal)
    assert done.status == 0, done.err
    added = zeroseal("shelf", "add", sealed, "--name", "pier", "--version", "1", *shelf, *words)
    assert added.status == 0, added.err
    made = zeroseal("clone", "pier@1", "--name", "north", *shelf, "--to", tmp_path / "yard")
    assert made.status == 0, made.err
    assert read_definition(tmp_path / "yard/north").tpm  # as the template's machine; new state
    lost = {"tpm", VARIABLES_FILE}
    for folder in (*(tmp_path / "yard").iterdir(), *(tmp_path / "shelf").rglob("*")):
        if folder.is_dir():
            assert not lost & {path.name for path in folder.iterdir()}, folder
    shown = zeroseal("survey", disk, *words, "--json")
    labels = {item["kind"] for item in json.loads(shown.out)["outside"]}
    assert {"TPM state", "SMBIOS UUID", "MAC"} <= labels


# -- firmware variables


def test_the_variables_of_real_firmware_are_read() -> None:
    need("qemu-system-x86_64")
    plain, secure = find_firmware(), find_firmware(is_secure=True)
    assert read_boot_entries(plain.variables) == ()
    names = {name for (_space, name), _data in iter_variables(secure.variables.read_bytes())}
    assert {"PK", "KEK", "db"} <= names
    assert secure.code != plain.code


def device_path(*nodes: tuple[int, int, bytes]) -> bytes:
    made = b"".join(struct.pack("<BBH", a, b, len(data) + 4) + data for a, b, data in nodes)
    return made + b"\x7f\xff\x04\x00"


def load_option(title: str, path: bytes) -> bytes:
    head = struct.pack("<IH", 1, len(path))
    return head + title.encode("utf-16-le") + b"\0\0" + path


def variables_file(path: Path, entries: dict[str, bytes]) -> None:
    """A file of variables as EDK II lays it out, with these global variables."""
    store = b""
    for name, data in entries.items():
        raw_name = name.encode("utf-16-le") + b"\0\0"
        head = struct.pack(
            "<HBBIQ16sIII", 0x55AA, 0x3F, 0, 7, 0, bytes(16), 0, len(raw_name), len(data)
        )
        store += head + GLOBAL.bytes_le + raw_name + data
        store += b"\xff" * (-len(store) % 4)
    size = 4096
    header = bytes(16) + bytes(16) + struct.pack("<Q4sIHHHBB", 8192, b"_FVH", 0, 72, 0, 0, 0, 2)
    header = header.ljust(72, b"\0")
    head = uuid.UUID("aaf32c78-947b-439a-a180-2e144ec37792").bytes_le
    head += struct.pack("<IBBHI", size, 0x5A, 0xFE, 0, 0)
    path.write_bytes((header + head + store).ljust(8192, b"\xff"))


def test_boot_entries_name_their_loaders_and_cards(tmp_path: Path) -> None:
    guid = uuid.UUID("5a170001-0000-4000-8000-000000000041")
    drive = struct.pack("<IQQ16sBB", 1, 2048, 131072, guid.bytes_le, 2, 2)
    loader = "\\EFI\\debian\\shimx64.efi".encode("utf-16-le") + b"\0\0"
    debian = load_option("debian", device_path((4, 1, drive), (4, 4, loader)))
    card = load_option("UEFI PXE", device_path((3, 11, bytes.fromhex("025a17000041") + bytes(27))))
    order = b"\0\0\1\0"
    entries_of = {"Boot0001": card, "Boot0000": debian, "BootOrder": order, "Boot0007": debian}
    variables_file(tmp_path / "v.fd", entries_of)
    entries = read_boot_entries(tmp_path / "v.fd")
    assert [entry.text for entry in entries] == ["\\EFI\\debian\\shimx64.efi (debian)", "UEFI PXE"]
    assert (entries[0].partition, entries[1].mac) == (str(guid), "02:5a:17:00:00:41")
    # nothing that a guest wrote there ends otherwise
    raw = (tmp_path / "v.fd").read_bytes()
    for at in range(0, len(raw), 3):
        (tmp_path / "m.fd").write_bytes(raw[:at] + b"\xfe\xff\x01" + raw[at + 3 :])
        read_boot_entries(tmp_path / "m.fd")
    for at in range(0, 400, 7):
        (tmp_path / "m.fd").write_bytes(raw[:at])
        read_boot_entries(tmp_path / "m.fd")
        parse_boot_entry(debian[: at % len(debian)])


# -- what is sealed to a TPM


def luks_header(tokens: dict[str, object]) -> bytes:
    text = json.dumps({"keyslots": {}, "tokens": tokens}).encode()
    head = b"LUKS\xba\xbe" + (2).to_bytes(2, "big") + (16384).to_bytes(8, "big")
    return (head.ljust(4096, b"\0") + text).ljust(32768, b"\0")


def bitlocker_volume(protection: int) -> bytes:
    key = bytes(16 + 8 + 2) + protection.to_bytes(2, "little") + b"key"
    entry = struct.pack("<HHHH", len(key) + 8, 2, 8, 1) + key
    metadata = (b"-FVE-FS-".ljust(64, b"\0") + struct.pack("<I", 48 + len(entry))).ljust(112, b"\0")
    head = b"\xeb\x58\x90-FVE-FS-".ljust(0xB0, b"\0") + (4096).to_bytes(8, "little")
    return (head.ljust(4096, b"\0") + metadata + entry).ljust(16384, b"\0")


@pytest.mark.parametrize(
    ("kind", "raw", "is_bound"),
    [
        ("luks", luks_header({"0": {"type": "systemd-tpm2"}}), True),
        ("luks", luks_header({"0": {"type": "clevis", "jwe": {"pin": "tpm2"}}}), True),
        ("luks", luks_header({"0": {"type": "systemd-recovery"}}), False),
        ("luks", luks_header({}), False),
        ("luks", b"LUKS\xba\xbe\x00\x02".ljust(5000, b"\xff"), False),
        ("bitlocker", bitlocker_volume(0x0100), True),
        ("bitlocker", bitlocker_volume(0x0500), True),
        ("bitlocker", bitlocker_volume(0x2000), False),
        ("bitlocker", bytes(512), False),
    ],
)  # fmt: skip
def test_a_volume_whose_key_a_tpm_holds_is_told(
    tmp_path: Path, zeroseal: Command, kind: str, raw: bytes, is_bound: bool
) -> None:
    assert is_bound_to_tpm(MemoryStore(raw), kind) is is_bound
    (tmp_path / "v.img").write_bytes(raw)
    answer = zeroseal("survey", tmp_path / "v.img")
    assert answer.status != 0 and "Traceback" not in answer.err
    assert ("held by the TPM of this machine" in answer.err) is is_bound


def test_a_guest_that_asks_its_tpm_is_told(tmp_path: Path, zeroseal: Command) -> None:
    more = {
        "/etc/crypttab": "tides /dev/vdb - tpm2-device=auto\n",
        "/etc/credstore.encrypted/tide-agent.token": "sealed",
    }
    disk = make_guest_volume(tmp_path, BARE_GUEST | more)
    shown = " ".join(zeroseal("survey", disk).out.split())
    assert "/etc/crypttab opens a volume with the TPM of this machine" in shown
    assert "/etc/credstore.encrypted/tide-agent.token is an encrypted credential" in shown
