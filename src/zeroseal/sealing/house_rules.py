"""House rules: a site's policy, read from TOML files and laid over one another.

Several files are layers: lists are added up, a later answer wins over an earlier one. Together with
the options of a command they become a policy (``policy.resolve``).
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta

from zeroseal.documents import Table, WrongValueError, convert, parse_toml, read_text
from zeroseal.errors import UsageError
from zeroseal.images.reach import SOURCE_FORMATS, Reach
from zeroseal.messages import sealing as messages
from zeroseal.sealing.remark import CODES
from zeroseal.sentences import counted
from zeroseal.traces.load import build_traces, load_catalogue
from zeroseal.traces.model import FAMILIES, Trace

VERSION = 1
FIRST_STARTS = ("resealed", "audit", "plain")
_MAX_BYTES = 1 << 20
_MIN_TEXT = 7

Text = Annotated[str, Meta(min_length=1)]
Texts = tuple[Text, ...]
Answer = bool | None
"""None where a file does not say: the layer beneath answers then."""


def _check_absolute(key: str, paths: tuple[str, ...]) -> None:
    for path in paths:
        if not path.startswith("/"):
            raise ValueError(messages.MUST_BE_ABSOLUTE_PATH.format(key=key, path=path))


class _Rules(Table, frozen=True, rename="kebab"):
    """A table of house rules."""


class Keep(_Rules, frozen=True, rename="kebab"):
    """What stays: ``traces`` by id or family, accounts where they are there, root's login."""

    traces: Texts = ()
    accounts: Texts = ()
    root_login: Answer = None


class Allow(_Rules, frozen=True, rename="kebab"):
    """What may stay: values in some places, files that are told, a static address, kept traces."""

    residue: Texts = ()
    unclaimed: Texts = ()
    secrets: Texts = ()
    static_address: Answer = None
    partial: Answer = None

    def __post_init__(self) -> None:
        for place in self.residue:
            if not place.startswith("/") and " " not in place:
                raise ValueError(messages.RESIDUE_PLACE_INVALID.format(place=place))
        for key in ("unclaimed", "secrets"):
            _check_absolute(key, getattr(self, key))


class Remove(_Rules, frozen=True, rename="kebab"):
    """Accounts in the human range that go though they run services."""

    accounts: Texts = ()


class Clones(_Rules, frozen=True, rename="kebab"):
    """What clones get and find; as the options of a seal."""

    plant_first_boot: Answer = None
    plant_fallback_loader: Answer = None
    expect_seed: Answer = None
    to_dhcp: Answer = None
    restart_history: Answer = None
    drop_snapshots: Answer = None
    seal_snapshots: Answer = None
    same_size: Answer = None


class Images(_Rules, frozen=True, rename="kebab"):
    """What image files are, and folders whose files may be read wherever an image names them."""

    source_format: str = ""
    follow: Texts = ()

    def __post_init__(self) -> None:
        if self.source_format and self.source_format not in SOURCE_FORMATS:
            raise ValueError(
                messages.SOURCE_FORMAT_NOT_KNOWN.format(
                    source_format=self.source_format, source_formats=", ".join(SOURCE_FORMATS)
                )
            )
        _check_absolute("follow", self.follow)


class RemarkRules(_Rules, frozen=True, rename="kebab"):
    """Which remarks stop a seal, which do not, which are not made; codes of ``remark.CODES``.

    ``strict`` lets nothing stay that may be identity or a secret.
    """

    blockers: Texts = ()
    advice: Texts = ()
    ignore: Texts = ()
    strict: Answer = None

    def __post_init__(self) -> None:
        for key in ("blockers", "advice", "ignore"):
            for code in getattr(self, key):
                if code not in CODES:
                    raise ValueError(
                        messages.REMARK_NOT_KNOWN.format(key=key, code=code, codes=", ".join(CODES))
                    )


class SearchRules(_Rules, frozen=True, rename="kebab"):
    """Further texts that may stand nowhere, and values that are not searched for."""

    texts: Texts = ()
    leave_out: Texts = ()

    def __post_init__(self) -> None:
        for number, text in enumerate(self.texts, 1):
            if len(text.encode()) < _MIN_TEXT:
                raise ValueError(
                    messages.SEARCH_TEXT_TOO_SHORT.format(number=number, min_text=_MIN_TEXT)
                )


class WindowsRules(_Rules, frozen=True, rename="kebab"):
    """How a Windows may start, and what becomes of its identifier and its administrator."""

    first_start: tuple[Literal["resealed", "audit", "plain"], ...] = ()
    reissue_sid: Answer = None
    disable_administrator: Answer = None


class Requirements(_Rules, frozen=True, rename="kebab"):
    """What a guest must have: packages, enabled services, nothing at some paths, its kernel.

    ``lists_not_older_than_days`` is how old package lists may be; 0 for any age.
    """

    packages: Texts = ()
    services: Texts = ()
    absent: Texts = ()
    newest_kernel: Answer = None
    lists_not_older_than_days: Annotated[int, Meta(ge=0)] | None = None

    def __post_init__(self) -> None:
        _check_absolute("absent", self.absent)


class Gate(_Rules, frozen=True, rename="kebab"):
    """What ``check`` requires of an image beside its verdict.

    ``signed_by`` names files of public keys; relative names count from the file of the rules.
    ``level`` is that of the check, ``proof`` that of the seal. ``contents`` wants the list of what
    is installed in the record.
    """

    signed_by: Texts = ()
    level: Literal["", "quick", "full", "deep"] = ""
    proof: Literal["", "full", "deep"] = ""
    sealed_within_days: Annotated[int, Meta(ge=0)] | None = None
    patched_within_days: Annotated[int, Meta(ge=0)] | None = None
    contents: Answer = None
    no_unclaimed: Answer = None
    no_secrets: Answer = None

    @property
    def is_empty(self) -> bool:
        """Whether nothing is required."""
        return self == Gate()


class _RuleTables(Table, frozen=True):
    """The tables that rules stand in."""

    keep: Keep = Keep()
    allow: Allow = Allow()
    remove: Remove = Remove()
    clones: Clones = Clones()
    images: Images = Images()
    readiness: RemarkRules = RemarkRules()
    search: SearchRules = SearchRules()
    windows: WindowsRules = WindowsRules()
    require: Requirements = Requirements()
    gate: Gate = Gate()


_TABLES = ("keep", "allow", "remove", "clones", "images", "readiness", "search", "require",
           "windows", "gate")  # fmt: skip


class HouseRulesFile(_RuleTables, frozen=True, kw_only=True):
    """A file of rules, with traces as they are written there."""

    version: Literal[1]
    trace: tuple[dict[str, Any], ...] = ()


class HouseRules(_RuleTables, frozen=True):
    """A site's policy.

    Attributes:
        traces: the site's own.
        digests: (name, SHA-256) of the files, in order; ``files`` are their paths.
    """

    traces: tuple[Trace, ...] = ()
    digests: tuple[tuple[str, str], ...] = ()
    files: tuple[str, ...] = ()

    @property
    def reach(self) -> Reach:
        """What the rules say of the images that are opened."""
        return Reach(self.images.source_format, tuple(map(Path, self.images.follow)))

    def over(self, below: HouseRules) -> HouseRules:
        """These rules laid over others."""
        both: HouseRules = _laid_over(self, below)
        return both


NO_RULES = HouseRules()


def read_house_rules(paths: list[Path]) -> HouseRules:
    """Reads rule files, each laid over those before it.

    Raises:
        MissingError, UsageError: a file cannot be read or is wrong; says file and key.
    """
    rules = HouseRules()
    for path in paths:
        text = read_text(path, "the house rules", _MAX_BYTES)
        rules = _with_paths(parse_house_rules(text, str(path)), path.parent).over(rules)
    _check_traces(rules)
    return rules


def _with_paths(rules: HouseRules, folder: Path) -> HouseRules:
    """The rules with files that they name as they are found from here."""
    keys = tuple(str(folder / name) for name in rules.gate.signed_by)
    gate = msgspec.structs.replace(rules.gate, signed_by=keys)
    return msgspec.structs.replace(rules, gate=gate)


def parse_house_rules(text: str, name: str) -> HouseRules:
    """Parses one file's text.

    Raises:
        UsageError: it is no TOML, of another version, or has a key or value that is none.
    """
    document = parse_toml(text, name)
    if document.get("version") != VERSION:
        raise UsageError(messages.RULES_VERSION_REQUIRED.format(name=name, version=VERSION))
    try:
        read = convert(document, HouseRulesFile)
    except WrongValueError as error:
        raise UsageError(
            messages.KEY_WRONG.format(name=name, key=error.key, reason=error.reason), key=error.key
        ) from None
    return HouseRules(
        **{table: getattr(read, table) for table in _TABLES},
        traces=tuple(build_traces(read.trace, name)),
        digests=((Path(name).name, hashlib.sha256(text.encode()).hexdigest()),),
        files=(name,),
    )


def any_pattern_fits(patterns: tuple[str, ...], path: str) -> bool:
    """Whether a path is one that a pattern means: ``*`` within a folder, ``**`` below it too."""
    return any(re.fullmatch(_as_expression(pattern), path) for pattern in patterns)


def iter_rules(rules: HouseRules) -> Iterator[tuple[str, str]]:
    """Yields (rule, what it says) of all rules that say something, to be shown."""
    for table in _TABLES:
        part = getattr(rules, table)
        for field in msgspec.structs.fields(part):
            said = _shown(getattr(part, field.name))
            if field.name == "texts" and said:
                said = counted(len(part.texts), "text")
            if said:
                yield f"{table}.{field.encode_name}", said
    for trace in rules.traces:
        yield f"trace {trace.id}", trace.title
    for name, digest in rules.digests:
        yield f"file {name}", f"sha256 {digest[:16]}…"


def _shown(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else ""
    if isinstance(value, tuple):
        return ", ".join(value)
    return str(value) if value else ""


def _laid_over(above: Any, below: Any) -> Any:
    """One structure over another: tables part by part, lists added up, answers replaced."""
    if isinstance(above, msgspec.Struct):
        kind = type(above)
        return kind(
            *(
                _laid_over(getattr(above, name), getattr(below, name))
                for name in kind.__struct_fields__
            )
        )
    if isinstance(above, tuple):
        return tuple(dict.fromkeys((*below, *above)))
    return below if above in (None, "") else above


def _as_expression(pattern: str) -> str:
    parts = re.split(r"(\*\*|\*|\?)", pattern)
    meanings = {"**": ".*", "*": "[^/]*", "?": "[^/]"}
    return "".join(meanings.get(part) or re.escape(part) for part in parts)


def _check_traces(rules: HouseRules) -> None:
    """Own traces need ids of their own; kept ones must be known."""
    known = {trace.id for trace in load_catalogue()}
    seen: set[str] = set()
    for trace in rules.traces:
        if trace.id in known or trace.id in seen:
            raise UsageError(messages.TRACE_ID_TAKEN.format(id=trace.id))
        seen.add(trace.id)
    for name in rules.keep.traces:
        if name not in FAMILIES and name not in known | seen:
            raise UsageError(messages.KEPT_TRACE_NOT_KNOWN.format(name=name))
