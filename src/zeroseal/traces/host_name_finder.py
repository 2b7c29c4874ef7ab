"""Finding the host name where it is written down."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.guests.facts import read_host_name
from zeroseal.traces.changes import Change, DropHostNames, ReplaceContent
from zeroseal.traces.context import FindContext
from zeroseal.traces.text_edits import drop_host_names

NEUTRAL_HOST_NAME = "localhost"


def find_host_name(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the files that hold the host name, unless it is neutral already."""
    guest = context.guest
    name = read_host_name(guest)
    if not name or name == NEUTRAL_HOST_NAME:
        return
    for path in ("/etc/hostname", "/etc/HOSTNAME", "/etc/mailname"):
        if name.partition(".")[0] in guest.read_text(path):
            yield ReplaceContent(path, NEUTRAL_HOST_NAME + "\n"), f"the name {name}"
    change = DropHostNames("/etc/hosts", (name,))
    text = guest.read_text(change.path)
    if drop_host_names(text, change) != text:
        yield change, f"the name {name}"
