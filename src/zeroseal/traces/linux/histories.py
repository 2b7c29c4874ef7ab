"""Finding version histories over settings and homes: they give back what a seal takes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from zeroseal.guests.guest import Guest
from zeroseal.traces.changes import RemovePath
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.linux.context import LinuxContext

_NAMES = (".git", ".hg", ".bzr", "_darcs", ".svn", "CVS", "RCS")
_SETTINGS = "/etc"
_LIST_OF_MODES = "/etc/.etckeeper"  # etckeeper(8): owners and modes, by name; written again


def find_histories(guest: Guest, homes: Iterable[str]) -> list[str]:
    """The folders of version histories over /etc and over homes."""
    folders = dict.fromkeys((_SETTINGS, *homes))
    places = [f"{folder.rstrip('/')}/{name}" for folder in folders for name in _NAMES]
    return [place for place in places if guest.is_folder(place)]


def histories_of(context: LinuxContext) -> list[str]:
    """Those of the guest, with the homes that stay."""
    return find_histories(context.guest, [account.home for account in context.iter_homes()])


class VersionHistories(Finder[LinuxContext]):
    """Finds the histories, where they are to begin again."""

    name = "version-history"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        if not context.restarts_history:
            return
        found = histories_of(context)
        for path in found:
            yield (
                RemovePath(path),
                "starts again on a clone's first boot where its tool is installed",
            )
        if found and context.guest.is_file(_LIST_OF_MODES):
            yield RemovePath(_LIST_OF_MODES), ""
