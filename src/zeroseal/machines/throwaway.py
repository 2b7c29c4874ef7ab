"""Throwaway machines: overlays of an image with their own names, started and thrown away.

The image itself is only read. Each machine has a network of its own that leads nowhere: a throwaway
machine must not enrol anywhere as if it were one to stay.
"""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from zeroseal.errors import environment_error
from zeroseal.images.facts import ImageFacts
from zeroseal.images.qcow2.overlay import make_overlay
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.machines.blueprint import SEED_FILE
from zeroseal.machines.definition import (
    SEED_MEDIUM,
    AttachedMedium,
    MachineDefinition,
    NetworkCard,
    new_mac,
    new_uuid,
    write_definition,
)
from zeroseal.machines.firmware import guess_firmware
from zeroseal.machines.media import write_seed_medium
from zeroseal.machines.seed import Seed, SeedAccount
from zeroseal.machines.sheet.model import Accept
from zeroseal.machines.yard import Yard

NAMES = ("trial-one", "trial-two")
ACCOUNT = "trial"
SETTLED = (
    "if command -v cloud-init >/dev/null; then cloud-init status --wait >/dev/null; fi; "
    # asked again and again: --wait needs a bus, which a small guest may not have
    "if command -v systemctl >/dev/null; then "
    "while systemctl is-system-running | grep -Eq '^(initializing|starting)'; do sleep 1; done; "
    "fi; true"
)
"""A script that ends when a guest's start has ended."""


@dataclass(frozen=True)
class TrialWish:
    """How to try an image.

    Attributes:
        now: seconds since 1970, for the simulated host.
        reach: what the image is, and what may be read for it.
        with_seed: whether each machine gets a seed with a name and an account.
        within_seconds: how long a boot may take.
        definition: hardware like that of the machine it was made from; None for plain hardware.
    """

    now: int
    host: str = "qemu"
    reach: Reach = OWN_FOLDER
    with_seed: bool = True
    within_seconds: int = 900
    accept: Accept = field(default_factory=Accept)
    definition: MachineDefinition | None = None


@contextmanager
def throwaway_yard(host: str) -> Iterator[Yard]:
    """A yard that goes when the block is left, with all that is in it.

    Args:
        host: where its machines are started; libvirt's own user must reach them.

    Raises:
        ZeroSealError: there is no room for it.
    """
    try:
        folder = Path(tempfile.mkdtemp(prefix="zeroseal-trial-"))
        if host == "libvirt":
            folder.chmod(0o711)  # its own user goes through it; the names in it stay unseen
    except OSError as error:
        raise environment_error(error, Path(tempfile.gettempdir()), "writing to") from error
    try:
        yield Yard(folder)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def make_machine(
    yard: Yard, name: str, facts: ImageFacts, wish: TrialWish, public_key: str, number: int
) -> None:
    """Makes a machine over an image, with a seed that gives it a name and an account.

    Args:
        yard: where it goes.
        name: what it is called.
        facts: of the image.
        wish: which hardware, and whether it gets a seed.
        public_key: of the account.
        number: what makes its instance another one.
    """
    like = wish.definition
    with yard.new_machine(name) as folder:
        backing = str(facts.path.resolve())
        make_overlay(folder / "disk.qcow2", facts.size_bytes, backing, facts.format_name)
        definition = MachineDefinition(
            name=name,
            uuid=new_uuid(),
            disk="disk.qcow2",
            adapters=(NetworkCard(new_mac(yard.macs())),),
            host=wish.host,
            disk_bus=like.disk_bus if like else "virtio",
            cpus=like.cpus if like else 1,
            cpu_model=like.cpu_model if like else "",
            memory_mib=like.memory_mib if like else 1024,
            firmware=like.firmware if like else guess_firmware(facts.path),
            secure_boot=like.secure_boot if like else False,
            tpm=like.tpm if like else False,
            media=(AttachedMedium(SEED_FILE, SEED_MEDIUM),) if wish.with_seed else (),
        )
        if wish.with_seed:
            account = SeedAccount(ACCOUNT, "Trial", (public_key,), admin=True)
            seed = Seed(f"i-trial-{number}-{definition.uuid[:8]}", name, "", (account,))
            write_seed_medium(folder / SEED_FILE, seed)
        write_definition(folder, definition)
