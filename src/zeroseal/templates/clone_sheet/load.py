"""Reads clone sheets, TOML or CSV, into wishes: one a clone, with what files and secrets say."""

from __future__ import annotations

import csv
import io
import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import bcrypt

from zeroseal.blocks.sizes import parse_size
from zeroseal.documents import KeyPath, WrongValueError, convert, keys_of
from zeroseal.errors import MissingError, UsageError
from zeroseal.guests.linux.account_edits import NO_PASSWORD
from zeroseal.machines.seed import SeedAccount, SeedFile
from zeroseal.machines.sheet.lines import find_lines, line_of
from zeroseal.machines.sheet.secret_values import Secrets
from zeroseal.messages import templates as messages
from zeroseal.templates.clone_sheet.model import (
    CloneRow,
    CloneSettings,
    CloneSheet,
    CloneUser,
    check_public_key,
)

_LISTS = ("addresses", "address_ranges", "gateways", "name_servers", "search", "packages")
_NUMBERS = ("vlan", "cpus", "memory_mib", "count")
_SWITCHES = ("linked", "into_disk", "new_volume_ids", "tpm")
_YES, _NO = ("yes", "true", "1"), ("no", "false", "0", "")
_MOST_BYTES = 16 << 20


@dataclass(frozen=True)
class CloneWish:
    """What one clone is to be.

    Attributes:
        row: the sheet's words; its ``name`` is empty where ``numbers`` is to give one.
        accounts: with their keys read and passwords hashed.
        root_password_hash: empty to leave root alone.
        files: with their contents, and ``script`` the first-boot script.
        disk_bytes: final size of the disk; 0 for the template's.
    """

    row: CloneRow
    accounts: tuple[SeedAccount, ...] = ()
    root_password_hash: str = ""
    files: tuple[SeedFile, ...] = ()
    script: bytes = b""
    disk_bytes: int = 0

    @property
    def host_name(self) -> str:
        """The host name: the machine's name unless the sheet says otherwise."""
        return self.row.host_name or self.row.name


@dataclass(frozen=True)
class LoadedCloneSheet:
    """A sheet: the template that it names (empty for none), and a wish for every clone."""

    path: Path
    template: str
    wishes: tuple[CloneWish, ...]


def load_clone_sheet(
    path: Path, secrets: Secrets, common: dict[str, Any] | None = None
) -> LoadedCloneSheet:
    """Reads a sheet; a name that ends with ``.csv`` is a table, all else is TOML.

    Args:
        path: the sheet.
        secrets: what it refers to.
        common: what a command line says of all clones, where their rows do not say otherwise.

    Raises:
        MissingError: it, or a file that it names, is not there.
        UsageError: it cannot be understood; names file, line and key.
    """
    text = _read(path, "clone sheet", path).decode("utf-8-sig", "replace")
    is_table = path.suffix.lower() == ".csv"
    document, line_for = _parse_csv(path, text) if is_table else _parse_toml(path, text)
    for row in document.get("clone", []) if common else []:
        for key, value in (common or {}).items():
            if isinstance(row, dict):
                row.setdefault(key, value)
    try:
        sheet = convert(secrets.fill(document, ""), CloneSheet)
    except WrongValueError as error:
        key = error.key or "the whole sheet"
        message = f"{path}{line_for(error.path)}: {key} is wrong: {_reason(error)}"
        raise UsageError(secrets.redact(message), file=str(path), key=key) from None
    wishes = [wish_of(row, path.parent, path) for row in sheet.clone]
    _check_different(wishes, path)
    return LoadedCloneSheet(path, sheet.template, tuple(wishes))


def row_of(settings: dict[str, Any]) -> CloneRow:
    """A row from the words of a command line.

    Raises:
        UsageError: one is wrong.
    """
    try:
        return convert(settings, CloneRow)
    except WrongValueError as error:
        key = str(error.path[0]) if error.path else "clone"
        if key == "name":
            raise UsageError(
                messages.NOT_VALID_HOST_NAME.format(settings=settings["name"])
            ) from None
        if error.path[-1:] == ("name",):
            value: Any = settings
            for part in error.path:
                value = value[part]
            raise UsageError(messages.NOT_VALID_ACCOUNT_NAME.format(value=value)) from None
        where = f"{key.replace('_', ' ')}: " if error.path else ""
        raise UsageError(f"{where}{_reason(error)}") from None


def wish_of(row: CloneRow, folder: Path, sheet: Path | None = None) -> CloneWish:
    """What a row asks for, with the files that it names.

    Args:
        row: of a sheet, or of a command line.
        folder: where its files are looked for.
        sheet: the sheet that it stands in, for messages.

    Raises:
        MissingError: one of its files is not there.
        UsageError: a key file holds no public key.
    """
    where = sheet or folder
    files = tuple(
        SeedFile(item.target, _read(folder / item.source, "file", where), int(item.mode, 8))
        for item in row.files
    )
    return CloneWish(
        row=row,
        accounts=tuple(_account(user, folder, where) for user in row.users),
        root_password_hash=_hash(row.root_password) if row.root_password else "",
        files=files,
        script=_read(folder / row.first_boot, "script", where) if row.first_boot else b"",
        disk_bytes=parse_size(row.disk_size) if row.disk_size else 0,
    )


def _account(user: CloneUser, folder: Path, where: Path) -> SeedAccount:
    keys = list(user.public_keys)
    for name in user.public_key_files:
        text = _read(folder / name, "public key", where).decode("utf-8", "replace")
        lines = [line.strip() for line in text.splitlines()]
        keys += [line for line in lines if line and not line.startswith("#")]
    for key in keys:
        try:
            check_public_key(key)
        except ValueError as error:
            raise UsageError(messages.ACCOUNT_INVALID.format(name=user.name, error=error)) from None
    password = _hash(user.password) if user.password else user.password_hash or NO_PASSWORD
    return SeedAccount(user.name, user.full_name, tuple(keys), password, user.admin)


@cache
def _hash(password: str) -> str:
    """Slow on purpose, so one password of many clones is hashed once."""
    return bcrypt.hashpw(password.encode(), bcrypt.gensalt(10)).decode()


def _check_different(wishes: list[CloneWish], path: Path) -> None:
    """What only one machine can have stands in one row only."""
    seen: dict[tuple[str, str], str] = {}
    for wish in wishes:
        row = wish.row
        own = [("name", row.name), ("MAC", row.mac), ("UUID", row.uuid)]
        own.append(("host name", f"{wish.host_name}.{row.domain}" if wish.host_name else ""))
        own += [("address", item.partition("/")[0]) for item in row.addresses]
        for what, value in own:
            if value and (what, value) in seen:
                raise UsageError(
                    messages.VALUE_GIVEN_TWICE.format(
                        path=path, what=what, value=value, seen=seen[what, value], name=row.name
                    )
                )
            seen[what, value] = row.name


def _parse_toml(path: Path, text: str) -> tuple[dict[str, Any], Callable[[KeyPath], str]]:
    try:
        document = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise UsageError(
            messages.CLONE_SHEET_NOT_VALID_TOML.format(path=path, error=error)
        ) from error
    lines = find_lines(text)

    def line_for(place: KeyPath) -> str:
        known, line = line_of(lines, place)
        if known <= 2 and len(place) > 2:  # the row leaves it to what all have in common
            _known, line = max((known, line), line_of(lines, ("every", *place[2:])))
        return f", line {line}" if line else ""

    every = document.pop("every", {})
    rows = document.get("clone")
    if not isinstance(every, dict) or not isinstance(rows, list):
        raise UsageError(messages.SHEET_TABLES_REQUIRED.format(path=path))
    unknown = every.keys() - set(keys_of(CloneSettings))
    if unknown:
        raise UsageError(
            messages.KEY_OF_EVERY_NOT_KNOWN.format(
                path=path, line_for=line_for(("every", min(unknown))), unknown=min(unknown)
            )
        )
    document["clone"] = [every | row if isinstance(row, dict) else row for row in rows]
    return document, line_for


def _parse_csv(path: Path, text: str) -> tuple[dict[str, Any], Callable[[KeyPath], str]]:
    """A table with a row a machine; its first line names the columns."""
    try:
        rows = [row for row in csv.reader(io.StringIO(text), strict=True) if any(row)]
    except csv.Error as error:
        raise UsageError(
            messages.CLONE_SHEET_NOT_VALID_CSV.format(path=path, error=error)
        ) from error
    if not rows:
        raise UsageError(messages.CLONE_SHEET_EMPTY.format(path=path))
    columns = [name.strip().lower().replace(" ", "_") for name in rows[0]]
    found = []
    for number, values in enumerate(rows[1:], 2):
        if len(values) > len(columns):
            raise UsageError(messages.TOO_MANY_VALUES_IN_ROW.format(path=path, number=number))
        cells = {key: cell.strip() for key, cell in zip(columns, values, strict=False)}
        found.append(_row_of_cells(cells, f"{path}, row {number}"))

    def line_for(place: KeyPath) -> str:
        return f", row {int(place[1]) + 2}" if len(place) > 1 else ""

    return {"version": 1, "clone": found}, line_for


def _row_of_cells(cells: dict[str, str], where: str) -> dict[str, Any]:
    row: dict[str, Any] = {}
    for key, cell in cells.items():
        if not cell and key not in _SWITCHES:
            continue
        if key in _LISTS:
            row[key] = cell.replace(",", " ").split()
        elif key in _NUMBERS:
            if not cell.isascii() or not cell.isdigit():
                raise UsageError(messages.NOT_A_NUMBER.format(where=where, key=key, cell=cell))
            row[key] = int(cell)
        elif key in _SWITCHES:
            if cell.lower() not in _YES + _NO:
                raise UsageError(messages.NOT_YES_OR_NO.format(where=where, key=key))
            row[key] = cell.lower() in _YES
        elif key not in ("user", "public_key", "public_key_file", "password_hash"):
            row[key] = cell
    if cells.get("user"):
        user: dict[str, Any] = {"name": cells["user"]}
        user["public_keys"] = [cells["public_key"]] if cells.get("public_key") else []
        user["public_key_files"] = cells.get("public_key_file", "").split()
        row["users"] = [user | {"password_hash": cells.get("password_hash", "")}]
    return row


def _reason(error: WrongValueError) -> str:
    hint = "; see docs/clone-sheet.md" if error.is_form else ""
    return f"{error.reason}{hint}"


def _read(path: Path, what: str, where: Path) -> bytes:
    try:
        with path.open("rb") as file:
            content = file.read(_MOST_BYTES + 1)
    except OSError as error:
        reason = (error.strerror or "").lower()
        hint = f", which {where} names" if path != where else ""
        raise MissingError(
            messages.CANNOT_READ.format(what=what, path=path, hint=hint, reason=reason)
        ) from error
    if len(content) > _MOST_BYTES:
        raise UsageError(messages.SHEET_TOO_LARGE.format(path=path))
    return content
