"""Packages of Python and npm in the places that belong to a whole system, not to one project.

Sources: the Python packaging specifications "Recording installed projects" and "Core metadata";
npm's folders(5) and package.json(5); Debian's policy for Node.js (``/usr/share/nodejs``).
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from email.parser import HeaderParser

from zeroseal.filesystems.tree import Kind as NodeKind
from zeroseal.guests.components import Component, Kind
from zeroseal.guests.guest import Guest

_PYTHON_PLACES = (
    "/usr/lib/python3*/*-packages",
    "/usr/lib64/python3*/*-packages",
    "/usr/local/lib/python3*/*-packages",
    "/usr/local/lib64/python3*/*-packages",
    "/opt/*/lib/python3*/site-packages",
    "/Program Files/Python*/Lib/site-packages",
    "/Python*/Lib/site-packages",
)
_NPM_PLACES = (
    "/usr/lib/node_modules",
    "/usr/local/lib/node_modules",
    "/usr/share/nodejs",
    "/opt/*/lib/node_modules",
    "/Program Files/nodejs/node_modules",
)
_METADATA = re.compile(r"\.(dist-info|egg-info)$")
_LONGEST = 4 << 20
_DEEPEST = 24


def read_python_packages(guest: Guest) -> Iterator[Component]:
    """Yields the Python packages whose records lie in system places."""
    for pattern in _PYTHON_PLACES:
        for place in guest.glob(pattern):
            if not guest.is_folder(place):
                continue
            for name in guest.list_names(place):
                if _METADATA.search(name):
                    yield from _python_package(guest, place, f"{place}/{name}")


def read_npm_packages(guest: Guest) -> Iterator[Component]:
    """Yields the npm packages in system places, those inside others among them."""
    for pattern in _NPM_PLACES:
        for place in guest.glob(pattern):
            if guest.is_folder(place):
                yield from _npm_packages(guest, place, 0)


def _python_package(guest: Guest, place: str, path: str) -> Iterator[Component]:
    files = (path, f"{path}/METADATA", f"{path}/PKG-INFO")
    for file in files:
        if guest.is_file(file) and guest.facts(file).size_bytes <= _LONGEST:
            text = guest.read_file(file, _LONGEST).decode("utf-8", "replace")
            head = HeaderParser().parsestr(text)
            if head["Name"] and head["Version"]:
                maker = str(head["Author"] or "")
                yield Component(
                    Kind.PYTHON, str(head["Name"]), str(head["Version"]), maker=maker, place=place
                )
            return


def _npm_packages(guest: Guest, place: str, depth: int) -> Iterator[Component]:
    if depth > _DEEPEST:
        return
    for name in guest.list_names(place):
        folder = f"{place}/{name}"
        if name.startswith(".") or not guest.is_folder(folder):
            continue
        if guest.facts(folder, follow_last=False).kind is NodeKind.LINK:
            continue  # its target is elsewhere in a system place, or in somebody's project
        if name.startswith("@") and not guest.is_file(f"{folder}/package.json"):
            yield from _npm_packages(guest, folder, depth + 1)
            continue
        yield from _npm_package(guest, folder)
        if guest.is_folder(f"{folder}/node_modules"):
            yield from _npm_packages(guest, f"{folder}/node_modules", depth + 1)


def _npm_package(guest: Guest, folder: str) -> Iterator[Component]:
    path = f"{folder}/package.json"
    if not guest.is_file(path) or guest.facts(path).size_bytes > _LONGEST:
        return
    try:
        value = json.loads(guest.read_file(path, _LONGEST))
    except (ValueError, RecursionError):
        return
    name, version = (value.get(key) if isinstance(value, dict) else None for key in
                     ("name", "version"))  # fmt: skip
    if isinstance(name, str) and isinstance(version, str) and name and version:
        yield Component(Kind.NPM, name, version, place=folder)
