"""Machines from a template: full copies, or overlays that hang on it."""

from __future__ import annotations

import os
import re
import shutil
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import UsageError, environment_error
from zeroseal.images.copying import copy_image_file
from zeroseal.images.qcow2.overlay import make_overlay
from zeroseal.machines.blueprint import SEED_FILE
from zeroseal.machines.definition import (
    SEED_MEDIUM,
    Adapter,
    AttachedMedium,
    MachineDefinition,
    check_new_folder,
    new_mac,
    new_uuid,
    write_definition,
)
from zeroseal.machines.firmware import guess_firmware
from zeroseal.machines.media import write_seed_medium
from zeroseal.machines.seed import Seed, SeedAccount
from zeroseal.machines.sheet.model import ACCOUNT_PATTERN, NAME_PATTERN
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.survey import ImageFacts, read_image_facts
from zeroseal.templates.shelf import check_template

_KEY_KINDS = ("ssh-ed25519 ", "ssh-rsa ", "ecdsa-sha2-", "sk-ssh-", "sk-ecdsa-")


@dataclass(frozen=True)
class CloneRequest:
    """What is wanted.

    Attributes:
        template: the image, and ``title`` what it is called.
        names: one a clone; they become host names.
        linked: overlays instead of copies.
        user: the account that the seed creates, with ``public_key``.
    """

    template: Path
    title: str
    names: tuple[str, ...]
    linked: bool = False
    user: str = "admin"
    public_key: str = ""
    domain: str = ""


def make_clones(request: CloneRequest, yard: Yard, progress: Progress = quiet) -> list[YardMachine]:
    """Makes all clones of a request, or none.

    Raises:
        UsageError: a name twice, or one that cannot be a host name; a malformed key.
        OutputExistsError: there is a machine of that name.
        RefusedError: the template is not sealed.
    """
    _check_request(request)
    for name in request.names:
        check_new_folder(yard.folder / name)
    check_template(request.template, progress)
    source = read_image_facts(request.template)
    firmware = guess_firmware(request.template)
    taken = yard.macs()
    uuids: dict[str, str] = {}
    try:
        with ExitStack() as stack:
            for number, name in enumerate(request.names):
                progress(Step("making clones", number, len(request.names), "clones"))
                folder = stack.enter_context(yard.new_machine(name))
                mac = new_mac(taken)
                taken.add(mac)
                uuids[name] = _fill(folder, yard.folder / name, mac, request, source, firmware)
    except BaseException:
        _take_back(yard, uuids)
        raise
    return [yard.get(name) for name in request.names]


def _take_back(yard: Yard, uuids: dict[str, str]) -> None:
    """Removes the machines of a batch that had their names already; others' are left alone."""
    for machine in yard.machines():
        if machine.definition.uuid == uuids.get(machine.definition.name):
            shutil.rmtree(machine.folder, ignore_errors=True)


def _check_request(request: CloneRequest) -> None:
    if not request.names:
        raise UsageError("name at least one clone with --name")
    for number, name in enumerate(request.names):
        if not re.match(NAME_PATTERN, name):
            raise UsageError(f"{name!r} cannot be a host name: use a-z, 0-9 and -, at most 63")
        if name in request.names[:number]:
            raise UsageError(f"the name {name} is given twice")
    if not re.match(ACCOUNT_PATTERN, request.user):
        raise UsageError(f"{request.user!r} cannot be an account's name")
    key = request.public_key
    if key and (not key.startswith(_KEY_KINDS) or "\n" in key or len(key.split()) < 2):
        raise UsageError(
            "the public key is none that OpenSSH writes: give a file like id_ed25519.pub"
        )


def _fill(
    folder: Path,
    final: Path,
    mac: str,
    request: CloneRequest,
    source: ImageFacts,
    firmware: str,
) -> str:
    """Fills the hidden folder of one clone, which will be ``final``; returns its UUID."""
    name = final.name
    machine_uuid = new_uuid()
    disk = "disk.qcow2" if request.linked else f"disk.{source.format_name}"
    definition = MachineDefinition(
        name=name,
        uuid=machine_uuid,
        disk=disk,
        adapters=(Adapter(mac),),
        media=(AttachedMedium(SEED_FILE, SEED_MEDIUM),),
        template=request.title,
        linked=request.linked,
        firmware=firmware,
    )
    try:
        if request.linked:
            backing = os.path.relpath(request.template.resolve(), final.resolve())
            make_overlay(folder / disk, source.size_bytes, backing, source.format_name)
        else:
            copy_image_file(request.template, folder / disk)
    except OSError as error:
        raise environment_error(error, final, "writing") from error
    keys = (request.public_key,) if request.public_key else ()
    accounts = (SeedAccount(request.user, "", keys, admin=True),) if keys else ()
    seed = Seed(f"i-{machine_uuid[:8]}", name, request.domain, accounts)
    write_seed_medium(folder / SEED_FILE, seed)
    write_definition(folder, definition)
    return machine_uuid
