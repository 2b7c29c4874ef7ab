"""Settings of a site or a person: files, then environment variables, then options over all.

A file is ``zeroseal.toml`` in the current folder or the nearest folder above that has one; the
person's own is ``$XDG_CONFIG_HOME/zeroseal/config.toml``. Paths in a file start at its folder. A
file that another user could have put there is refused: settings decide what a seal accepts.
"""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import RefusedError, UsageError
from zeroseal.machines import HOST_NAMES
from zeroseal.messages import cli as messages

FILE_NAME = "zeroseal.toml"
PREFIX = "ZEROSEAL_"
_MOST_BYTES = 1 << 20
_BUILT_IN: dict[str, Path | str | list[Path]] = {
    "yard": Path("yard"),
    "shelf": Path("shelf"),
    "rules": [],
    "trusted": [],
    "host": "",
}
TEXTS = {
    "yard": "the folder of machines",
    "shelf": "the folder of templates",
    "rules": "files of house rules, a later one over those before it",
    "trusted": "public keys whose signatures on seal records count",
    "host": "what runs machines: qemu, libvirt or simulated",
}


@dataclass(frozen=True)
class Setting:
    """One setting that holds.

    Attributes:
        value: a path, a list of paths, or the name of a host; empty for the command's own choice.
        origin: the file or variable that it comes from; empty where it is built in.
    """

    name: str
    value: Path | str | list[Path]
    origin: str


def read_settings(environ: Mapping[str, str], folder: Path) -> dict[str, Setting]:
    """The settings that hold in a folder.

    Raises:
        UsageError: a file or a variable is wrong.
        RefusedError: a file belongs to another user.
    """
    found = {name: Setting(name, value, "") for name, value in _BUILT_IN.items()}
    for path in _files(environ, folder):
        found |= {item.name: item for item in _read_file(path)}
    return found | {item.name: item for item in _of_environment(environ)}


def apply_settings(args: argparse.Namespace, settings: Mapping[str, Setting]) -> None:
    """Gives the arguments that no option gave what the settings say."""
    for name, setting in settings.items():
        if hasattr(args, name) and not getattr(args, name):
            setattr(args, name, setting.value)


def _files(environ: Mapping[str, str], folder: Path) -> Iterator[Path]:
    """The files that are there; a later one goes over those before it."""
    home = environ.get("XDG_CONFIG_HOME") or (
        str(Path(environ["HOME"]) / ".config") if environ.get("HOME") else ""
    )
    own = Path(home) / "zeroseal" / "config.toml"
    if home and own.is_file():
        yield own
    for above in (folder, *folder.parents):
        path = above / FILE_NAME
        if path.is_file():
            _check_owner(path)
            yield path
            return


def _check_owner(path: Path) -> None:
    if not hasattr(os, "getuid"):
        return
    owner = path.stat().st_uid
    if owner not in (0, os.getuid()):
        raise RefusedError(messages.SETTINGS_OF_ANOTHER_USER.format(path=path), path=str(path))


def _read_file(path: Path) -> Iterator[Setting]:
    from zeroseal.cli.settings_file import SettingsFile
    from zeroseal.documents import WrongValueError, convert, parse_toml, read_text

    text = read_text(path, "the settings", _MOST_BYTES)
    try:
        table = convert(parse_toml(text, str(path)), SettingsFile)
    except WrongValueError as error:
        where = f"{path}: {error.key}" if error.key else str(path)
        raise UsageError(messages.SETTING_WRONG.format(where=where, reason=error.reason)) from None
    for name in _BUILT_IN:
        value = getattr(table, name)
        if value:
            yield Setting(name, _checked(name, value, path.parent, str(path)), str(path))


def _of_environment(environ: Mapping[str, str]) -> Iterator[Setting]:
    for name, built_in in _BUILT_IN.items():
        variable = PREFIX + name.upper()
        text = environ.get(variable, "")
        if text:
            value = text.split(os.pathsep) if isinstance(built_in, list) else text
            yield Setting(name, _checked(name, value, Path(), variable), variable)


def _checked(
    name: str, value: str | list[str], folder: Path, where: str
) -> Path | str | list[Path]:
    if isinstance(value, list):
        return [folder / Path(item).expanduser() for item in value]
    if name == "host":
        if value not in HOST_NAMES:
            raise UsageError(
                messages.SETTING_WRONG.format(
                    where=f"{where}: host", reason=f"it must be one of {', '.join(HOST_NAMES)}"
                )
            )
        return value
    return folder / Path(value).expanduser()
