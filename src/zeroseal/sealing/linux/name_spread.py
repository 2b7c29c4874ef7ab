"""Where the old host name and old addresses stand besides the places that are rewritten."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.linux.facts import read_host_name
from zeroseal.guests.linux.static_addresses import find_static_addresses
from zeroseal.sealing.linux.projected import ProjectedLinux
from zeroseal.sealing.short_names import word_pattern
from zeroseal.sentences import some_of
from zeroseal.traces.linux.host_name import NEUTRAL_HOST_NAME

_MOST_BYTES = 256 << 10
_SHORTEST = 4
_NAMED_PLACES = ("/etc", "/var/lib", "/var/spool", "/var/mail", "/srv")
_NOT_SETTINGS = ("/etc/ssl/certs/", "/etc/alternatives/", "/etc/ssh/ssh_host_")


def describe_spread(projected: ProjectedLinux, handled: set[str]) -> Iterator[str]:
    """Sentences about files below /etc, and names of files, that name the machine and stay.

    Args:
        projected: what clones will find.
        handled: paths that the plan rewrites.
    """
    name = read_host_name(projected.guest).partition(".")[0]
    words = [name] if len(name) >= _SHORTEST and name != NEUTRAL_HOST_NAME else []
    if words and (named := sorted(set(_iter_named_after(projected, name)))):
        yield (
            f"The names of {some_of(named)} contain the host name, and the search at "
            "the end of a seal will find it there: let the services rename or drop "
            "them, or accept it in the house rules (allow.residue)."
        )
    static = dict(find_static_addresses(projected.guest))
    words += sorted({item.partition("/")[0] for found in static.values() for item in found})
    if not words:
        return
    pattern = re.compile(rb"(?i)(?<![\w.-])(" + b"|".join(map(_escaped, words)) + rb")(?![\w-])")
    places: dict[str, list[str]] = {}
    for path, content in _iter_texts(projected):
        if path in handled or path in static:
            continue
        for word in {match.decode().lower() for match in pattern.findall(content)}:
            places.setdefault(word, []).append(path)
    for word, paths in places.items():
        yield (
            f"{word} is still in {some_of(sorted(paths))}, and the search at the "
            "end of a seal will find it there: change it, or accept it in the house "
            "rules (allow.residue)."
        )


def _iter_named_after(projected: ProjectedLinux, name: str) -> Iterator[str]:
    """Yields files and folders that are named after the host, and stay."""
    pattern = word_pattern([name])
    for top in _NAMED_PLACES:
        for path, _facts in projected.guest.walk(top) if projected.guest.is_folder(top) else ():
            own = path.rpartition("/")[2].encode("utf-8", "surrogateescape")
            if pattern.search(own) and path not in projected.gone:
                yield path


def _escaped(word: str) -> bytes:
    return re.escape(word.encode())


def _iter_texts(projected: ProjectedLinux) -> Iterator[tuple[str, bytes]]:
    """Yields (path, content) of the text files below /etc that stay."""
    guest = projected.guest
    for path, facts in guest.walk("/etc") if guest.is_folder("/etc") else ():
        is_text_size = facts.kind is Kind.FILE and 0 < facts.size_bytes <= _MOST_BYTES
        if not is_text_size or path.startswith(_NOT_SETTINGS) or path in projected.gone:
            continue
        content = guest.read_file(path)
        if b"\0" not in content[:1024]:
            yield path, content
