"""The checker's look at names: every name in its folder's index, and every entry a name."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from zeroseal.errors import ImageError
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.check_indexes import check_index
from zeroseal.filesystems.ntfs.check_table import TablePass
from zeroseal.filesystems.ntfs.index import FOLDER_INDEX, IndexEntry
from zeroseal.filesystems.ntfs.names import Upcase
from zeroseal.filesystems.ntfs.nodes import load_node, parse_name
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.filesystems.tree import Problem
from zeroseal.messages import ntfs as messages

_Name = tuple[str, int, int]  # name, space, number of the node


class NamePass:
    """Holds the names in records against those in folders, both ways."""

    def __init__(self, volume: NtfsVolume, table: TablePass, upcase: Upcase) -> None:
        self._volume, self._nodes, self._upcase = volume, table.nodes, upcase
        self._expected: dict[int, set[_Name]] = defaultdict(set)

    def check(self) -> list[Problem]:
        """What is wrong with names and folders."""
        problems = list(self._note_names())
        children: dict[int, list[int]] = {}
        for number, node in self._nodes.items():
            if not node.flags & layout.IS_FOLDER:
                continue
            try:
                found = self._check_folder(number, problems)
            except (ImageError, UnicodeDecodeError) as error:
                problems.append(Problem(f"folder {number}", str(error)))
                continue
            children[number] = [child for _name, _space, child in found]
            expected = self._expected.pop(number, set())
            for name, _space, child in sorted(expected - found):
                what = f"the name {name!r} of record {child} is missing from its index"
                problems.append(Problem(f"folder {number}", what))
            for name, _space, child in sorted(found - expected):
                what = f"{name!r} is in its index but is not a name of record {child}"
                problems.append(Problem(f"folder {number}", what))
        for number, names in self._expected.items():
            for name, _space, child in names:
                what = f"its name {name!r} is in record {number}, which is not a folder"
                problems.append(Problem(f"record {child}", what))
        return problems + list(self._check_reach(children))

    def _note_names(self) -> Iterator[Problem]:
        for number, node in self._nodes.items():
            for head, name in node.names:
                parent = head.parent & layout.REFERENCE_MASK
                above = self._nodes.get(parent)
                if above and above.sequence != head.parent >> 48:
                    what = f"the name {name!r} refers to an earlier folder at {parent}"
                    yield Problem(f"record {number}", what)
                self._expected[parent].add((name, head.space, number))
            yield from self._check_spaces(number, [head.space for head, _name in node.names])

    def _check_spaces(self, number: int, spaces: list[int]) -> Iterator[Problem]:
        if spaces.count(layout.DOS) > 1:
            yield Problem(f"record {number}", messages.TWO_SHORT_NAMES)
        elif layout.DOS in spaces and layout.WIN32 not in spaces:
            yield Problem(f"record {number}", messages.SHORT_NAME_WITHOUT_LONG)

    def _check_folder(self, number: int, problems: list[Problem]) -> set[_Name]:
        """The names in a folder's index; adds what is wrong with it."""
        node = load_node(self._volume, number)
        entries, wrong = check_index(self._volume, node, FOLDER_INDEX, self._upcase)
        problems += wrong
        found: set[_Name] = set()
        for entry in entries:
            problems += self._check_entry(number, entry)
            head, name = parse_name(entry.key)
            found.add((name, head.space, entry.number))
        return found

    def _check_entry(self, folder: int, entry: IndexEntry) -> Iterator[Problem]:
        head, name = parse_name(entry.key)
        number = entry.number
        node = self._nodes.get(number)
        where = f"folder {folder}"
        if node is None:
            yield Problem(where, messages.NAME_REFERS_TO_NO_FILE.format(name=name, number=number))
            return
        if node.sequence != entry.reference >> 48:
            yield Problem(
                where, messages.NAME_REFERS_TO_EARLIER_FILE.format(name=name, number=number)
            )
        if head.parent & layout.REFERENCE_MASK != folder:
            yield Problem(where, messages.RECORDS_ANOTHER_PARENT_FOLDER.format(name=name))
        is_folder = bool(node.flags & layout.IS_FOLDER)
        if bool(head.flags & layout.FILE_IS_FOLDER) != is_folder:
            yield Problem(where, messages.WRONG_FILE_TYPE.format(name=name))

    def _check_reach(self, children: dict[int, list[int]]) -> Iterator[Problem]:
        reached, pending = {layout.ROOT}, [layout.ROOT]
        while pending:
            for child in children.get(pending.pop(), []):
                if child not in reached:
                    reached.add(child)
                    pending.append(child)
        for number, node in self._nodes.items():
            if node.names and number not in reached:
                yield Problem(f"record {number}", messages.CANNOT_BE_REACHED_BY_ANY_PATH)
