"""What removed accounts leave behind: their files elsewhere, and their names in access lists."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.blocks.sizes import size_text
from zeroseal.guests.guest import Mount
from zeroseal.guests.linux.accounts import Account
from zeroseal.sealing.linux.projected import ProjectedLinux
from zeroseal.sentences import counted, some_of


@dataclass(frozen=True)
class LeftBehind:
    """Files that name a removed account by its number.

    Attributes:
        paths: in the order of the volumes.
        size_bytes: of all of them.
    """

    account: Account
    paths: tuple[str, ...]
    size_bytes: int


def find_files(projected: ProjectedLinux) -> list[LeftBehind]:
    """Files of removed accounts that stay, because they lie outside of their homes."""
    return _find(projected, in_acls=False)


def find_acl_entries(projected: ProjectedLinux) -> list[LeftBehind]:
    """Files that stay and whose access lists name removed accounts."""
    return _find(projected, in_acls=True)


def describe(projected: ProjectedLinux) -> Iterator[str]:
    """Sentences about what removed accounts leave behind."""
    for item in find_files(projected):
        one = len(item.paths) == 1
        yield (
            f"{counted(len(item.paths), 'file')} ({size_text(item.size_bytes)}) of "
            f"{item.account.name} outside its home folder stay{('s' if one else '')}, "
            f"and the next account with the user ID {item.account.uid} will own "
            f"{('it' if one else 'them')}: {some_of(list(item.paths))}."
        )
    for item in find_acl_entries(projected):
        yield (
            f"Access control lists of {some_of(list(item.paths))} refer to "
            f"{item.account.name} by its user ID {item.account.uid}: the next "
            "account with that ID will have its rights."
        )


def _find(projected: ProjectedLinux, in_acls: bool) -> list[LeftBehind]:
    if projected.context.accounts_stay:
        return []
    to_remove = {account.uid: account for account in projected.context.accounts_to_remove}
    found: dict[int, list[tuple[str, int]]] = {uid: [] for uid in to_remove}
    for mount in projected.guest.mounts:
        nodes = mount.driver.find_owned(mount.tree, to_remove, in_acls) if to_remove else {}
        for uid, path, size in _iter_named(projected, mount, nodes) if nodes else ():
            found[uid].append((path, size))
    return [
        LeftBehind(
            to_remove[uid], tuple(path for path, _size in files), sum(size for _path, size in files)
        )
        for uid, files in found.items()
        if files
    ]


def _iter_named(
    projected: ProjectedLinux, mount: Mount, nodes: dict[int, int]
) -> Iterator[tuple[int, str, int]]:
    """Yields (uid, path, bytes) of those nodes that stay, walking only what is not removed."""
    seen: set[int] = set()
    pending = [(mount.path.rstrip("/"), mount.tree.root)]
    while pending and len(seen) < len(nodes):
        folder, node = pending.pop()
        for entry in mount.tree.list_folder(node):
            path = f"{folder}/{entry.name.decode('utf-8', 'surrogateescape')}"
            if entry.node in nodes and entry.node not in seen:
                seen.add(entry.node)
                if path not in projected.gone:
                    yield nodes[entry.node], path, mount.tree.get_facts(entry.node).size_bytes
            if entry.kind.value == "folder":
                pending.append((path, entry.node))
