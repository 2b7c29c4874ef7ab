"""Reads build sheets: what they include, what overrides them, their variants, their errors."""

from __future__ import annotations

import hashlib
import json
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from zeroseal.documents import KeyPath, WrongValueError, convert
from zeroseal.errors import MissingError, UsageError
from zeroseal.machines.sheet.lines import find_lines, line_of
from zeroseal.machines.sheet.model import BuildSheet, Task
from zeroseal.machines.sheet.secret_values import Secrets
from zeroseal.messages import machines as messages

_INCLUDE, _VARIANT = "include", "variant"
_MAX_DEPTH = 8
_PIECE_BYTES = 4 << 20

Document = dict[str, Any]


@dataclass(frozen=True)
class LoadedSheet:
    """One machine's sheet, whole and validated.

    Attributes:
        path: the file that was named.
        folder: where the files that it names are looked for.
        settings: the files and words that were laid over it, to load it again for a renewal.
        variant: which of its variants it is; empty where it has none.
        secrets: what was filled in.
        digest: of what it asks for, without the secrets' values.
    """

    path: Path
    sheet: BuildSheet
    settings: tuple[str, ...]
    variant: str
    secrets: Secrets
    digest: str

    @property
    def folder(self) -> Path:
        """The folder of the sheet."""
        return self.path.parent

    def file(self, name: str, key: str) -> Path:
        """A file that the sheet names.

        Raises:
            MissingError: it is not there.
        """
        path = self.folder / name
        if not path.is_file():
            raise MissingError(messages.NOT_FOUND.format(path=path, key=key, sheet=self.path))
        return path


@dataclass(frozen=True)
class Wishes:
    """What a command line lays over a sheet.

    Attributes:
        settings: files of the same form as a sheet, laid over it in this order.
        sets: ``KEY=VALUE``, laid over those; the value is TOML, or else a text.
        variants: which variants to take; empty for all.
    """

    settings: tuple[Path, ...] = ()
    sets: tuple[str, ...] = ()
    variants: tuple[str, ...] = ()
    secrets: Secrets = field(default_factory=Secrets)


@dataclass
class _Sources:
    """The texts that a document is made of, the first one beneath all others."""

    lines: list[tuple[str, dict[KeyPath, int]]] = field(default_factory=list)

    def place(self, path: KeyPath) -> tuple[int, str]:
        """(how many parts of a key are written somewhere, where, as ``FILE, line N``)."""
        best, place = 0, ""
        for name, lines in self.lines:
            known, line = line_of(lines, path)
            if known >= best and known:
                best, place = known, f"{name}, line {line}" if line else name
        return best, place or self.lines[0][0]


def load_sheet(path: Path, wishes: Wishes = Wishes()) -> LoadedSheet:
    """Reads a sheet that describes one machine.

    Raises:
        MissingError: it is not there.
        UsageError: as ``load_sheets``, or it has several variants.
    """
    sheets = load_sheets(path, wishes)
    if len(sheets) != 1:
        names = ", ".join(sheet.variant for sheet in sheets)
        raise UsageError(messages.SEVERAL_VARIANTS.format(path=path, names=names))
    return sheets[0]


def load_sheets(path: Path, wishes: Wishes) -> list[LoadedSheet]:
    """Reads and validates a sheet; one result a variant.

    Raises:
        MissingError: it, or a file that it includes, is not there.
        UsageError: no TOML; an unknown, missing or wrong key; names file, line and key.
    """
    sources = _Sources()
    document = _read_with_includes(path, sources, ())
    for extra in wishes.settings:
        document = _lay_over(document, _read_with_includes(extra, sources, ()))
    for word in wishes.sets:
        document = _lay_over(document, _parse_set(word, sources))
    variants = document.pop(_VARIANT, None)
    chosen = _choose_variants(variants, wishes.variants, path)
    settings = tuple(str(item.resolve()) for item in wishes.settings) + wishes.sets
    loaded = []
    for name, overlay in chosen:
        whole = _lay_over(document, overlay)
        filled = wishes.secrets.fill(whole, "")
        sheet = _validate(filled, path, sources, name, wishes.secrets)
        digest = _digest(whole, sheet, path.parent)
        loaded.append(
            LoadedSheet(
                path=path.resolve(),
                sheet=sheet,
                settings=settings,
                variant=name,
                secrets=wishes.secrets,
                digest=digest,
            )
        )
    return loaded


def load_again(path: Path, settings: tuple[str, ...], variant: str, wishes: Wishes) -> LoadedSheet:
    """Reads a sheet as it was read for a build, and lays more wishes over it.

    Args:
        path: the sheet.
        settings: as ``LoadedSheet.settings``: files, and ``KEY=VALUE`` words.
        variant: which of its variants.
        wishes: what else is laid over it, and the secrets.

    Raises:
        MissingError, UsageError: as ``load_sheets``.
    """
    files = tuple(Path(item) for item in settings if Path(item).is_absolute())
    words = tuple(item for item in settings if not Path(item).is_absolute())
    whole = Wishes(
        settings=files + wishes.settings,
        sets=words + wishes.sets,
        variants=wishes.variants or ((variant,) if variant else ()),
        secrets=wishes.secrets,
    )
    return load_sheet(path, whole)


def _read_with_includes(path: Path, sources: _Sources, above: tuple[Path, ...]) -> Document:
    document, lines = _read_toml(path)
    if path.resolve() in above or len(above) >= _MAX_DEPTH:
        raise UsageError(messages.INCLUDES_TOO_DEEP.format(path=path))
    names = document.pop(_INCLUDE, [])
    if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
        raise UsageError(
            messages.INCLUDE_NOT_A_LIST.format(path=path, lines=lines.get((_INCLUDE,), 1))
        )
    beneath: Document = {}
    for name in names:
        included = _read_with_includes(path.parent / name, sources, (*above, path.resolve()))
        beneath = _lay_over(beneath, included)
    sources.lines.append((str(path), lines))
    return _lay_over(beneath, document)


def _read_toml(path: Path) -> tuple[Document, dict[KeyPath, int]]:
    try:
        text = path.read_text("utf-8")
        return tomllib.loads(text), find_lines(text)
    except OSError as error:
        reason = (error.strerror or "").lower()
        raise MissingError(
            messages.CANNOT_READ_BUILD_SHEET.format(path=path, reason=reason)
        ) from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise UsageError(
            messages.BUILD_SHEET_NOT_VALID_TOML.format(path=path, error=error)
        ) from error


def _parse_set(word: str, sources: _Sources) -> Document:
    key, equals, value = word.partition("=")
    if not equals:
        raise UsageError(messages.SET_WITHOUT_VALUE.format(word=word))
    try:
        document = tomllib.loads(f"{key} = {value}")
    except tomllib.TOMLDecodeError:
        try:
            document = tomllib.loads(f"{key} = {json.dumps(value)}")
        except tomllib.TOMLDecodeError as error:
            raise UsageError(messages.SET_WITH_UNKNOWN_KEY.format(word=word, key=key)) from error
    sources.lines.append((f"--set {word}", dict.fromkeys(find_lines(f"{key} = 0"), 0)))
    return document


def _lay_over(beneath: Document, above: Document) -> Document:
    """Tables are merged; everything else, arrays too, is replaced."""
    merged = dict(beneath)
    for key, value in above.items():
        old = merged.get(key)
        both = isinstance(old, dict) and isinstance(value, dict)
        merged[key] = _lay_over(old, value) if both else value  # type: ignore[arg-type]
    return merged


def _choose_variants(
    variants: object, wanted: Sequence[str], path: Path
) -> list[tuple[str, Document]]:
    if variants is None:
        if wanted:
            raise UsageError(messages.NO_VARIANTS.format(path=path))
        return [("", {})]
    if not isinstance(variants, dict) or not all(isinstance(v, dict) for v in variants.values()):
        raise UsageError(messages.VARIANT_NOT_A_TABLE.format(path=path))
    for name in wanted:
        if name not in variants:
            raise UsageError(
                messages.NO_VARIANT.format(path=path, name=name, variants=", ".join(variants))
            )
    return [(name, table) for name, table in variants.items() if not wanted or name in wanted]


def _validate(
    document: Document, path: Path, sources: _Sources, variant: str, secrets: Secrets
) -> BuildSheet:
    try:
        return convert(document, BuildSheet)
    except WrongValueError as error:
        known, place = sources.place((_VARIANT, variant, *error.path))
        if known <= len((_VARIANT, variant)):  # the variant says nothing of this key
            _known, place = sources.place(error.path)
        key = error.key or "the whole sheet"
        hint = "; see docs/build-sheet.md" if error.is_form else ""
        raise UsageError(
            secrets.redact(
                messages.SHEET_KEY_WRONG.format(
                    messages=place, key=key, reason=error.reason, hint=hint
                )
            ),
            file=str(path),
            key=key,
        ) from None


def _digest(document: Document, sheet: BuildSheet, folder: Path) -> str:
    """Of the sheet as it is written (secrets by name) and of the small files that it names.

    A base disk goes in by its checksum, which stands in the sheet or in the named list.
    """
    hasher = hashlib.sha256(json.dumps(document, sort_keys=True, default=str).encode())
    names = [sheet.origin.checksums, sheet.origin.kernel, sheet.origin.initrd]
    names += [sheet.origin.answers.path] if sheet.origin.answers else []
    for task in (*sheet.task, *sheet.on_copy):
        names += _files_of(task)
    for name in names:
        path = folder / name
        if name and path.is_file():
            with path.open("rb") as file:
                while piece := file.read(_PIECE_BYTES):
                    hasher.update(piece)
    return hasher.hexdigest()


def _files_of(task: Task) -> list[str]:
    return [task.script] + ([task.file.source] if task.file else [])
