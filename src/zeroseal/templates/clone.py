"""Machines from a template: full copies, or overlays that hang on it; all of a batch, or none."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path

from zeroseal.errors import RefusedError, UsageError, ZeroSealError
from zeroseal.guests.linux.network_files import FixedAddresses
from zeroseal.images.facts import ImageFacts, read_image_facts
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.machines.batch import Batch
from zeroseal.machines.blueprint import SEED_FILE
from zeroseal.machines.definition import (
    SEED_MEDIUM,
    AttachedMedium,
    Hardware,
    MachineDefinition,
    NetworkCard,
    check_new_folder,
    new_uuid,
    write_definition,
)
from zeroseal.machines.definition_writers import OVF, write_definition_files
from zeroseal.machines.firmware import guess_firmware
from zeroseal.machines.media import write_seed_medium
from zeroseal.machines.seed import Seed
from zeroseal.machines.yard import MachineState, Yard, YardMachine
from zeroseal.messages import templates as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.check import check_image
from zeroseal.sealing.policy import resolve
from zeroseal.sealing.verdict import Level, Verdict
from zeroseal.sealing.volume_ids.renew import IdPlan, plan_new_ids, renew_disk_ids
from zeroseal.sentences import some_of
from zeroseal.templates.abilities import CLOUD_INIT, NOTHING, Abilities
from zeroseal.templates.ability_reading import read_abilities
from zeroseal.templates.clone_check import read_back
from zeroseal.templates.clone_disk import DiskWish, check_size, make_disk
from zeroseal.templates.clone_identities import TakenIdentities, with_addresses, with_names
from zeroseal.templates.clone_sheet.load import CloneWish
from zeroseal.templates.clone_sheet.model import WindowsSettings
from zeroseal.templates.into_disk import write_identity
from zeroseal.templates.shelf.clone_links import NotedClone, forget_clone, note_clone
from zeroseal.templates.shelf.entry import Template
from zeroseal.templates.shelf.shelf import RETIRED, Shelf
from zeroseal.templates.windows_clone import check_windows_wish, write_windows_identity


@dataclass(frozen=True)
class CloneSource:
    """What is cloned: a template of a shelf, or a sealed image that lies on none."""

    disk: Path
    title: str
    template: Template | None = None
    reach: Reach = OWN_FOLDER

    @classmethod
    def find(cls, wanted: str, shelf: Shelf, reach: Reach = OWN_FOLDER) -> CloneSource:
        """An image file, or ``NAME[@VERSION]`` on the shelf.

        Raises:
            MissingError: there is neither.
            RefusedError: the template is retired.
        """
        if Path(wanted).is_file():
            return cls(Path(wanted), wanted, reach=reach)
        template = shelf.get(wanted)
        if template.state == RETIRED:
            raise RefusedError(messages.TEMPLATE_RETIRED.format(title=template.entry.title))
        return cls(template.disk, template.entry.title, template, template.reach)


@dataclass(frozen=True)
class CloneBatch:
    """Clones to be made of one template.

    Attributes:
        wishes: one a clone, in order.
        format_name: of full clones' disks; empty for the template's.
        absolute: whether overlays name the template by its absolute path.
        grow_last: whether the last partition takes the room of a larger disk.
        move_swap: whether swap at the end of the disk is moved for it.
        grow_file_system: whether the root file system takes it too.
        host: where they are started.
        forms: of the definitions for other hosts that are written beside each disk.
        reissue_sid: whether each clone of a Windows gets a security identifier of its own.
        reserved: addresses that no clone gets, each with who has it.
        now: seconds since 1970.
    """

    source: CloneSource
    wishes: tuple[CloneWish, ...]
    now: int
    format_name: str = ""
    absolute: bool = False
    grow_last: bool = False
    move_swap: bool = False
    grow_file_system: bool = False
    host: str = "simulated"
    forms: tuple[str, ...] = ()
    reissue_sid: bool = False
    reserved: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class MadeClone:
    """A clone that was made, and what is to be known of it, sentences."""

    machine: YardMachine
    wish: CloneWish
    disk_bytes: int
    messages: tuple[str, ...] = ()


def make_clones(
    batch: CloneBatch, yard: Yard, shelf: Shelf | None = None, progress: Progress = quiet
) -> list[MadeClone]:
    """Makes all clones of a batch, or none.

    Args:
        batch: what is wanted.
        yard: where they come to live.
        shelf: whose clones elsewhere must not have the same MACs; None where there is none.
        progress: told of each stage.

    Raises:
        UsageError: a name, address, size or wish that cannot be.
        OutputExistsError: there is a machine of that name.
        RefusedError: the template is not sealed, or cannot be told what is asked.
        UnfinishedError: no space; nothing is left behind.
    """
    if not batch.wishes:
        raise UsageError(messages.CLONE_NAME_REQUIRED)
    check_template(batch.source, progress)
    source = read_image_facts(batch.source.disk, batch.source.reach)
    plan = _Plan.read(batch, source)
    for wish in with_addresses(batch.wishes, ()):  # any will do for this check
        plan.check(wish)
    plan = plan.with_ids(progress)  # reads the whole template where new ones are wished
    with Batch(yard.folder, progress) as made:
        wishes = with_names(batch.wishes, yard)
        for wish in wishes:
            check_new_folder(yard.folder / wish.row.name)
        identities = TakenIdentities.read(yard, shelf, batch.reserved)
        wishes = with_addresses(wishes, identities.addresses)  # no other command can take them now
        definitions = [plan.define(wish, identities) for wish in wishes]
        notes = []
        with _noted(batch, yard, definitions):
            for number, (wish, definition) in enumerate(zip(wishes, definitions, strict=True)):
                progress(Step("making clones", number, len(wishes), "clones"))
                folder = made.add(wish.row.name)
                notes.append(plan.fill(folder, yard.folder / wish.row.name, wish, definition))
            progress(Step("making clones", len(wishes), len(wishes), "clones"))
            made.commit()
    return [
        MadeClone(yard.get(wish.row.name), wish, plan.size_of(wish), tuple(sentences))
        for wish, sentences in zip(wishes, notes, strict=True)
    ]


def check_template(source: CloneSource, progress: Progress = quiet) -> str:
    """Raises RefusedError unless an image is sealed, by a quick look; returns the disk's digest."""
    checked = check_image(source.disk, Level.QUICK, progress, policy=resolve(reach=source.reach))
    if checked.verdict is not Verdict.SEALED or checked.record is None:
        raise RefusedError(
            messages.TEMPLATE_NOT_SEALED.format(
                disk=source.disk, verdict=checked.verdict.value, reason=checked.reason
            )
        )
    if source.template and source.template.entry.digest != checked.record.root:
        raise RefusedError(
            messages.TEMPLATE_DIFFERS_FROM_SHELF.format(disk=source.disk, title=source.title)
        )
    return checked.record.root


@dataclass(frozen=True)
class _Plan:
    """What all clones of a batch have in common."""

    batch: CloneBatch
    source: ImageFacts
    abilities: Abilities
    hardware: Hardware
    digest: str
    name: str
    ids: IdPlan | None = None

    @classmethod
    def read(cls, batch: CloneBatch, source: ImageFacts) -> _Plan:
        template = batch.source.template
        if template:
            abilities = template.entry.abilities or read_abilities(
                source.path, Reach(source.format_name)
            )
            hardware, digest = template.entry.hardware, template.entry.digest
        else:
            abilities = read_abilities(source.path, Reach(source.format_name))
            hardware, digest = Hardware(firmware=guess_firmware(source.path)), ""
        moment = datetime.fromtimestamp(batch.now, UTC).strftime("%Y%m%d-%H%M%S")
        return cls(batch, source, abilities, hardware, digest, f"{moment}-{new_uuid()[:4]}")

    def with_ids(self, progress: Progress) -> _Plan:
        """The plan with what new volume identities take, where a clone is to have them.

        Raises:
            RefusedError: they cannot be changed everywhere.
        """
        rows, source = [wish.row for wish in self.batch.wishes], self.source
        if not any(row.new_volume_ids for row in rows):
            return self
        renames, reach = any(row.volume_group for row in rows), Reach(source.format_name)
        ids = plan_new_ids(source.path, progress, reach, renames_group=renames)
        return replace(self, ids=ids)

    def size_of(self, wish: CloneWish) -> int:
        """The final size of a clone's disk."""
        return wish.disk_bytes or max(self.source.size_bytes, self.hardware.disk_bytes)

    def disk_wish(self, wish: CloneWish) -> DiskWish:
        """What a clone's disk is to be."""
        return DiskWish(
            size_bytes=self.size_of(wish),
            linked=wish.row.linked,
            absolute=self.batch.absolute,
            format_name=self.batch.format_name,
            grow_last=self.batch.grow_last,
            move_swap=self.batch.move_swap,
            grow_file_system=self.batch.grow_file_system,
        )

    def check(self, wish: CloneWish) -> None:
        """Raises where a clone cannot be what is asked."""
        row = wish.row
        name = row.name or (row.numbers.prefix + "..." if row.numbers else "")
        check_size(self.disk_wish(wish), self.source, name)
        if row.volume_group and not row.new_volume_ids:
            raise UsageError(messages.GROUP_NEEDS_NEW_IDS.format(name=name))
        if row.linked and self.batch.format_name not in ("", "qcow2"):
            raise UsageError(messages.LINKED_CLONE_HAS_NO_FORMAT)
        if row.linked and self.source.other_files:
            raise RefusedError(messages.TEMPLATE_NEEDS_OTHER_FILES.format(path=self.source.path))
        if row.linked and OVF in self.batch.forms:
            raise UsageError(messages.LINKED_CLONE_HAS_NO_OVF.format(name=name))
        title = self.batch.source.title
        if self.batch.reissue_sid and not self.abilities.is_windows:
            raise RefusedError(messages.NO_SECURITY_IDENTIFIER.format(title=title))
        more = self.seed_of(wish, "").needs_more_than_lines()
        if self.abilities.is_windows:
            check_windows_wish(wish, self.abilities, title, self.batch.reissue_sid)
        elif _has_windows_keys(wish):
            raise RefusedError(messages.WINDOWS_SETTINGS_FOR_LINUX.format(name=name, title=title))
        elif row.into_disk:
            self._check_into_disk(wish, name)
        elif self.abilities.seeded_by == NOTHING:
            raise RefusedError(
                messages.NOTHING_READS_SEED.format(title=self.batch.source.title, name=name)
            )
        elif more and self.abilities.seeded_by != CLOUD_INIT:
            raise RefusedError(
                messages.SETTING_NEEDS_CLOUD_INIT.format(
                    name=name, more=more, title=self.batch.source.title
                )
            )

    def _check_into_disk(self, wish: CloneWish, name: str) -> None:
        only_by_seed = {
            "packages": wish.row.packages,
            "commands": wish.row.commands,
            "a first-boot script": wish.script,
        }
        wanted = ", ".join(key for key, value in only_by_seed.items() if value)
        if wanted:
            raise RefusedError(
                messages.SETTING_NEEDS_RUNNING_GUEST.format(name=name, wanted=wanted)
            )
        if not self.abilities.network:
            raise RefusedError(
                messages.NO_SUPPORTED_NETWORK_SERVICE.format(title=self.batch.source.title)
            )

    def define(self, wish: CloneWish, identities: TakenIdentities) -> MachineDefinition:
        """The definition of a clone."""
        row, template = wish.row, self.batch.source.template
        mac, machine_uuid = identities.take(wish)
        in_disk = row.into_disk or self.abilities.is_windows
        media = () if in_disk else (AttachedMedium(SEED_FILE, SEED_MEDIUM),)
        return MachineDefinition(
            name=row.name,
            uuid=machine_uuid,
            disk=self.disk_wish(wish).file_name(self.source),
            adapters=(NetworkCard(mac, self.hardware.card_model, row.network, row.vlan),),
            media=media,
            disk_bus=self.hardware.disk_bus,
            cpus=row.cpus or self.hardware.cpus,
            memory_mib=row.memory_mib or self.hardware.memory_mib,
            firmware=self.hardware.firmware,
            secure_boot=self.hardware.secure_boot,
            tpm=row.tpm or self.hardware.tpm,
            host=self.batch.host,
            addresses=row.addresses,
            template=self.batch.source.title,
            template_folder=str(template.folder.resolve()) if template else "",
            template_digest=self.digest,
            batch=self.name,
            linked=row.linked,
            notes=row.notes,
        )

    def fill(
        self, folder: Path, final: Path, wish: CloneWish, definition: MachineDefinition
    ) -> list[str]:
        """Fills the hidden folder of one clone, which will be ``final``."""
        disk = make_disk(self.disk_wish(wish), self.source, folder, final)
        disk.chmod(0o644)  # what lies on a shelf may only be read
        seed = self.seed_of(wish, definition.mac, f"i-{definition.uuid[:8]}")
        notes = [messages.SWAP_MOVED] if self.batch.move_swap else []
        if self.batch.grow_file_system:
            notes.append(messages.ROOT_GROWN)
        if wish.row.new_volume_ids:
            notes += self._renew_ids(disk, wish)
        if self.abilities.is_windows:
            notes += write_windows_identity(
                disk, wish, definition.mac, reissues=self.batch.reissue_sid, now=self.batch.now
            )
        elif wish.row.into_disk:
            notes += write_identity(disk, seed, self.batch.now)
            read_back(disk, wish)
        else:
            write_seed_medium(folder / SEED_FILE, seed)
        if definition.firmware == "uefi" and not self.abilities.fallback_loader:
            notes.append(messages.NO_LOADER_FOR_CLONE)
        write_definition(folder, definition)
        machine = YardMachine(folder, definition, MachineState())
        write_definition_files(machine, self.batch.forms, final)
        return notes

    def _renew_ids(self, disk: Path, wish: CloneWish) -> list[str]:
        """Gives a clone's disk identities of its own; returns what was done, sentences."""
        assert self.ids is not None  # it was planned as soon as one clone wishes it
        group = wish.row.volume_group.replace("{name}", wish.row.name)
        new = renew_disk_ids(disk, self.ids, self.batch.now, group)
        places = self.ids.references.places
        named = messages.NEW_IDS_NAMED_IN.format(places=some_of(list(places))) if places else ""
        notes = [messages.NEW_VOLUME_IDS.format(count=len(new), named=named)]
        history = self.ids.references.history
        if history:
            notes.append(messages.OLD_IDS_RECORDED.format(places=some_of(list(history))))
        return notes

    def seed_of(self, wish: CloneWish, mac: str, instance_id: str = "") -> Seed:
        """What a clone is told."""
        row = wish.row
        network = None
        if row.addresses or row.into_disk:
            network = FixedAddresses(
                mac,
                tuple(row.addresses),
                tuple(row.gateways),
                tuple(row.name_servers),
                tuple(row.search),
            )
        return Seed(
            instance_id=instance_id,
            host_name=wish.host_name,
            domain=row.domain,
            accounts=wish.accounts,
            root_password_hash=wish.root_password_hash,
            network=network,
            packages=tuple(row.packages),
            time_zone=row.time_zone,
            locale=row.locale,
            commands=tuple(row.commands),
            files=wish.files,
            script=wish.script,
        )


def _has_windows_keys(wish: CloneWish) -> bool:
    """Whether a row says what only a Windows is told."""
    return wish.row.windows != WindowsSettings()


@contextmanager
def _noted(batch: CloneBatch, yard: Yard, definitions: list[MachineDefinition]) -> Iterator[None]:
    """Notes clones on their template's shelf before they are there; takes that back on an error.

    Linked clones must be noted. Of full ones it is good to know, but a shelf that may only be read
    is no obstacle.
    """
    template = batch.source.template
    noted: list[str] = []
    try:
        for definition in definitions if template else []:
            assert template is not None  # nothing is noted without one
            folder = (yard.folder / definition.name).resolve()
            clone = NotedClone(
                uuid=definition.uuid,
                name=definition.name,
                disk=str(folder / definition.disk),
                linked=definition.linked,
                macs=tuple(card.mac for card in definition.adapters),
                batch=definition.batch,
                made_at=batch.now,
            )
            with suppress(*(() if definition.linked else (ZeroSealError,))):
                note_clone(template, clone)
                noted.append(clone.uuid)
        yield
    except BaseException:
        for machine_uuid in noted:
            assert template is not None  # it was noted there
            forget_clone(template, machine_uuid)
        raise
