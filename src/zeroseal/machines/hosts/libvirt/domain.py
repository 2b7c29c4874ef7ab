"""The domain of one start: a machine's definition, with what this start adds to it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from xml.etree.ElementTree import Element, SubElement, fromstring, tostring

from zeroseal.images.facts import read_image_facts
from zeroseal.machines import VARIABLES_FILE
from zeroseal.machines.definition import MachineDefinition
from zeroseal.machines.domain_xml import build_domain
from zeroseal.machines.hosts.console import CONSOLE_LOG
from zeroseal.machines.hosts.host import KernelBoot
from zeroseal.machines.hosts.qemu.command import SERIAL_SOCKET
from zeroseal.machines.hosts.qemu.programs import Firmware
from zeroseal.machines.hosts.tpm import TPM_SOCKET

_QEMU = "http://libvirt.org/schemas/domain/qemu/1.0"
USER = "user"  # a card that is plugged into nothing but this computer
_FIRST_SLOT = 0x10
_CARDS = {"virtio": "virtio-net-pci"}


@dataclass(frozen=True)
class Start:
    """What one start adds.

    Attributes:
        ssh_port: of the loopback address, forwarded to port 22 of a guest whose first card is
            plugged into this computer alone.
        firmware: None for BIOS.
        accelerated: whether the processor helps.
        is_isolated: whether the guest reaches nothing but what is forwarded.
        kernel: started instead of the drives, for an installation; None for none.
    """

    ssh_port: int
    firmware: Firmware | None
    accelerated: bool
    is_isolated: bool
    kernel: KernelBoot | None = None


def build_start(folder: Path, definition: MachineDefinition, start: Start) -> str:
    """The XML of a transient domain for a machine whose files lie in a folder."""
    media = tuple(replace(item, path=str(folder / item.path)) for item in definition.media)
    more = tuple(str(folder / path) for path in definition.more_disks)
    whole = replace(
        definition,
        media=media,
        more_disks=more,
        restart="never",
        # what another computer gave it may not be here
        kept_elements=(),
        kept_devices=(),
    )
    disk = folder / definition.disk
    # made by ourselves a moment ago, so that no foreign entity is read
    root = fromstring(build_domain(whole, str(disk), read_image_facts(disk).format_name))
    root.set("type", "kvm" if start.accelerated else "qemu")
    for name in ("on_reboot", "on_crash"):
        # an installer would start again: its end is the end of the installation
        again = name == "on_reboot" and start.kernel is None
        _add_after(root, "on_poweroff", name, "restart" if again else "destroy")
    if root.find("cpu") is None:
        SubElement(root, "cpu", mode="host-passthrough" if start.accelerated else "maximum")
    devices = root.find("devices")
    assert devices is not None  # every domain has them
    _give_console(devices, folder)
    generator = SubElement(devices, "rng", model="virtio")
    SubElement(generator, "backend", model="random").text = "/dev/urandom"
    for driver in devices.iterfind("disk/driver"):
        driver.set("discard", "unmap")
    if definition.tpm:
        _give_tpm(devices, folder)
    if start.firmware:
        _give_firmware(root, folder, start.firmware)
    _give_own_cards(root, devices, definition, start)
    if start.kernel:
        _give_kernel(root, start.kernel)
    return tostring(root, encoding="unicode")


def _add_after(root: Element, before: str, tag: str, text: str) -> None:
    found = root.find(before)
    assert found is not None
    element = Element(tag)
    element.text = text
    root.insert(list(root).index(found) + 1, element)


def _give_console(devices: Element, folder: Path) -> None:
    """A socket to write to, and a file that keeps all that is said."""
    for serial in devices.findall("serial"):
        serial.set("type", "unix")
        SubElement(serial, "source", mode="bind", path=str(folder / SERIAL_SOCKET))
        SubElement(serial, "log", file=str(folder / CONSOLE_LOG), append="off")


def _give_tpm(devices: Element, folder: Path) -> None:
    """The TPM that we started: libvirt would keep the state of one of its own."""
    backend = devices.find("tpm/backend")
    assert backend is not None  # ``build_domain`` made it
    backend.attrib.clear()
    backend.set("type", "external")
    SubElement(backend, "source", type="unix", mode="connect", path=str(folder / TPM_SOCKET))


def _give_firmware(root: Element, folder: Path, firmware: Firmware) -> None:
    system = root.find("os")
    assert system is not None
    system.attrib.pop("firmware", None)
    for tag in ("loader", "firmware"):
        for found in system.findall(tag):
            system.remove(found)
    loader = SubElement(system, "loader", readonly="yes", type="pflash")
    if firmware.is_secure:
        loader.set("secure", "yes")
    loader.text = str(firmware.code)
    SubElement(system, "nvram").text = str(folder / VARIABLES_FILE)


def _give_kernel(root: Element, kernel: KernelBoot) -> None:
    system = root.find("os")
    assert system is not None  # every domain has it
    SubElement(system, "kernel").text = str(kernel.kernel)
    if kernel.initrd:
        SubElement(system, "initrd").text = str(kernel.initrd)
    if kernel.arguments:
        SubElement(system, "cmdline").text = kernel.arguments


def _give_own_cards(
    root: Element, devices: Element, definition: MachineDefinition, start: Start
) -> None:
    """Cards of this computer alone, whose port 22 is forwarded, are QEMU's own user networks."""
    cards = [card for card in definition.adapters if card.network == USER]
    for interface in devices.findall("interface"):
        if interface.get("type") == USER:
            devices.remove(interface)
    words: list[str] = []
    for number, card in enumerate(cards):
        backend = f"user,id=own{number}"
        backend += f",hostfwd=tcp:127.0.0.1:{start.ssh_port}-:22" if number == 0 else ""
        backend += ",restrict=on" if start.is_isolated else ""
        model = _CARDS.get(card.model, card.model)
        place = f"bus=pcie.0,addr={_FIRST_SLOT + number:#x}"  # libvirt fills the bus from below
        device = f"{model},netdev=own{number},mac={card.mac},{place}"
        words += ["-netdev", backend, "-device", device]
    if words:
        line = SubElement(root, f"{{{_QEMU}}}commandline")
        for word in words:
            SubElement(line, f"{{{_QEMU}}}arg", value=word)
