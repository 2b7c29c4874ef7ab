"""Swap files: named by fstab, recognised by their header."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.blocks.store import MemoryStore
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.fstab import parse_fstab
from zeroseal.traces.changes import PathChange, Workbench
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.linux.context import LinuxContext
from zeroseal.volumes.swap import find_swap

HEADER_BYTES = 64 << 10


@dataclass(frozen=True)
class BlankSwapFile(PathChange):
    """Zeroes a swap file behind its header; its blocks stay where they are."""

    def apply(self, bench: Workbench) -> None:  # noqa: D102 - as in Change
        bench.guest.zero_content(self.path, _header_bytes(bench.guest, self.path))


class SwapFiles(Finder[LinuxContext]):
    """Finds the swap files that hold anything behind their header."""

    name = "swap-files"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        guest = context.guest
        for path in iter_swap_files(guest):
            found = guest.find(path)
            if found and _holds_data(guest, found.path):
                yield BlankSwapFile(found.path), "header, UUID and label stay"


def iter_swap_files(guest: Guest) -> Iterator[str]:
    """Yields the paths that fstab names as swap and that are files with a swap header."""
    for entry in parse_fstab(guest.read_text("/etc/fstab")):
        if entry.kind == "swap" and entry.spec.startswith("/") and guest.is_file(entry.spec):
            header = guest.read_file(entry.spec, HEADER_BYTES)
            if find_swap(MemoryStore(header)) is not None:
                yield entry.spec


def _header_bytes(guest: Guest, path: str) -> int:
    """How long a swap file's header is: one page, whatever the page's size."""
    area = find_swap(MemoryStore(guest.read_file(path, HEADER_BYTES)))
    assert area is not None  # it was recognised when the plan was made
    return area.page_bytes


def _holds_data(guest: Guest, path: str) -> bool:
    return not guest.is_zero_behind(path, _header_bytes(guest, path))
