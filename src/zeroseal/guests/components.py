"""What is installed in a guest: the lines of a bill of materials.

Packages of the system, programs and updates of Windows, packages of languages in system places,
kernels. What it says is what the guest's own records say; nobody's programs are looked into.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any

from zeroseal.documents import WrongValueError, convert
from zeroseal.sentences import clean


class Kind(StrEnum):
    """Whose record a component stands in."""

    DEB = "deb"
    RPM = "rpm"
    APK = "apk"
    PACMAN = "pacman"
    PYTHON = "python"
    NPM = "npm"
    PROGRAM = "program"
    UPDATE = "update"
    KERNEL = "kernel"


SYSTEM_KINDS = (Kind.DEB, Kind.RPM, Kind.APK, Kind.PACMAN)
"""Those of the system's own package manager."""

TITLES = {
    Kind.DEB: "Debian packages",
    Kind.RPM: "RPM packages",
    Kind.APK: "apk packages",
    Kind.PACMAN: "pacman packages",
    Kind.PYTHON: "Python packages",
    Kind.NPM: "npm packages",
    Kind.PROGRAM: "programs",
    Kind.UPDATE: "Windows updates",
    Kind.KERNEL: "kernels",
}


@dataclass(frozen=True, order=True)
class Component:
    """One thing that is installed.

    Attributes:
        kind: whose record it stands in.
        architecture: as that record names it; empty where it names none.
        source: what it was built from, where that has another name.
        maker: who says to have made it.
        place: the folder in the guest, of language packages, which may be there several times.
    """

    kind: Kind
    name: str
    version: str = ""
    architecture: str = ""
    source: str = ""
    maker: str = ""
    place: str = ""


@dataclass(frozen=True)
class Contents:
    """All that is installed, sorted, without doubles.

    Attributes:
        system: the long name of the guest's system.
        os_id: its short name, as in os-release(5); ``windows`` for a Windows.
        version: of the system.
        changed_at: when a package was last installed, updated or removed, as far as the records
            say; seconds since 1970, 0 where they do not.
    """

    system: str
    os_id: str
    version: str
    changed_at: int
    components: tuple[Component, ...]

    @property
    def counts(self) -> dict[Kind, int]:
        """How many of each kind there are, in the order of kinds."""
        kinds = [component.kind for component in self.components]
        return {kind: kinds.count(kind) for kind in Kind if kind in kinds}

    @property
    def digest(self) -> str:
        """SHA-256 of its canonical text, hexadecimal; what a seal record names."""
        return hashlib.sha256(build_contents(self)).hexdigest()


_SCHEMA = "zeroseal.contents-list"
_FORM = 1
_MOST_COMPONENTS = 200_000
_LONGEST_TEXT = 1024


def collect(components: Iterable[Component]) -> tuple[Component, ...]:
    """Components in the order of a list of contents.

    Their texts are the guest's: control characters, marks of direction and bytes that are no text
    become question marks, and what is longer than any name is cut.
    """
    return tuple(sorted({_harmless(component) for component in components}))


def _harmless(component: Component) -> Component:
    texts = {key: value for key, value in vars(component).items() if key != "kind"}
    changed: dict[str, Any] = {key: clean(value)[:_LONGEST_TEXT] for key, value in texts.items()}
    return component if changed == texts else replace(component, **changed)


def build_contents(contents: Contents) -> bytes:
    """The canonical text: JSON, the same bytes for the same contents."""
    return json.dumps(contents_to_json(contents), indent=1, ensure_ascii=True).encode() + b"\n"


def contents_to_json(contents: Contents) -> dict[str, Any]:
    """Contents as the file beside a template and ``--json`` have them."""
    return {
        "schema": _SCHEMA,
        "version": _FORM,
        "system": contents.system,
        "systemId": contents.os_id,
        "systemVersion": contents.version,
        "changedAt": contents.changed_at,
        "components": [
            {key: value for key, value in vars(component).items() if value}
            for component in contents.components
        ],
    }


def parse_contents(raw: bytes) -> Contents:
    """Reads what ``build_contents`` wrote.

    Raises:
        ValueError: it is something else.
    """
    value = json.loads(raw)
    if not isinstance(value, dict) or (value.get("schema"), value.get("version")) != (
        _SCHEMA,
        _FORM,
    ):
        raise ValueError("schema")
    listed = value.get("components")
    if not isinstance(listed, list) or len(listed) > _MOST_COMPONENTS:
        raise ValueError("components")
    try:
        return convert(
            {
                "system": value.get("system"),
                "os_id": value.get("systemId"),
                "version": value.get("systemVersion"),
                "changed_at": value.get("changedAt"),
                "components": listed,
            },
            Contents,
        )
    except WrongValueError as error:
        raise ValueError(error.key or "contents") from error
