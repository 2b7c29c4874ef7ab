"""Residue: values of the original machine, and secrets by their look, still on a disk."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace

from zeroseal.blocks.pipeline import MOST_EACH
from zeroseal.blocks.search import Hit, Needle, Searcher
from zeroseal.blocks.store import Store
from zeroseal.guests.system import GuestSystem
from zeroseal.messages import sealing as messages
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.house_rules import any_pattern_fits
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.packed_files import PackedResult, search_packed_files
from zeroseal.sealing.place_finder import PlaceFinder, is_shipped
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.searched_value import ValueSet
from zeroseal.sealing.short_names import find_short_names
from zeroseal.sealing.signatures import SIGNATURES, Signature, signature_needles
from zeroseal.sentences import counted, some_of

_MOST_NAMED = 2000


@dataclass(frozen=True)
class Residue:
    """A value that was found.

    Attributes:
        label: what it is.
        place: the path of the file it lies in, or where else on the disk.
        offset_bytes: on the disk; 0 where it lies inside a compressed file.
        count: how often it was found there.
    """

    label: str
    place: str
    offset_bytes: int
    count: int


@dataclass(frozen=True)
class ValueSearch:
    """What a search of a disk's bytes found.

    Attributes:
        residue: at most so many as fit into a report.
        secrets: what looks like a key, a hash or a log in files that stay, and may be meant to.
        not_searched: values that could not be searched, or not everywhere, each with the reason.
        opened: how many compressed files were opened and searched.
    """

    residue: tuple[Residue, ...]
    secrets: tuple[Residue, ...]
    not_searched: tuple[str, ...]
    opened: int = 0


@dataclass(frozen=True)
class FileSearch:
    """What a search of a guest's files found, where the disk's bytes do not show it.

    Attributes:
        packed: inside compressed files.
        short: (label, place) of names too short to be looked for in bytes; ``common`` of those
            that are usual words, sentences.
        hidden: (label, place) of what a file system keeps in another form; ``unread`` what of it
            could not be read, sentences.
    """

    packed: PackedResult
    short: tuple[tuple[str, str], ...]
    common: tuple[str, ...]
    hidden: tuple[tuple[str, str], ...]
    unread: tuple[str, ...]


def needles_of(values: ValueSet) -> list[Needle]:
    """What the bytes of a disk are searched for: the values, and secrets by their look."""
    return values.needles + signature_needles(len(values.values))


def search_files(
    inspection: Inspection, values: ValueSet, progress: Progress = quiet
) -> FileSearch:
    """Searches a guest's files for values that the bytes of the disk do not show."""
    system = inspection.system
    packed = search_packed_files(system, values, progress)
    short, common = find_short_names(system, dict(values.short_names))
    hidden, unread = search_hidden(system, values)
    return FileSearch(packed, tuple(short), tuple(common), tuple(hidden), tuple(unread))


def find_residue(
    inspection: Inspection, values: ValueSet, hits: list[Hit], files: FileSearch
) -> ValueSearch:
    """Tells where each hit lies, and which of them have no business there.

    Args:
        inspection: of the disk.
        values: what was looked for; may be none.
        hits: of ``needles_of(values)`` in the disk's bytes.
        files: what was found in the guest's files.
    """
    sorter = _HitSorter(inspection.store, inspection, values)
    for hit in hits:
        sorter.take(hit)
    found = [*_with_keys(sorter.residue(), inspection, values)]
    stopping = {value.label for value in values.values if not value.is_told}
    found += [Residue(*one, 0, 1) for one in _inside(files.packed) if one[0] in stopping]
    found += [Residue(*one, 0, 1) for one in files.short]
    told_in = {residue.label for residue in found}
    hidden = [one for one in files.hidden if one[0] not in told_in and one[0] in stopping]
    found += [Residue(*one, 0, 1) for one in hidden]
    counts = Counter(hit.value_no for hit in hits if hit.value_no < len(values.values))
    notes = [
        (
            f"The {values.values[number].label} occurs in so many places that only "
            f"the first {count} were examined."
        )
        for number, count in counts.items()
        if count >= MOST_EACH
    ]
    not_searched = (
        *values.not_searched,
        *notes,
        *sorter.common_words(),
        *sorter.longer_names(),
        *files.common,
        *files.packed.not_opened,
        *files.unread,
    )
    return ValueSearch(tuple(found), tuple(sorter.secrets()), not_searched, files.packed.opened)


def search_hidden(system: GuestSystem, values: ValueSet) -> tuple[list[tuple[str, str]], list[str]]:
    """((label of a value, place) of each hit, sentences about what could not be read).

    What the bytes of a volume do not show is searched as its file system reads it.
    """
    searcher = Searcher(values.needles)
    found: dict[tuple[str, str], None] = {}
    unread: list[str] = []
    for mount in system.guest.mounts if searcher.longest else ():
        hits, notes = mount.driver.search_hidden(mount.tree, searcher)
        unread += notes
        for hit in hits:
            path = mount.path.rstrip("/") + hit.path
            value = values.values[hit.value_no]
            if not (value.is_word and system.is_shipped(path)):
                found[value.label, path] = None
    return list(found), unread


def _with_keys(
    residue: list[Residue], inspection: Inspection, values: ValueSet
) -> Iterator[Residue]:
    """Residue by where inside its file it lies, for formats that have such places."""
    known = {value.label: value for value in values.values}
    for item in residue:
        value = known.get(item.label)
        keys = inspection.system.places_inside(item.place, value.needles) if value else []
        inside = f", inside {', '.join(keys)}" if keys else ""
        yield replace(item, place=item.place + inside)


def not_allowed(residue: tuple[Residue, ...], policy: Policy) -> tuple[Residue, ...]:
    """What lies where the policy does not allow it."""
    return tuple(
        item
        for item in residue
        if not any(any_pattern_fits(policy.residue_places, form) for form in _forms_of(item.place))
    )


def place_without_offset(place: str) -> str:
    """A place as it is the same for two searches: without the byte that was found first."""
    return place.partition(", at its byte")[0].partition(", at byte")[0]


def _forms_of(place: str) -> tuple[str, ...]:
    """A place as it is printed, and without what it says of the inside of a file or of bytes."""
    return place, place.partition(", inside")[0], place.partition(", at its byte")[0]


def _inside(packed: PackedResult) -> list[tuple[str, str]]:
    return [(label, f"{path}, inside") for label, path in packed.found]


class _HitSorter:
    """Groups hits by value and place, and tells residue from what may stay."""

    def __init__(self, disk: Store, inspection: Inspection, values: ValueSet) -> None:
        self._disk = disk
        self._values = values.values
        self._finder = PlaceFinder(inspection)
        self._system = inspection.system
        self._residue: dict[tuple[str, str], list[Hit]] = {}
        self._secrets: dict[tuple[str, str], list[Hit]] = {}
        self._words: dict[str, set[str]] = {}
        self._parts: dict[str, dict[str, set[int]]] = {}
        self._whole: set[int] = set()

    def take(self, hit: Hit) -> None:
        """Sorts one hit."""
        if hit.value_no >= len(self._values):
            self._take_signature(hit, SIGNATURES[hit.value_no - len(self._values)])
            return
        value = self._values[hit.value_no]
        place = self._finder.place_of(hit.offset_bytes)
        if value.is_told:
            if not is_shipped(self._system, place):
                offsets = self._parts.setdefault(value.label, {}).setdefault(place, set())
                offsets.add(hit.offset_bytes)
            return
        self._whole.add(hit.offset_bytes)
        if value.is_word and is_shipped(self._system, place):
            self._words.setdefault(value.label, set()).add(place)
        else:
            self._residue.setdefault((value.label, place), []).append(hit)

    def residue(self) -> list[Residue]:
        """What has no business on the disk."""
        return _listed(self._residue)

    def secrets(self) -> list[Residue]:
        """What files hold that stay."""
        notes = {place for _label, place in self._residue}
        return _listed({key: hits for key, hits in self._secrets.items() if key[1] not in notes})

    def common_words(self) -> list[str]:
        """Values that are common words too, sentences."""
        return [
            (
                f"The {label} is also a common word: it occurs in "
                f"{counted(len(places), 'file')} that belong to packages and are "
                "unchanged."
            )
            for label, places in self._words.items()
        ]

    def longer_names(self) -> list[str]:
        """Longer names that hold a value, sentences."""
        notes = []
        for label, places in self._parts.items():
            left = [place for place, offsets in places.items() if offsets - self._whole]
            if left:
                notes.append(messages.RESIDUE_IN_PLACES.format(label=label, places=some_of(left)))
        return notes

    def _take_signature(self, hit: Hit, signature: Signature) -> None:
        if not signature.fits(self._disk, hit.offset_bytes):
            return
        place = self._finder.place_of(hit.offset_bytes)
        if self._finder.is_unused(place):
            key = f"something that looks like a {signature.label}", place
            self._residue.setdefault(key, []).append(hit)
        elif not signature.home.search(place) and not is_shipped(self._system, place):
            self._secrets.setdefault((signature.label, place), []).append(hit)


def _listed(grouped: dict[tuple[str, str], list[Hit]]) -> list[Residue]:
    return [
        Residue(label, place, found[0].offset_bytes, len(found))
        for (label, place), found in list(grouped.items())[:_MOST_NAMED]
    ]
