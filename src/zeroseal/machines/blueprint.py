"""From a sheet to a machine's definition, and the media that its build attaches."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import bcrypt

from zeroseal.errors import UsageError
from zeroseal.guests.linux.network_files import FixedAddresses
from zeroseal.images.output import write_small_file
from zeroseal.machines.definition import (
    INSTALL_MEDIUM,
    OTHER_MEDIUM,
    SEED_MEDIUM,
    AttachedMedium,
    MachineDefinition,
    NetworkCard,
    new_mac,
    new_uuid,
)
from zeroseal.machines.guest_life import new_key_pairs
from zeroseal.machines.media import write_medium, write_seed_medium
from zeroseal.machines.seed import Seed, SeedAccount
from zeroseal.machines.sheet.load import LoadedSheet
from zeroseal.machines.sheet.model import AnswerFile
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import machines as messages

SEED_FILE, ANSWERS_FILE = "seed.iso", "answers.iso"
KEY_FILE = "build-key"


def define_machine(
    loaded: LoadedSheet,
    yard: Yard,
    name: str,
    disk: str,
    host_name: str,
    old: YardMachine | None,
) -> MachineDefinition:
    """The definition that a sheet means; ``old`` is the machine whose place it takes.

    Raises:
        UsageError: its MAC is another machine's.
    """
    machine = loaded.sheet.machine
    taken = yard.macs() - ({old.definition.mac} if old else set())
    card = machine.network
    if card.mac and card.mac in taken:
        raise UsageError(messages.MAC_ADDRESS_ALREADY_USED.format(mac=card.mac, folder=yard.folder))
    mac = card.mac or new_mac(taken)
    return MachineDefinition(
        name=name,
        uuid=new_uuid(),
        disk=disk,
        adapters=(NetworkCard(mac, card.model, card.network, card.vlan, card.connected),),
        more_disks=tuple(f"disk{n + 2}.qcow2" for n in range(len(machine.more_disks_mib))),
        disk_bus=machine.disk_bus,
        cpus=machine.cpus,
        cpu_model=machine.cpu_model,
        memory_mib=machine.memory_mib,
        firmware=machine.firmware,
        secure_boot=machine.secure_boot,
        tpm=machine.tpm,
        boot_order=tuple(machine.boot_order),
        serial_console=machine.serial_console,
        display=machine.display,
        devices=tuple(machine.devices),
        restart=machine.restart,
        host=host_name,
        connection=machine.connection if host_name == "libvirt" else "",
        throwaway_accounts=loaded.sheet.throwaway_accounts,
        sheet=str(loaded.path),
        variant=loaded.variant,
        settings=loaded.settings,
        built_from=loaded.digest,
        notes=machine.notes,
    )


def attach_media(
    loaded: LoadedSheet, folder: Path, definition: MachineDefinition, media: list[Path]
) -> MachineDefinition:
    """Writes the seed and answer media into a machine's folder, and attaches all of its media.

    Raises:
        UnfinishedError: one cannot be written, or does not read back.
        UsageError: the answer file refers to a secret that is not known.
    """
    origin = loaded.sheet.origin
    attached = [
        AttachedMedium(str(path), INSTALL_MEDIUM if origin.install and not n else OTHER_MEDIUM)
        for n, path in enumerate(media)
    ]
    if origin.answers and origin.answers.place == "medium":
        files = {origin.answers.name: read_answers(loaded, origin.answers)}
        write_medium(folder / ANSWERS_FILE, origin.answers.label, files, 0o600)
        attached.append(AttachedMedium(ANSWERS_FILE))
    if origin.base_disk:
        public_key = ""
        if definition.throwaway_accounts:
            private, public = new_key_pairs("build")["ed25519"]
            write_small_file(folder / KEY_FILE, private, 0o600)
            public_key = public.decode().strip()
        write_seed_medium(folder / SEED_FILE, seed_of(loaded, definition, public_key))
        attached.append(AttachedMedium(SEED_FILE, SEED_MEDIUM))
    boot_order = definition.boot_order
    if origin.install:
        boot_order = (
            "disk",
            "medium",
        )  # an empty disk boots nothing; after the installation it does
    return replace(definition, media=tuple(attached), boot_order=boot_order)


def read_answers(loaded: LoadedSheet, answers: AnswerFile) -> bytes:
    """A sheet's answer file, with its secrets filled in.

    Raises:
        UsageError: it refers to a secret that is not known.
    """
    content = loaded.file(answers.path, "origin.answers").read_bytes()
    text = str(loaded.secrets.fill(content.decode("utf-8", "surrogateescape"), "answers"))
    return text.encode("utf-8", "surrogateescape")


def seed_of(loaded: LoadedSheet, definition: MachineDefinition, public_key: str = "") -> Seed:
    """The seed that a sheet means for one machine; the build's key opens its throwaway account."""
    seed = loaded.sheet.seed
    accounts = []
    for user in seed.users:
        keys = (*user.public_keys, *([public_key] if public_key and user.throwaway else []))
        password = user.password_hash
        if user.password:
            password = bcrypt.hashpw(user.password.encode(), bcrypt.gensalt(10)).decode()
        accounts.append(SeedAccount(user.name, user.full_name, keys, password, user.admin))
    network = None
    if seed.network.addresses:
        network = FixedAddresses(
            definition.mac,
            tuple(seed.network.addresses),
            tuple(seed.network.gateways),
            tuple(seed.network.name_servers),
            tuple(seed.network.search),
        )
    return Seed(
        instance_id=f"i-{definition.uuid[:8]}",
        host_name=seed.host_name or definition.name,
        domain=seed.domain,
        accounts=tuple(accounts),
        root_password_hash=seed.root_password_hash,
        network=network,
        packages=tuple(seed.packages),
        time_zone=seed.time_zone,
        locale=seed.locale,
        commands=tuple(seed.commands),
    )
