"""What in a guest names an identity of the disk: found by a search of all bytes, and in archives.

Any file may name one; where it is a plain text, the new one takes its place, letter for letter.
Some formats need more: boot archives are packed, and so is the core image of GRUB for BIOS. What
can be changed in no way stops the whole, before anything is written; what is only a record of the
past (a log, a cache) stays and is told.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from zeroseal.blocks.pipeline import search_store
from zeroseal.blocks.search import Searcher
from zeroseal.errors import RefusedError
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.compressors import Packing, find_packing
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.grub_core import is_grub_core, parse_grub_core
from zeroseal.guests.linux.initramfs import (
    BOOT_ARCHIVES,
    BOOT_IMAGES,
    find_entries,
    find_initrd_of_boot_image,
    is_initramfs,
)
from zeroseal.guests.system import as_windows
from zeroseal.guests.windows.volume_ids import hives_with, hives_with_signature, with_wide
from zeroseal.messages import sealing as messages
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.place_finder import LVM_METADATA, NAMES_SUFFIX, PlaceFinder
from zeroseal.sealing.residue import place_without_offset
from zeroseal.sealing.volume_ids.ids import (
    Form,
    FormSearch,
    IdKind,
    list_volume_ids,
    needles_of,
    pairs_of,
)
from zeroseal.sentences import some_of
from zeroseal.volumes.disk import Disk

_LONGEST_FILE = 512 << 20
_CORE_FILES = ("/boot/grub*/i386-pc/core.img",)
_BIOS_BOOT = "BIOS boot"
_MOST_CORE_BYTES = 1 << 20
_HISTORY = re.compile(
    r"(?i)/(Windows/(Logs|Panther|Prefetch|System32/(winevt|LogFiles))|System Volume Information"
    r"|var/(log|cache|tmp|backups|lib/systemd/coredump|lib/upower|lib/smartmontools)|tmp|run)/"
    r"|.*/(\.bash_history|\.lesshst|\.viminfo)$",
)
_CERTIFICATES = 4  # of the data directories of a PE file


@dataclass(frozen=True)
class CorePlace:
    """Where a core image of GRUB is embedded on the disk, in bytes."""

    where: str
    offset_bytes: int
    length: int


@dataclass(frozen=True)
class References:
    """What names identities of a disk.

    Attributes:
        files: texts, and programs for firmware without a signature.
        archives: boot archives.
        cores: files with a core image of GRUB.
        embedded: places of the disk with one.
        hives: of a Windows registry.
        links: symbolic links that lead through one.
        names: files and folders that bear one in their own names; the deepest first.
        history: places that only record one; they stay.
    """

    files: tuple[str, ...] = ()
    archives: tuple[str, ...] = ()
    cores: tuple[str, ...] = ()
    embedded: tuple[CorePlace, ...] = ()
    hives: tuple[str, ...] = ()
    links: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    history: tuple[str, ...] = ()

    @property
    def places(self) -> tuple[str, ...]:
        """All that will be changed, as it is shown."""
        embedded = [one.where for one in self.embedded]
        kinds = (self.files, self.archives, self.cores, embedded, self.hives, self.links)
        return tuple(sorted({path for kind in kinds for path in kind} | set(self.names)))


def find_references(
    inspection: Inspection, forms: Sequence[Form], progress: Progress = quiet
) -> References:
    """Finds everything that names an identity.

    Args:
        inspection: of the disk; all of its bytes are read once.
        forms: how the identities are written.
        progress: told how far it is.

    Raises:
        RefusedError: something names one in a way that is not changed here; all places are said.
    """
    finder = _Finder(inspection, forms)
    finder.look_at_places(_places_of_hits(inspection, forms, progress))
    finder.look_at_archives()
    finder.look_at_cores()
    finder.look_at_registry()
    return finder.result()


class _Finder:
    """Sorts places by how what they name is changed."""

    def __init__(self, inspection: Inspection, forms: Sequence[Form]) -> None:
        self._inspection, self._guest = inspection, inspection.guest
        self._forms, self._search = forms, FormSearch(forms)
        self._varying = FormSearch([form for form in forms if len(form.old) != len(form.new)])
        self._found: dict[str, dict[str, None]] = {}
        self._embedded: list[CorePlace] = []
        self._blocked: list[str] = []

    def look_at_places(self, places: Iterable[str]) -> None:
        """Sorts what the search of the disk's bytes found."""
        for place in places:
            if not place.startswith("/"):
                self._look_outside(place)
            elif place.endswith(NAMES_SUFFIX):
                self._look_at_names(place.removesuffix(NAMES_SUFFIX))
            else:
                self._look_at_file(place)

    def look_at_archives(self) -> None:
        """Looks into boot archives, and into boot images that hold one."""
        for path in _files(self._guest, BOOT_ARCHIVES):
            raw = self._guest.read_file(path, _LONGEST_FILE)
            if is_initramfs(raw):
                self._look_into(path, raw)
            elif find_packing(raw) is Packing.LZ4:
                self._block(path, messages.PACKED_IN_A_WAY_NOT_WRITTEN)
        for path in _files(self._guest, BOOT_IMAGES):
            inside = find_initrd_of_boot_image(self._guest.read_file(path, _LONGEST_FILE))
            if inside and self._names_in_archive(path, inside):
                self._block(path, messages.INSIDE_BOOT_IMAGE)

    def look_at_cores(self) -> None:
        """Looks into core images of GRUB, in files and where they are embedded."""
        for path in _files(self._guest, _CORE_FILES):
            self._look_at_core(path, self._guest.read_file(path, _LONGEST_FILE))
        for place in core_places(self._inspection.disk):
            length = min(place.length, _MOST_CORE_BYTES)
            raw = self._inspection.store.read(place.offset_bytes, length)
            if self._is_core_with_id(place.where, raw):
                self._embedded.append(place)

    def look_at_registry(self) -> None:
        """Looks into the hives of a Windows, also for what is too short to be searched for."""
        system = as_windows(self._inspection.system)
        if system is None:
            return
        pairs = with_wide(pairs_of(self._forms))
        for path in hives_with(system.registry, [old for old, _new in pairs]):
            self._add("hives", path)
        for one in list_volume_ids(self._inspection.disk):
            if one.kind is IdKind.MBR:
                signature = int(one.text, 16).to_bytes(4, "little")
                for path in hives_with_signature(system.registry, signature):
                    self._add("hives", path)

    def result(self) -> References:
        """What was found.

        Raises:
            RefusedError: something stands against it.
        """
        if self._blocked:
            raise RefusedError(messages.IDS_NAMED_WHERE_FIXED.format(places=some_of(self._blocked)))
        found = {kind: tuple(paths) for kind, paths in self._found.items()}
        names = sorted(found.pop("names", ()), key=lambda path: (-path.count("/"), path))
        return References(embedded=tuple(self._embedded), names=tuple(names), **found)

    def _add(self, kind: str, path: str) -> None:
        self._found.setdefault(kind, {})[path] = None

    def _block(self, path: str, why: str) -> None:
        self._blocked.append(f"{path} ({why})")

    def _names_one(self, content: bytes) -> bool:
        return bool(self._search.forms_in(content))

    def _look_outside(self, place: str) -> None:
        """Outside of files: LVM's text is changed with the volumes, free space names nothing."""
        volume = place.partition(",")[0].partition(" (")[0]
        unread = {item.name: item.content.kind for item in self._inspection.unmounted}
        if place.startswith(LVM_METADATA):
            return
        if volume in unread:
            self._block(place, messages.ON_UNMOUNTED_VOLUME)
        elif volume in {item.name for item in self._inspection.disk.volumes}:
            self._add("history", place_without_offset(place))  # of a snapshot, say, or free space

    def _look_at_names(self, folder: str) -> None:
        for name in self._guest.list_names(folder or "/"):
            path = f"{folder.rstrip('/')}/{name}"
            if self._names_one(name.encode("utf-8", "surrogateescape")):
                self._add("names", path)

    def _look_at_file(self, path: str) -> None:
        found = self._guest.find(path, follow_last=False)
        if found is None:
            return
        if found.kind is Kind.LINK:
            self._add("links", path)
        elif found.kind is Kind.FOLDER:
            self._look_at_names(path)
        elif found.kind is Kind.FILE:
            self._look_at_content(path, self._guest.read_file(path, _LONGEST_FILE))

    def _look_at_content(self, path: str, raw: bytes) -> None:
        found = self._search.forms_in(raw)
        if not found:
            return  # an attribute of the file, or what lies behind its end
        if all(form.is_short for form in found) and self._is_of_package(path):
            return  # another number that looks the same
        if raw.startswith(b"regf"):
            return  # the registry is looked at by itself, its logs with it
        if is_initramfs(raw):
            self._look_into(path, raw)
        elif b"\0" not in raw:
            self._add("files", path)
        elif raw[:2] == b"MZ":
            if self._varying.forms_in(raw) or _is_signed(raw) or find_initrd_of_boot_image(raw):
                self._block(path, messages.SIGNED_PROGRAM)
            else:
                self._add("files", path)
        elif _HISTORY.match(path):
            self._add("history", path)
        else:
            self._block(path, messages.NO_PLAIN_TEXT)

    def _is_of_package(self, path: str) -> bool:
        is_machine_s = path.startswith(("/boot/", "/efi/", "/etc/"))
        return not is_machine_s and self._inspection.system.is_shipped(path)

    def _look_into(self, path: str, raw: bytes) -> None:
        named = self._names_in_archive(path, raw)
        binary = [name for name, content in named if b"\0" in content]
        if binary:
            self._block(path, messages.INSIDE_ARCHIVE.format(name=binary[0]))
        elif named:
            self._add("archives", path)

    def _names_in_archive(self, path: str, raw: bytes) -> list[tuple[str, bytes]]:
        """(name, content) of the entries that name an identity."""
        try:
            entries = find_entries(raw, lambda _path: True)
        except ValueError as error:
            self._block(path, str(error))
            return []
        return [
            (entry.path, entry.content)
            for entry in entries
            if self._names_one(entry.content) or self._names_one(entry.name)
        ]

    def _look_at_core(self, path: str, raw: bytes) -> None:
        if self._is_core_with_id(path, raw):
            self._add("cores", path)

    def _is_core_with_id(self, where: str, raw: bytes) -> bool:
        if not is_grub_core(raw):
            if self._names_one(raw):
                self._block(where, messages.NO_PLAIN_TEXT)
            return False
        try:
            core = parse_grub_core(raw)
        except ValueError as error:
            self._block(where, str(error))
            return False
        if self._varying.forms_in(core.content):
            self._block(where, messages.LENGTH_IS_FIXED)
        return self._names_one(core.content)


def core_places(disk: Disk) -> Iterator[CorePlace]:
    """Where on a disk GRUB embeds its core image."""
    for volume in disk.volumes:
        if volume.type_name == _BIOS_BOOT:
            yield CorePlace(
                messages.BOOT_LOADER_ON.format(name=volume.name),
                volume.offset_bytes,
                volume.size_bytes,
            )
    start, length = disk.boot_gap
    if length > 0:
        yield CorePlace(messages.BOOT_LOADER_IN_GAP, start, length)


def _places_of_hits(inspection: Inspection, forms: Sequence[Form], progress: Progress) -> list[str]:
    """Each place with a hit, once."""
    finder, needles = PlaceFinder(inspection), needles_of(forms)
    places: dict[str, None] = {}
    for hit in search_store(inspection.store, needles, progress):
        places[finder.place_of(hit.offset_bytes)] = None
    searcher = Searcher(needles)
    for mount in inspection.guest.mounts:
        hidden, _unread = mount.driver.search_hidden(mount.tree, searcher)
        places |= {mount.path.rstrip("/") + hit.path: None for hit in hidden}
    return list(places)


def _files(guest: Guest, patterns: Sequence[str]) -> Iterator[str]:
    """Yields the regular files that fit, each once."""
    paths = {path: None for pattern in patterns for path in guest.glob(pattern)}
    for path in paths:
        if guest.facts(path, follow_last=False).kind is Kind.FILE:
            yield path


def _is_signed(raw: bytes) -> bool:
    """Whether a program for firmware has a table of certificates (PE/COFF, data directory 4)."""
    start = int.from_bytes(raw[0x3C:0x40], "little")
    if raw[start : start + 4] != b"PE\0\0" or len(raw) < start + 24 + 2:
        return False
    is_wide = raw[start + 24 : start + 26] == b"\x0b\x02"
    at = start + 24 + (112 if is_wide else 96) + _CERTIFICATES * 8
    return len(raw) >= at + 8 and struct.unpack_from("<II", raw, at)[1] > 0
