"""From a machine's definition to QEMU's command line.

Drives and files are given as JSON (``-blockdev``), so that no name of a file is taken for an option
and no format is guessed. Sockets have names relative to the machine's folder: their length is
limited. Source: qemu(1).
"""

from __future__ import annotations

import json
from dataclasses import dataclass

from zeroseal.errors import UnsupportedError
from zeroseal.machines import VARIABLES_FILE
from zeroseal.machines.definition import SEED_MEDIUM, MachineDefinition
from zeroseal.machines.hosts.console import CONSOLE_LOG
from zeroseal.machines.hosts.host import KernelBoot
from zeroseal.machines.hosts.qemu.programs import Firmware
from zeroseal.machines.hosts.tpm import TPM_SOCKET
from zeroseal.messages import machines as messages

Node = dict[str, object]

QMP_SOCKET, SERIAL_SOCKET, AGENT_SOCKET = "qmp.sock", "serial.sock", "agent.sock"
HOST_LOG = "host.log"
PID_FILE = "qemu.pid"
_DRIVERS = {
    "qcow2": "qcow2",
    "raw": "raw",
    "vmdk": "vmdk",
    "vdi": "vdi",
    "vhdx": "vhdx",
    "vhd": "vpc",
}
_CARDS = {
    "virtio": "virtio-net-pci", "e1000": "e1000", "e1000e": "e1000e", "rtl8139": "rtl8139",
    "vmxnet3": "vmxnet3",
}  # fmt: skip
_DISK_DEVICES = {
    "virtio": "virtio-blk-pci", "sata": "ide-hd", "scsi": "scsi-hd", "nvme": "nvme",
}  # fmt: skip
_DISPLAYS = {"none": "none", "vga": "std", "virtio": "virtio"}
_EXTRA_DEVICES = {
    "sound": ["-device", "intel-hda", "-device", "hda-duplex"],
    "usb": ["-device", "qemu-xhci,id=usb0"],
    "tablet": ["-device", "qemu-xhci,id=usb1", "-device", "usb-tablet,bus=usb1.0"],
    "watchdog": ["-device", "i6300esb"],
    "floppy": ["-device", "isa-fdc"],
}


@dataclass(frozen=True)
class Wiring:
    """What one start of a machine adds to its definition.

    Attributes:
        ssh_port: of the loopback address, forwarded to the guest's port 22.
        formats: of each disk, the boot disk first.
        firmware: None for BIOS.
        boot_kernel: for an installation; None to boot from the drives.
        is_isolated: whether the guest reaches nothing but what is forwarded.
    """

    ssh_port: int
    formats: tuple[str, ...]
    firmware: Firmware | None
    accelerated: bool
    boot_kernel: KernelBoot | None = None
    is_isolated: bool = False


def build_command(program: str, machine: MachineDefinition, wiring: Wiring) -> list[str]:
    """The whole command line; it is run in the machine's folder.

    Raises:
        UnsupportedError: a device or format that QEMU cannot give it here.
    """
    words = [
        program, "-name", f"zeroseal-{machine.name}", "-uuid", machine.uuid,
        "-nodefaults", "-no-user-config", "-display", "none",
        "-machine", _machine_type(wiring),
        "-cpu", machine.cpu_model or ("host" if wiring.accelerated else "max"),
        "-smp", str(machine.cpus), "-m", f"{machine.memory_mib}M",
        "-device", "virtio-rng-pci",
        "-qmp", f"unix:{QMP_SOCKET},server=on,wait=off",
    ]  # fmt: skip
    words += _identity(machine)
    words += _firmware(wiring)
    words += _drives(machine, wiring)
    words += _network(machine, wiring)
    words += _consoles(machine)
    for device in machine.devices:
        if device not in _EXTRA_DEVICES:
            raise UnsupportedError(
                messages.DEVICE_NOT_PROVIDED.format(name=machine.name, device=device)
            )
        words += _EXTRA_DEVICES[device]
    return words + _kernel(wiring.boot_kernel)


def _machine_type(wiring: Wiring) -> str:
    kind = "q35,accel=" + ("kvm" if wiring.accelerated else "tcg")
    # with Secure Boot only the firmware's own mode of the processor may write its variables
    return kind + ",smm=on" if wiring.firmware and wiring.firmware.is_secure else kind


def _identity(machine: MachineDefinition) -> list[str]:
    words: list[str] = []
    if machine.serial:
        words += ["-smbios", f"type=1,serial={machine.serial.replace(',', ',,')}"]
    if machine.generation_id:
        words += ["-device", f"vmgenid,guid={machine.generation_id}"]
    if machine.tpm:
        words += [
            "-chardev", f"socket,id=tpm0,path={TPM_SOCKET}",
            "-tpmdev", "emulator,id=tpm0,chardev=tpm0",
            "-device", "tpm-crb,tpmdev=tpm0",
        ]  # fmt: skip
    return words


def _firmware(wiring: Wiring) -> list[str]:
    if wiring.firmware is None:
        return []
    words: list[str] = []
    for name, path, is_fixed in (
        ("code", str(wiring.firmware.code), True),
        ("variables", VARIABLES_FILE, False),
    ):
        file: Node = {"driver": "file", "filename": path, "read-only": is_fixed}
        node: Node = {"driver": "raw", "file": file, "node-name": name, "read-only": is_fixed}
        words += _block(node)
    if wiring.firmware.is_secure:
        words += ["-global", "driver=cfi.pflash01,property=secure,value=on"]
    return [*words, "-machine", "pflash0=code,pflash1=variables"]


def _drives(machine: MachineDefinition, wiring: Wiring) -> list[str]:
    words: list[str] = []
    if machine.disk_bus == "scsi":
        words += ["-device", "virtio-scsi-pci,id=scsi0"]
    disks = (machine.disk, *machine.more_disks)
    order = {name: position + 1 for position, name in enumerate(machine.boot_order)}
    for number, (path, name) in enumerate(zip(disks, wiring.formats, strict=True)):
        if name not in _DRIVERS:
            raise UnsupportedError(messages.QEMU_CANNOT_RUN_DISK_OF_FORMAT.format(name=name))
        file: Node = {"driver": "file", "filename": path, "discard": "unmap"}
        node: Node = {
            "driver": _DRIVERS[name],
            "node-name": f"disk{number}",
            "file": file,
            "discard": "unmap",
        }
        device = f"{_DISK_DEVICES[machine.disk_bus]},drive=disk{number},serial=disk{number}"
        if machine.disk_bus == "nvme":
            device = f"nvme,drive=disk{number},serial=disk{number}"
        if number == 0 and "disk" in order:
            device += f",bootindex={order['disk']}"
        words += [*_block(node), "-device", device]
    for number, medium in enumerate(machine.media):
        file = {"driver": "file", "filename": medium.path, "read-only": True}
        node = {"driver": "raw", "node-name": f"medium{number}", "file": file, "read-only": True}
        # a kernel for virtual machines may not know SATA drives; an installer knows no others
        is_seed = medium.purpose == SEED_MEDIUM and machine.disk_bus == "virtio"
        device = f"{'virtio-blk-pci' if is_seed else 'ide-cd'},drive=medium{number}"
        if "medium" in order:
            device += f",bootindex={order['medium'] * 10 + number}"
        words += [*_block(node), "-device", device]
    return words


def _network(machine: MachineDefinition, wiring: Wiring) -> list[str]:
    words = []
    order = machine.boot_order.index("network") + 1 if "network" in machine.boot_order else 0
    for number, card in enumerate(machine.adapters):
        if card.model not in _CARDS:
            raise UnsupportedError(
                messages.QEMU_NO_NETWORK_CARD.format(model=card.model, name=machine.name)
            )
        backend = f"user,id=net{number}"
        if number == 0:
            backend += f",hostfwd=tcp:127.0.0.1:{wiring.ssh_port}-:22"
        if wiring.is_isolated:
            backend += ",restrict=on"
        device = f"{_CARDS[card.model]},netdev=net{number},mac={card.mac}"
        if order and number == 0:
            device += f",bootindex={order}"
        words += ["-netdev", backend, "-device", device]
    return words


def _consoles(machine: MachineDefinition) -> list[str]:
    words = ["-vga", _DISPLAYS.get(machine.display, "std")]
    if machine.serial_console:
        words += [
            "-chardev",
            f"socket,id=serial0,path={SERIAL_SOCKET},server=on,wait=off,logfile={CONSOLE_LOG}",
            "-serial", "chardev:serial0",
        ]  # fmt: skip
    if machine.agent:
        words += [
            "-device", "virtio-serial-pci",
            "-chardev", f"socket,id=agent0,path={AGENT_SOCKET},server=on,wait=off",
            "-device", "virtserialport,chardev=agent0,name=org.qemu.guest_agent.0",
        ]  # fmt: skip
    return words


def _kernel(boot: KernelBoot | None) -> list[str]:
    if boot is None:
        return []
    # the installer would start again: its end is the end of the installation
    words = ["-kernel", str(boot.kernel), "-action", "reboot=shutdown"]
    if boot.initrd:
        words += ["-initrd", str(boot.initrd)]
    return [*words, "-append", boot.arguments] if boot.arguments else words


def _block(node: Node) -> list[str]:
    return ["-blockdev", json.dumps(node)]
