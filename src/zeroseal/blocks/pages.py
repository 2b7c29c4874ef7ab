"""Pages that were written but belong to no disk yet: some in memory, the rest in a spill file.

The spill file has no name where the system allows that, is readable by its owner only, and is
overwritten with zeros before it is given up: it can hold what is being removed.
"""

from __future__ import annotations

import contextlib
import os
import tempfile
from pathlib import Path
from threading import Lock
from typing import IO

from zeroseal.errors import environment_error

PAGE_BYTES = 4096
_HELD_PAGES = 16384  # 64 MiB


class Pages:
    """Written pages by number.

    Args:
        spill_folder: where the spill file comes to lie; the system's own choice when None.
        held_pages: how many pages may be held in memory.
    """

    def __init__(self, spill_folder: Path | None = None, held_pages: int = _HELD_PAGES) -> None:
        self._held: dict[int, bytearray] = {}
        self._slots: dict[int, int] = {}  # page number to its place in the spill file
        self._free_slots: list[int] = []
        self._slot_count = 0
        self._spill: IO[bytes] | None = None
        self._folder = spill_folder
        self._most_held = held_pages
        self._lock = Lock()

    def __len__(self) -> int:
        return len(self._held) + len(self._slots)

    def __contains__(self, number: int) -> bool:
        return number in self._held or number in self._slots

    @property
    def spilled(self) -> int:
        """How many pages lie in the spill file."""
        return len(self._slots)

    def read(self, number: int) -> bytes | bytearray:
        """The content of a page that is there."""
        page = self._held.get(number)
        return page if page is not None else self._read_slot(self._slots[number])

    def get_for_change(self, number: int) -> bytearray | None:
        """A page that may be changed in place, until the next call; None where there is none."""
        page = self._held.get(number)
        if page is None and number in self._slots:
            slot = self._slots.pop(number)
            page = bytearray(self._read_slot(slot))
            self._free_slots.append(slot)
            self.put(number, page)
        return page

    def put(self, number: int, page: bytearray) -> None:
        """Adds a page that is not there yet."""
        if len(self._held) >= self._most_held:
            self._spill_oldest(max(1, self._most_held // 4))
        self._held[number] = page

    def numbers_within(self, first: int, end: int) -> list[int]:
        """The numbers of all pages in ``[first, end)``, in order."""
        if end - first < len(self):
            return [number for number in range(first, end) if number in self]
        return sorted(
            number for kind in (self._held, self._slots) for number in kind if first <= number < end
        )

    def drop_within(self, first: int, end: int) -> None:
        """Forgets the pages in ``[first, end)``."""
        for number in self.numbers_within(first, end):
            if self._held.pop(number, None) is None:
                self._free_slots.append(self._slots.pop(number))

    def close(self) -> None:
        """Overwrites and gives up the spill file; the pages are gone."""
        self._held.clear()
        self._slots.clear()
        if self._spill is None:
            return
        with contextlib.suppress(OSError), self._spill as spill:  # as far as the host lets us
            for slot in range(self._slot_count):
                self._write_slot(slot, bytes(PAGE_BYTES))
            os.fsync(spill.fileno())
        self._spill = None

    def _spill_oldest(self, count: int) -> None:
        try:
            if self._spill is None:
                self._spill = tempfile.TemporaryFile(dir=self._folder, buffering=0)  # noqa: SIM115 - closed by close
            for number in list(self._held)[:count]:
                slot = self._free_slots.pop() if self._free_slots else self._slot_count
                self._slot_count = max(self._slot_count, slot + 1)
                self._write_slot(slot, self._held[number])
                self._slots[number] = slot
                del self._held[number]
        except OSError as error:
            folder = self._folder or Path(tempfile.gettempdir())
            raise environment_error(error, folder, "writing a temporary file in") from error

    def _write_slot(self, slot: int, content: bytes | bytearray) -> None:
        assert self._spill is not None  # a slot is only given out once it is there
        with self._lock:
            self._spill.seek(slot * PAGE_BYTES)
            view = memoryview(content)
            while view:
                view = view[self._spill.write(view) :]

    def _read_slot(self, slot: int) -> bytes:
        assert self._spill is not None
        with self._lock:
            self._spill.seek(slot * PAGE_BYTES)
            return self._spill.read(PAGE_BYTES)
