"""libvirt's domain XML to a machine definition and back.

Source: libvirt, "Domain XML format". What our definition has no word for is named, not dropped.
"""

from __future__ import annotations

from collections.abc import Iterator
from xml.etree import ElementTree

from zeroseal.errors import DamagedError
from zeroseal.machines.definition import (
    INSTALL_MEDIUM,
    SEED_MEDIUM,
    AttachedMedium,
    MachineDefinition,
    NetworkCard,
)
from zeroseal.messages import machines as messages

Element = ElementTree.Element
_UNITS = {
    "b": 1, "bytes": 1, "kb": 1000, "k": 1 << 10, "kib": 1 << 10, "mb": 10**6, "m": 1 << 20,
    "mib": 1 << 20, "gb": 10**9, "g": 1 << 30, "gib": 1 << 30, "tib": 1 << 40, "t": 1 << 40,
}  # fmt: skip
_BOOT = {"hd": "disk", "cdrom": "medium", "network": "network", "fd": "floppy"}
_BOOT_BACK = {value: key for key, value in _BOOT.items()}
_BUSES = {"virtio": "virtio", "sata": "sata", "ide": "sata", "scsi": "scsi", "nvme": "nvme"}
_BUS_BACK = {"virtio": "virtio", "sata": "sata", "scsi": "scsi", "nvme": "nvme"}
_KNOWN_DEVICES = {
    "disk", "interface", "serial", "console", "video", "graphics", "sound", "tpm", "watchdog",
    "input", "channel", "controller", "emulator", "rng", "memballoon", "audio",
}  # fmt: skip
_KNOWN_ELEMENTS = {
    "name", "uuid", "title", "description", "memory", "currentMemory", "vcpu", "os", "cpu",
    "devices", "on_poweroff", "on_reboot", "on_crash", "genid", "sysinfo",
}  # fmt: skip
_OWN_FEATURES = ("acpi", "apic", "smm")
_RESTART = {"restart": "after-shutdown"}


def parse_domain(root: Element, where: str) -> MachineDefinition:
    """Parses a domain.

    Raises:
        DamagedError: it has no name or no disk.
    """
    name, devices = _text(root, "name"), root.find("devices")
    if not name or devices is None:
        raise DamagedError(messages.NOT_COMPLETE_DOMAIN.format(where=where))
    disks = [disk for disk in devices.findall("disk") if _is_disk(disk)]
    files = [_source(disk) for disk in disks]
    if not disks or not files[0]:
        raise DamagedError(messages.NO_DISK_FILE_OR_DEVICE.format(where=where))
    return MachineDefinition(
        name=name,
        uuid=_text(root, "uuid"),
        disk=files[0],
        more_disks=tuple(file for file in files[1:] if file),
        disk_bus=_BUSES.get(_target(disks[0]), "virtio"),
        adapters=tuple(_read_card(card) for card in devices.findall("interface")),
        media=tuple(_media(devices)),
        cpus=_number(root, "vcpu", 1),
        cpu_model=_cpu_model(root),
        memory_mib=_memory_mib(root, where),
        firmware=_firmware(root),
        secure_boot=_has_secure_boot(root),
        tpm=devices.find("tpm") is not None,
        serial=_serial(root),
        generation_id=_text(root, "genid").lower(),
        boot_order=_boot_order(root, devices),
        serial_console=bool(devices.findall("serial") or devices.findall("console")),
        display="vga" if devices.findall("video") else "none",
        devices=tuple(_needless(devices)),
        agent=_has_agent(devices),
        restart=_RESTART.get(_text(root, "on_poweroff"), "never"),
        notes=_text(root, "description") or _text(root, "title"),
        unknown=tuple(sorted({item.tag for item in _unknown_devices(devices)})),
        kept_elements=tuple(_kept(item) for item in _unknown_elements(root)),
        kept_devices=tuple(_kept(item) for item in _unknown_devices(devices)),
    )


def build_domain(machine: MachineDefinition, disk: str, disk_format: str) -> str:
    """The domain XML of a machine whose boot disk is this file."""
    root = ElementTree.Element("domain", type="kvm")
    _add(root, "name", machine.name)
    _add(root, "uuid", machine.uuid)
    if machine.generation_id:
        _add(root, "genid", machine.generation_id)
    if machine.notes:
        _add(root, "description", machine.notes)
    _add(root, "memory", str(machine.memory_mib), unit="MiB")
    _add(root, "vcpu", str(machine.cpus))
    _add_system(root, machine)
    root.extend(ElementTree.fromstring(text) for text in machine.kept_elements)
    _give_features(root, machine)
    _add(root, "on_poweroff", "restart" if machine.restart == "after-shutdown" else "destroy")
    if machine.cpu_model:
        cpu = _add(root, "cpu", "", mode="custom", match="exact")
        _add(cpu, "model", machine.cpu_model)
    devices = _add(root, "devices", "")
    for number, path in enumerate((disk, *machine.more_disks)):
        _add_disk(devices, machine.disk_bus, path, disk_format if number == 0 else "qcow2", number)
    for number, medium in enumerate(machine.media):
        # a kernel for virtual machines may not know SATA drives; an installer knows no others
        is_seed = medium.purpose == SEED_MEDIUM and machine.disk_bus == "virtio"
        _add_medium(devices, medium.path, number, is_seed)
    for card in machine.adapters:
        _add_card(devices, card)
    _add_consoles(devices, machine)
    for device in machine.devices:
        _add_needless(devices, device)
    if machine.tpm:
        tpm = _add(devices, "tpm", "", model="tpm-crb")
        _add(tpm, "backend", "", type="emulator", version="2.0")
    devices.extend(ElementTree.fromstring(text) for text in machine.kept_devices)
    ElementTree.indent(root)
    return ElementTree.tostring(root, encoding="unicode") + "\n"


def _add_system(root: Element, machine: MachineDefinition) -> None:
    """What it boots with, and what its firmware tells the guest of itself."""
    if machine.serial:
        entries = _add(_add(root, "sysinfo", "", type="smbios"), "system", "")
        _add(entries, "entry", machine.serial, name="serial")
    system = _add(root, "os", "", **({"firmware": "efi"} if machine.firmware == "uefi" else {}))
    _add(system, "type", "hvm", arch="x86_64", machine="q35")
    if machine.secure_boot:
        features = _add(system, "firmware", "")
        for name in ("secure-boot", "enrolled-keys"):
            _add(features, "feature", "", enabled="yes", name=name)
        _add(system, "loader", "", secure="yes")
    for name in machine.boot_order:
        _add(system, "boot", "", dev=_BOOT_BACK.get(name, "hd"))
    if machine.serial:
        _add(system, "smbios", "", mode="sysinfo")


def _add_medium(devices: Element, path: str, number: int, is_seed: bool) -> None:
    drive = _add(devices, "disk", "", type="file", device="disk" if is_seed else "cdrom")
    _add(drive, "driver", "", name="qemu", type="raw")
    _add(drive, "source", "", file=path)
    bus, prefix = ("virtio", "vd") if is_seed else ("sata", "sd")
    _add(drive, "target", "", dev=f"{prefix}{chr(ord('k') + number)}", bus=bus)
    _add(drive, "readonly", "")


def _add_consoles(devices: Element, machine: MachineDefinition) -> None:
    if machine.serial_console:
        _add(devices, "serial", "", type="pty")
    if machine.agent:
        channel = _add(devices, "channel", "", type="unix")
        _add(channel, "target", "", type="virtio", name="org.qemu.guest_agent.0")
    if machine.display != "none":
        video = _add(devices, "video", "")
        _add(video, "model", "", type=machine.display)


def _unknown_devices(devices: Element) -> Iterator[Element]:
    return (item for item in devices if item.tag not in _KNOWN_DEVICES)


def _unknown_elements(root: Element) -> Iterator[Element]:
    for item in root:
        has_other = any(feature.tag not in _OWN_FEATURES for feature in item)
        if item.tag not in _KNOWN_ELEMENTS and (item.tag != "features" or has_other):
            yield item


def _kept(item: Element) -> str:
    """An element as one line, with what belongs to no element left out."""
    for part in item.iter():
        part.tail = None
        part.text = (part.text or "").strip() or None
    return ElementTree.tostring(item, encoding="unicode")


def _give_features(root: Element, machine: MachineDefinition) -> None:
    """What every machine of today needs: a power button, and its own mode for Secure Boot."""
    features = root.find("features")
    if features is None:
        features = _add(root, "features", "")
    for name in _OWN_FEATURES if machine.secure_boot else _OWN_FEATURES[:2]:
        if features.find(name) is None:
            _add(features, name, "", **({"state": "on"} if name == "smm" else {}))


def _serial(root: Element) -> str:
    for entry in root.findall("sysinfo/system/entry"):
        if entry.get("name") == "serial":
            return (entry.text or "").strip()
    return ""


def _has_secure_boot(root: Element) -> bool:
    loader = root.find("os/loader")
    named = {
        item.get("name") for item in root.findall("os/firmware/feature")
        if item.get("enabled") == "yes"
    }  # fmt: skip
    return "secure-boot" in named or (loader is not None and loader.get("secure") == "yes")


def _read_card(card: Element) -> NetworkCard:
    source, link = card.find("source"), card.find("link")
    network = "user"
    if source is not None:
        network = next((source.get(key, "") for key in ("network", "bridge", "dev")), "")
        network = network or source.get("bridge") or source.get("dev") or "user"
    tag = card.find("vlan/tag")
    model, mac = card.find("model"), card.find("mac")
    return NetworkCard(
        mac=(mac.get("address", "") if mac is not None else "").lower(),
        model=model.get("type", "virtio") if model is not None else "rtl8139",
        network=network,
        vlan=_int(tag.get("id", "0")) if tag is not None else 0,
        connected=link is None or link.get("state") != "down",
    )


def _is_disk(disk: Element) -> bool:
    """Whether it is a disk that the machine owns; one that is only read is a seed medium."""
    return disk.get("device", "disk") == "disk" and disk.find("readonly") is None


def _media(devices: Element) -> Iterator[AttachedMedium]:
    for disk in devices.findall("disk"):
        if disk.get("device", "disk") == "disk" and not _is_disk(disk) and _source(disk):
            yield AttachedMedium(_source(disk), SEED_MEDIUM)
        if disk.get("device") in ("cdrom", "floppy") and _source(disk):
            yield AttachedMedium(_source(disk), INSTALL_MEDIUM)


def _boot_order(root: Element, devices: Element) -> tuple[str, ...]:
    named = [_BOOT.get(item.get("dev", ""), "disk") for item in root.findall("os/boot")]
    if named:
        return tuple(named)
    ordered: list[tuple[int, str]] = []
    for item in devices:
        boot = item.find("boot")
        if boot is not None:
            kind = "network" if item.tag == "interface" else "disk"
            kind = "medium" if item.get("device") in ("cdrom", "floppy") else kind
            ordered.append((_int(boot.get("order", "99")), kind))
    kinds = [kind for _order, kind in sorted(ordered)]
    return tuple(dict.fromkeys(kinds)) or ("disk",)


def _needless(devices: Element) -> Iterator[str]:
    for tag in ("sound", "watchdog"):
        if devices.find(tag) is not None:
            yield tag
    inputs = {item.get("type", "") for item in devices.findall("input")}
    if "tablet" in inputs:
        yield "tablet"
    if any(disk.get("device") == "floppy" for disk in devices.findall("disk")):
        yield "floppy"
    if any(item.get("type") == "usb" for item in devices.findall("controller")):
        yield "usb"


def _has_agent(devices: Element) -> bool:
    targets = devices.findall("channel/target")
    return any(target.get("name") == "org.qemu.guest_agent.0" for target in targets)


def _firmware(root: Element) -> str:
    system = root.find("os")
    if system is None:
        return "bios"
    is_uefi = system.get("firmware") == "efi" or system.find("nvram") is not None
    loader = system.find("loader")
    return "uefi" if is_uefi or (loader is not None and loader.get("type") == "pflash") else "bios"


def _cpu_model(root: Element) -> str:
    return _text(root, "cpu/model")


def _memory_mib(root: Element, where: str) -> int:
    memory = root.find("memory")
    if memory is None or not (memory.text or "").strip().isdigit():
        raise DamagedError(messages.DOES_NOT_GIVE_MACHINE_MEMORY_SIZE.format(where=where))
    unit = _UNITS.get(memory.get("unit", "KiB").lower())
    if unit is None:
        raise DamagedError(
            messages.MEMORY_IN_UNKNOWN_UNIT.format(where=where, memory=memory.get("unit"))
        )
    return max(1, int((memory.text or "0").strip()) * unit >> 20)


def _source(disk: Element) -> str:
    source = disk.find("source")
    return "" if source is None else source.get("file") or source.get("dev") or ""


def _target(disk: Element) -> str:
    target = disk.find("target")
    return "" if target is None else target.get("bus", "")


def _text(root: Element, path: str) -> str:
    return (root.findtext(path) or "").strip()


def _number(root: Element, path: str, default: int) -> int:
    return _int(_text(root, path)) or default


def _int(text: str) -> int:
    return int(text) if text.isdigit() else 0


def _add(parent: Element, tag: str, text: str, **attributes: str) -> Element:
    child = ElementTree.SubElement(parent, tag, attributes)
    if text:
        child.text = text
    return child


def _add_disk(devices: Element, bus: str, path: str, name: str, number: int) -> None:
    disk = _add(devices, "disk", "", type="file", device="disk")
    _add(disk, "driver", "", name="qemu", type={"vhd": "vpc"}.get(name, name))
    _add(disk, "source", "", file=path)
    letter = chr(ord("a") + number)
    _add(disk, "target", "", dev=("vd" if bus == "virtio" else "sd") + letter, bus=_BUS_BACK[bus])


def _add_card(devices: Element, card: NetworkCard) -> None:
    kind = "user" if card.network == "user" else "network"
    interface = _add(devices, "interface", "", type=kind)
    _add(interface, "mac", "", address=card.mac)
    if kind == "network":
        _add(interface, "source", "", network=card.network)
    if card.vlan:
        _add(_add(interface, "vlan", ""), "tag", "", id=str(card.vlan))
    _add(interface, "model", "", type=card.model)
    if not card.connected:
        _add(interface, "link", "", state="down")


def _add_needless(devices: Element, device: str) -> None:
    match device:
        case "sound":
            _add(devices, "sound", "", model="ich9")
        case "watchdog":
            _add(devices, "watchdog", "", model="i6300esb")
        case "tablet":
            _add(devices, "input", "", type="tablet", bus="usb")
        case "usb":
            _add(devices, "controller", "", type="usb", model="qemu-xhci")
        case "floppy":
            drive = _add(devices, "disk", "", type="file", device="floppy")
            _add(drive, "target", "", dev="fda", bus="fdc")
