"""What differs between two templates: packages, accounts, services, settings and other files."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.filesystems.tree import Kind, NodeFacts
from zeroseal.guests.components import SYSTEM_KINDS, Contents
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.accounts import Account, read_accounts
from zeroseal.images.detect import opened_image
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.templates.shelf.contents_file import contents_of
from zeroseal.templates.shelf.entry import Template

_SETTINGS = "/etc/"
_MOST_BYTES = 64 << 20  # larger files of one size are told apart by their times


@dataclass(frozen=True)
class Change:
    """One thing that differs; ``before`` or ``after`` is empty where it is on one side only."""

    name: str
    before: str
    after: str

    @property
    def sign(self) -> str:
        """``+`` for new, ``-`` for gone, ``~`` for changed."""
        if not self.before:
            return "+"
        return "~" if self.after else "-"


@dataclass(frozen=True)
class Difference:
    """What differs, by kind, each sorted by name.

    Attributes:
        settings: files below ``/etc``.
        files: all other files, but for those of package lists.
    """

    system: tuple[Change, ...]
    packages: tuple[Change, ...]
    accounts: tuple[Change, ...]
    settings: tuple[Change, ...]
    files: tuple[Change, ...]

    @property
    def is_empty(self) -> bool:
        """Whether nothing differs."""
        return not any((self.system, self.packages, self.accounts, self.settings, self.files))


def compare_templates(before: Template, after: Template, progress: Progress = quiet) -> Difference:
    """Compares the guests of two templates; nothing is written.

    Raises:
        ImageError, RefusedError: one cannot be read.
    """
    old_contents, new_contents = contents_of(before), contents_of(after)
    with (
        opened_image(before.disk, reach=before.reach) as old_image,
        opened_image(after.disk, reach=after.reach) as new_image,
    ):
        progress(Step("comparing", 0, 0))
        old, new = Inspection.read(old_image), Inspection.read(new_image)
        one, two = old.guest, new.guest
        files = _compare_files(one, two)
        system = _changes({"system": old.facts.name}, {"system": new.facts.name})
        accounts = _changes(_accounts(one), _accounts(two))
    return Difference(
        system=system,
        packages=compare_contents(old_contents, new_contents),
        accounts=accounts,
        settings=tuple(item for item in files if item.name.startswith(_SETTINGS)),
        files=tuple(item for item in files if not item.name.startswith(_SETTINGS)),
    )


def compare_contents(before: Contents, after: Contents) -> tuple[Change, ...]:
    """What is installed on one side only, or in another version; several versions side by side.

    What does not belong to the system's packages is named with its kind.
    """
    return _changes(_versions(before), _versions(after))


def _versions(contents: Contents) -> dict[str, str]:
    found: dict[str, list[str]] = {}
    for component in contents.components:
        is_own = component.kind in SYSTEM_KINDS
        name = component.name if is_own else f"{component.name} ({component.kind.value})"
        found.setdefault(name, []).append(component.version or "no version")
    return {name: ", ".join(dict.fromkeys(versions)) for name, versions in found.items()}


def _changes(before: dict[str, str], after: dict[str, str]) -> tuple[Change, ...]:
    return tuple(
        Change(name, before.get(name, ""), after.get(name, ""))
        for name in sorted(before.keys() | after.keys())
        if before.get(name) != after.get(name)
    )


def _accounts(guest: Guest) -> dict[str, str]:
    return {account.name: _describe(account) for account in read_accounts(guest)}


def _describe(account: Account) -> str:
    password = ", password" if account.has_password else ""
    return f"uid {account.uid}, {account.home}, {account.shell}{password}"


def _compare_files(before: Guest, after: Guest) -> tuple[Change, ...]:
    old, new = dict(before.walk("/")), dict(after.walk("/"))
    return tuple(_iter_changed(before, after, old, new))


def _iter_changed(
    before: Guest, after: Guest, old: dict[str, NodeFacts], new: dict[str, NodeFacts]
) -> Iterator[Change]:
    for path in sorted(old.keys() | new.keys()):
        one, two = old.get(path), new.get(path)
        if one and two and _are_same(before, after, path, one, two):
            continue
        facts = one or two
        assert facts is not None  # it is in one of the two
        if facts.kind is Kind.FOLDER and not (one and two):
            beneath = f"{path}/"
            other = new if one is None else old
            if any(name.startswith(beneath) for name in other):
                continue  # it is told by what is in it
        yield Change(path, _told(one), _told(two))


def _are_same(before: Guest, after: Guest, path: str, one: NodeFacts, two: NodeFacts) -> bool:
    kinds = (one.kind, one.mode, one.uid, one.gid)
    if kinds != (two.kind, two.mode, two.uid, two.gid):
        return False
    if one.kind is Kind.LINK:
        return before.read_link(path) == after.read_link(path)
    if one.kind is not Kind.FILE:
        return True
    if one.size_bytes != two.size_bytes:
        return False
    if one.changed_at == two.changed_at or one.size_bytes > _MOST_BYTES:
        return one.changed_at == two.changed_at
    return _digest(before, path) == _digest(after, path)


def _digest(guest: Guest, path: str) -> bytes:
    return hashlib.blake2b(guest.read_file(path, _MOST_BYTES)).digest()


def _told(facts: NodeFacts | None) -> str:
    if facts is None:
        return ""
    size = f", {facts.size_bytes} bytes" if facts.kind is Kind.FILE else ""
    return f"{facts.kind.value}{size}, {facts.mode & 0o7777:04o}, {facts.uid}:{facts.gid}"
