"""Finding what an initramfs carries of the machine it was made on."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.initramfs import (
    BOOT_ARCHIVES,
    BOOT_IMAGES,
    find_entries,
    find_initrd_of_boot_image,
    is_initramfs,
    rewrite_initramfs,
)
from zeroseal.traces.changes import PathChange, Workbench
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.linux.context import LinuxContext
from zeroseal.traces.model import Treatment

_LONGEST_FILE = 512 << 20
_DROPPED = re.compile(
    r"^(etc/ssh/ssh_host_.*key(\.pub)?|etc/(dropbear|dropbear-initramfs|tinyssh)/.*(key|ed25519).*"
    r"|root[^/]*/\.ssh/authorized_keys2?|etc/dropbear[^/]*/authorized_keys"
    r"|var/lib/systemd/(random-seed|credential\.secret)|etc/hostid|etc/(iscsi/)?initiatorname\.iscsi"
    r"|etc/nvme/host(nqn|id)|etc/krb5\.keytab|etc/wireguard/.*)$"
)
_EMPTIED = re.compile(r"^etc/(machine-id|hostname)$")
_IDENTITY = re.compile(f"{_DROPPED.pattern}|{_EMPTIED.pattern}")
_NEUTRAL = (b"", b"localhost", b"uninitialized")


@dataclass(frozen=True)
class RewriteInitramfs(PathChange):
    """Takes entries out of an initramfs, and the content out of others.

    ``dropped`` and ``emptied`` are paths inside the archive.
    """

    dropped: tuple[str, ...]
    emptied: tuple[str, ...]
    treatment = Treatment.REWRITE

    def apply(self, bench: Workbench) -> None:  # noqa: D102 - as in Change
        raw = bench.guest.read_file(self.path, _LONGEST_FILE)
        made = rewrite_initramfs(raw, self.dropped.__contains__, self.emptied.__contains__)
        bench.guest.replace_content(self.path, made)


class Initramfs(Finder[LinuxContext]):
    """Finds the initramfs files with keys, IDs or names of the machine inside."""

    name = "initramfs"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        for path, raw in _iter_files(context.guest, BOOT_ARCHIVES):
            if is_initramfs(raw):
                dropped, emptied = _identity_in(raw)
                if dropped or emptied:
                    yield (
                        RewriteInitramfs(path, dropped, emptied),
                        f"inside it: {', '.join([*dropped, *emptied][:6])}",
                    )


def iter_sealed_boot_images(guest: Guest) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Yields (path, entries) of signed boot images with such an initramfs inside.

    They cannot be changed without breaking their signature.
    """
    for path, raw in _iter_files(guest, BOOT_IMAGES):
        inside = find_initrd_of_boot_image(raw)
        if inside and is_initramfs(inside):
            dropped, emptied = _identity_in(inside)
            if dropped or emptied:
                yield path, (*dropped, *emptied)


def _iter_files(guest: Guest, patterns: tuple[str, ...]) -> Iterator[tuple[str, bytes]]:
    seen = set()
    for pattern in patterns:
        for path in guest.glob(pattern):
            facts = guest.facts(path, follow_last=False)
            if facts.kind is Kind.FILE and path not in seen and facts.size_bytes <= _LONGEST_FILE:
                seen.add(path)
                yield path, guest.read_file(path, _LONGEST_FILE)


def _identity_in(raw: bytes) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """(entries to drop, entries to empty); none of a file that cannot be taken apart."""
    try:
        entries = find_entries(raw, _IDENTITY.match)
    except ValueError:
        return (), ()
    dropped: dict[str, None] = {}
    emptied: dict[str, None] = {}
    for entry in entries:
        if _DROPPED.match(entry.path):
            dropped[entry.path] = None
        elif entry.content.strip() not in _NEUTRAL:
            emptied[entry.path] = None
    return tuple(dropped), tuple(emptied)
