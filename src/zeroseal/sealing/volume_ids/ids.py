"""The identities of a disk and its volumes: which there are, how they are written, new ones."""

from __future__ import annotations

import re
import secrets
import uuid
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum
from functools import cached_property

from zeroseal.blocks.search import Needle, Searcher
from zeroseal.blocks.store import Store
from zeroseal.errors import RefusedError
from zeroseal.filesystems.drivers import driver_of
from zeroseal.messages import sealing as messages
from zeroseal.volumes import gpt, mbr
from zeroseal.volumes.disk import Disk
from zeroseal.volumes.lvm import identity as lvm
from zeroseal.volumes.swap import set_swap_id
from zeroseal.volumes.volume import LVM_KIND, SWAP_KIND, Volume

_GROUP_FORMS = (
    "/dev/{name}/",
    "/dev/mapper/{mapped}-",
    "lvm/{mapped}-",
    "lvm.vg={name}",
    "lvm.lv={name}/",
    "mapper-{escaped_mapped}\\x2d",
    "dev-{escaped}-",
)
_SHORT = 20  # characters: an identity with fewer is told from other numbers by what is beside it
_WITHOUT_ID = ("squashfs", "iso9660")  # packed as they are: nothing can be changed in them


class IdKind(Enum):
    """What an identity is of; the value is the word for it."""

    GPT = "GUID"
    MBR = "disk signature"
    VOLUME = "UUID"
    LVM = "LVM identifier"
    GROUP = "name of the volume group"


@dataclass(frozen=True)
class VolumeId:
    """One identity.

    Attributes:
        where: what has it: ``the disk``, ``partition 2``, ``volume group saltmarsh`` ...
        text: as tools print it.
        partition: whether it is the GUID of a partition, not of what lies on it.
    """

    kind: IdKind
    where: str
    text: str
    partition: bool = False

    @property
    def title(self) -> str:
        """What it is, in words."""
        if self.kind is IdKind.VOLUME:
            return "serial number" if len(self.text) < 20 else "UUID"
        return "partition GUID" if self.partition else self.kind.value


@dataclass(frozen=True)
class NewId:
    """An identity and what takes its place."""

    old: VolumeId
    new: str


@dataclass(frozen=True)
class Form:
    """How an identity is written somewhere, and how the new one is.

    Both are of one length, but for names of volume groups. A short one only counts where no letter
    or digit stands before it, and none behind it that would make it a longer number.
    """

    old: bytes
    new: bytes
    caseless: bool = True
    is_short: bool = False

    @property
    def pairs(self) -> tuple[tuple[bytes, bytes], ...]:
        """(old, new) as they stand in files: in lower and in upper case."""
        if not self.caseless:
            return ((self.old, self.new),)
        lower = self.old.lower(), self.new.lower()
        upper = self.old.upper(), self.new.upper()
        return (lower,) if lower == upper else (lower, upper)

    def replace_in(self, content: bytes) -> bytes:
        """Content with the new form in the place of each old one, letters as large as there."""
        if not self.caseless:
            return content.replace(self.old, self.new)
        return self._pattern.sub(self._like, content)

    def is_in(self, content: bytes) -> bool:
        """Whether content has it."""
        if not self.caseless:
            return self.old in content
        return self._pattern.search(content) is not None

    @cached_property
    def _pattern(self) -> re.Pattern[bytes]:
        own = re.escape(self.old)
        if self.is_short:
            own = rb"(?<![0-9A-Za-z])" + own + rb"(?!\d*[A-Za-z])"
        return re.compile(own, re.IGNORECASE)

    def _like(self, found: re.Match[bytes]) -> bytes:
        is_large = any(found[0][at : at + 1].isupper() for at in self._changing)
        new = self.new.upper() if is_large else self.new.lower()
        made = bytearray(found[0])  # what is the same in both, as "0x", stays as it stands
        for at in self._changing:
            made[at] = new[at]
        return bytes(made)

    @cached_property
    def _changing(self) -> list[int]:
        pairs = zip(self.old.lower(), self.new.lower(), strict=True)
        return [at for at, (before, after) in enumerate(pairs) if before != after]


def list_volume_ids(disk: Disk) -> list[VolumeId]:
    """All identities of a disk, each once.

    Raises:
        RefusedError: it has none, or one that cannot be changed here.
    """
    found: list[VolumeId] = []
    if disk.table == "GPT":
        found.append(VolumeId(IdKind.GPT, "the disk", disk.disk_uuid))
        found += [
            VolumeId(IdKind.GPT, volume.name, volume.part_uuid, partition=True)
            for volume in disk.volumes
            if volume.part_uuid
        ]
    elif disk.table == "MBR":
        found.append(VolumeId(IdKind.MBR, "the disk", disk.disk_uuid))
    for volume in disk.volumes:
        content = volume.content
        if content.kind in (SWAP_KIND, LVM_KIND) or driver_of(volume) is not None:
            if content.uuid:
                found.append(VolumeId(IdKind.VOLUME, volume.name, content.uuid))
        elif content.is_known and content.kind not in _WITHOUT_ID:
            raise RefusedError(
                messages.ID_OF_VOLUME_NOT_CHANGED.format(name=volume.name, kind=content.kind)
            )
    found += [
        VolumeId(IdKind.LVM, one.what, one.text) for one in lvm.list_ids(disk.physical_volumes)
    ]
    found = [one for one in found if one.text.strip("0-")]  # nothing but zeros stands for none
    if not found:
        raise RefusedError(messages.DISK_HAS_NO_IDS)
    return list({(one.kind, one.text): one for one in found}.values())


def name_of_group(disk: Disk) -> VolumeId:
    """The name of the disk's volume group, which may be changed too.

    Raises:
        RefusedError: the disk has no group, or several.
    """
    names = {volume.group for volume in disk.volumes if volume.group}
    if len(names) != 1:
        raise RefusedError(messages.NOT_ONE_VOLUME_GROUP.format(count=len(names)))
    name = names.pop()
    return VolumeId(IdKind.GROUP, f"volume group {name}", name)


def make_new_ids(ids: Sequence[VolumeId], disk: Disk, group_name: str = "") -> list[NewId]:
    """Random identities in the place of those of a disk.

    A volume group keeps its name where ``group_name`` is empty.
    """
    found = [NewId(one, _random_for(one, disk)) for one in ids if one.kind is not IdKind.GROUP]
    groups = [one for one in ids if one.kind is IdKind.GROUP and group_name]
    return found + [NewId(one, group_name) for one in groups]


def forms_of(one: NewId) -> Iterator[Form]:
    """Yields how an identity is written: as it is, as systemd escapes it, in binary."""
    old, new = one.old.text, one.new
    if one.old.kind is IdKind.MBR:
        for ending in ("-0", "\\x2d0"):  # partitions 1 to 9; no disk has more with this table
            yield Form((old + ending).encode(), (new + ending).encode(), is_short=True)
        yield Form(f"0x{old}".encode(), f"0x{new}".encode(), is_short=True)
        return
    if one.old.kind is IdKind.GROUP:
        yield from _forms_of_group(old, new)
        return
    is_lvm = one.old.kind is IdKind.LVM
    is_short = len(old) < _SHORT
    yield Form(old.encode(), new.encode(), not is_lvm, is_short=is_short)
    if "-" in old:
        yield Form(_escaped(old), _escaped(new), not is_lvm, is_short=is_short)
    if is_lvm:
        bare = [text.replace("-", "").encode() for text in (old, new)]
        yield Form(bare[0], bare[1], caseless=False)
    if one.old.kind is IdKind.GPT:
        binary = [uuid.UUID(text).bytes_le for text in (old, new)]
        yield Form(binary[0], binary[1], caseless=False)


def _forms_of_group(old: str, new: str) -> Iterator[Form]:
    """How the name of a volume group is written: as a part of paths, arguments and unit names.

    The device mapper doubles the dashes of a name; systemd escapes them.
    """
    for pattern in _GROUP_FORMS:
        made = [
            pattern.format(
                name=name,
                mapped=name.replace("-", "--"),
                escaped=name.replace("-", "\\x2d"),
                escaped_mapped=name.replace("-", "\\x2d\\x2d"),
            ).encode()
            for name in (old, new)
        ]
        yield Form(made[0], made[1], caseless=False)


def needles_of(forms: Sequence[Form]) -> list[Needle]:
    """What bytes are searched for; a hit's number is that of its form."""
    return [
        Needle(number, form.old.lower() if form.caseless else form.old, form.caseless)
        for number, form in enumerate(forms)
    ]


def all_forms(new: Sequence[NewId]) -> list[Form]:
    """All forms of all identities."""
    return [form for one in new for form in forms_of(one)]


def pairs_of(forms: Sequence[Form]) -> list[tuple[bytes, bytes]]:
    """(old, new) of forms, as they stand in files."""
    return [pair for form in forms for pair in form.pairs]


class FormSearch:
    """Finds forms of identities in content and replaces them: all are looked for at once."""

    def __init__(self, forms: Sequence[Form]) -> None:
        self._forms, self._searcher = forms, Searcher(needles_of(forms))

    def forms_in(self, content: bytes) -> list[Form]:
        """The forms that content has."""
        numbers = {number for _offset, number in self._searcher.find(content)}
        found = [self._forms[number] for number in sorted(numbers)]
        return [form for form in found if form.is_in(content)]

    def replaced(self, content: bytes) -> bytes:
        """Content with the new form in the place of each old one."""
        for form in self.forms_in(content):
            content = form.replace_in(content)
        return content


def set_volume_ids(store: Store, disk: Disk, new: Sequence[NewId]) -> None:
    """Changes the identities in the structures of a disk; nothing that names them.

    Args:
        store: the disk.
        disk: what is on it.
        new: as ``make_new_ids`` made them.

    Raises:
        ImageError, RefusedError: a structure cannot be changed; some may be.
    """
    volumes = {one.old.where: one.new for one in new if one.old.kind is IdKind.VOLUME}
    for volume in disk.volumes:
        if volume.name in volumes:
            _set_on_volume(volume, volumes[volume.name])
    names = _by_text(new, IdKind.GROUP)
    lvm.change_ids(disk.physical_volumes, _by_text(new, IdKind.LVM), names)
    guids = _by_text(new, IdKind.GPT)
    if guids:
        gpt.change_guids(store, guids)
    for signature in _by_text(new, IdKind.MBR).values():
        mbr.set_signature(store, int(signature, 16))


def _set_on_volume(volume: Volume, new: str) -> None:
    driver = driver_of(volume)
    if driver is None:
        set_swap_id(volume.store, uuid.UUID(new).bytes)
    else:
        driver.set_volume_id(volume.store, volume.name, new)


def _by_text(new: Sequence[NewId], kind: IdKind) -> Mapping[str, str]:
    return {one.old.text: one.new for one in new if one.old.kind is kind}


def _random_for(one: VolumeId, disk: Disk) -> str:
    match one.kind:
        case IdKind.MBR:
            return f"{secrets.randbelow(0xFFFFFFFF) + 1:08x}"
        case IdKind.LVM:
            return lvm.new_id()
        case IdKind.VOLUME:
            volume = next(item for item in disk.volumes if item.name == one.where)
            driver = driver_of(volume)
            return driver.new_volume_id() if driver else str(uuid.uuid4())
    return str(uuid.uuid4())


def _escaped(text: str) -> bytes:
    """As systemd writes it in the names of units."""
    return text.replace("-", "\\x2d").encode()
