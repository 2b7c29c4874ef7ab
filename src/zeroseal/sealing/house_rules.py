"""House rules: a site's policy, read from TOML files and laid over one another.

Several files are layers: lists are added up, a later answer wins over an earlier one. The rules end
up in the choices of a seal; options of the command line come on top.
"""

from __future__ import annotations

import hashlib
import re
import tomllib
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

from zeroseal.errors import UsageError
from zeroseal.images.reach import SOURCE_FORMATS, Reach
from zeroseal.sealing.remark import CODES
from zeroseal.traces.load import load_catalogue, parse_traces
from zeroseal.traces.model import FAMILIES, Trace

VERSION = 1
FIRST_STARTS = ("resealed", "audit", "plain")
_MAX_BYTES = 1 << 20
_MIN_TEXT = 7
_TABLES: dict[str, dict[str, type]] = {
    "keep": {"traces": list, "accounts": list, "root-login": bool},
    "allow": {
        "residue": list,
        "static-address": bool,
        "partial": bool,
    },
    "remove": {"accounts": list},
    "clones": {
        "plant-first-boot": bool,
        "expect-seed": bool,
        "to-dhcp": bool,
        "restart-history": bool,
        "same-size": bool,
    },
    "images": {"source-format": str, "follow": list},
    "readiness": {"blockers": list, "advice": list, "ignore": list},
    "search": {"texts": list, "leave-out": list},
    "windows": {"first-start": list, "reissue-sid": bool, "disable-administrator": bool},
    "require": {
        "packages": list,
        "services": list,
        "absent": list,
        "newest-kernel": bool,
        "lists-not-older-than-days": int,
    },
}


@dataclass(frozen=True)
class HouseRules:
    """A site's policy.

    Attributes:
        kept_traces: ids or families that are left alone.
        kept_accounts: human accounts that stay where they are there.
        keeps_root_login: whether root's password and keys stay.
        residue_paths: patterns of paths where removed values may still stand.
        allows_static_address: whether clones may begin with the machine's static address.
        removed_accounts: accounts in the human range that go though they run services.
        plants_first_boot, expects_seed, asks_dhcp, restarts_history: as the options of a seal.
        allows_same_size_clones: whether clones need not use the room of a larger disk.
        remarks_as_blockers, remarks_as_advice, ignored_remarks: codes of ``remark.CODES``.
        allows_partial: whether a seal that leaves ``kept_traces`` counts as one all the same.
        texts: further texts that may stand nowhere on a sealed disk.
        values_left_out: values that are not searched for, as a seal names them.
        packages, services: what must be installed, and enabled.
        absent: patterns of paths where nothing may be.
        newest_kernel: whether the newest installed kernel must be the one that boots.
        oldest_lists_days: how old package lists may be; 0 for any age.
        first_starts: how a Windows may start, of ``FIRST_STARTS``; empty for any.
        reissues_sid: whether a Windows gets a new security identifier.
        disables_administrator: whether its built-in administrator is disabled.
        source_format: the container that images are, of ``SOURCE_FORMATS``; empty to go by their
            first bytes.
        followed_folders: folders whose files may be read wherever an image names them.
        traces: the site's own.
        digests: (name, SHA-256) of the files, in order; ``files`` are their paths.
        given: the names of single answers that a file gives; one that is not given is the default.
    """

    kept_traces: tuple[str, ...] = ()
    kept_accounts: tuple[str, ...] = ()
    keeps_root_login: bool = False
    residue_paths: tuple[str, ...] = ()
    allows_static_address: bool = False
    removed_accounts: tuple[str, ...] = ()
    plants_first_boot: bool = False
    expects_seed: bool = False
    asks_dhcp: bool = False
    restarts_history: bool = False
    allows_same_size_clones: bool = False
    remarks_as_blockers: tuple[str, ...] = ()
    remarks_as_advice: tuple[str, ...] = ()
    ignored_remarks: tuple[str, ...] = ()
    allows_partial: bool = False
    texts: tuple[str, ...] = ()
    values_left_out: tuple[str, ...] = ()
    packages: tuple[str, ...] = ()
    services: tuple[str, ...] = ()
    absent: tuple[str, ...] = ()
    newest_kernel: bool = False
    oldest_lists_days: int = 0
    first_starts: tuple[str, ...] = ()
    reissues_sid: bool = False
    disables_administrator: bool = False
    source_format: str = ""
    followed_folders: tuple[str, ...] = ()
    traces: tuple[Trace, ...] = ()
    digests: tuple[tuple[str, str], ...] = ()
    files: tuple[str, ...] = ()
    given: tuple[str, ...] = ()

    @property
    def reach(self) -> Reach:
        """What the rules say of the images that are opened."""
        return Reach(self.source_format, tuple(map(Path, self.followed_folders)))

    def over(self, below: HouseRules) -> HouseRules:
        """These rules laid over others."""
        values: dict[str, Any] = {}
        for item in fields(self):
            upper, lower = getattr(self, item.name), getattr(below, item.name)
            if isinstance(upper, tuple):
                values[item.name] = tuple(dict.fromkeys((*lower, *upper)))
            else:
                values[item.name] = upper if item.name in self.given else lower
        return HouseRules(**values)


NO_RULES = HouseRules()


def rules_of(reach: Reach) -> HouseRules:
    """Rules that say nothing but what images are and lead to."""
    folders = tuple(map(str, reach.folders))
    return HouseRules(source_format=reach.format_name, followed_folders=folders)


def read_house_rules(paths: list[Path]) -> HouseRules:
    """Reads rule files, each laid over those before it.

    Raises:
        UsageError: a file cannot be read or is wrong; says file and key.
    """
    rules = HouseRules()
    for path in paths:
        try:
            raw = path.read_bytes() if path.stat().st_size <= _MAX_BYTES else b""
            text = raw.decode("utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise UsageError(f"the house rules {path} cannot be read ({error})") from error
        if path.stat().st_size > _MAX_BYTES:
            raise UsageError(f"the house rules {path} are too large: they may have 1 MiB")
        rules = parse_house_rules(text, str(path)).over(rules)
    _check_traces(rules)
    return rules


def parse_house_rules(text: str, name: str) -> HouseRules:
    """Parses one file's text.

    Raises:
        UsageError: it is no TOML, of another version, or has a key or value that is none.
    """
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise UsageError(f"{name} is no valid TOML: {error}") from error
    if document.get("version") != VERSION:
        raise UsageError(f"{name}: house rules begin with version = {VERSION}")
    for key in document:
        if key not in ("version", "trace", *_TABLES):
            known = ", ".join((*_TABLES, "trace"))
            raise UsageError(f"{name}: unknown key {key!r}; there are {known}")
    tables = {table: _checked_table(document, table, name) for table in _TABLES}
    answers = {
        "keeps_root_login": ("keep", "root-login"),
        "allows_static_address": ("allow", "static-address"),
        "plants_first_boot": ("clones", "plant-first-boot"),
        "expects_seed": ("clones", "expect-seed"),
        "asks_dhcp": ("clones", "to-dhcp"),
        "restarts_history": ("clones", "restart-history"),
        "allows_same_size_clones": ("clones", "same-size"),
        "allows_partial": ("allow", "partial"),
        "newest_kernel": ("require", "newest-kernel"),
        "reissues_sid": ("windows", "reissue-sid"),
        "disables_administrator": ("windows", "disable-administrator"),
        "oldest_lists_days": ("require", "lists-not-older-than-days"),
        "source_format": ("images", "source-format"),
    }
    keep, allow, require = tables["keep"], tables["allow"], tables["require"]
    clones, readiness = tables["clones"], tables["readiness"]
    return HouseRules(
        kept_traces=_texts(keep, "traces"),
        kept_accounts=_texts(keep, "accounts"),
        keeps_root_login=keep.get("root-login", False),
        residue_paths=_places(allow, f"{name}: allow.residue"),
        allows_static_address=allow.get("static-address", False),
        removed_accounts=_texts(tables["remove"], "accounts"),
        plants_first_boot=clones.get("plant-first-boot", False),
        expects_seed=clones.get("expect-seed", False),
        asks_dhcp=clones.get("to-dhcp", False),
        restarts_history=clones.get("restart-history", False),
        allows_same_size_clones=clones.get("same-size", False),
        remarks_as_blockers=_codes(readiness, "blockers", name),
        remarks_as_advice=_codes(readiness, "advice", name),
        ignored_remarks=_codes(readiness, "ignore", name),
        allows_partial=allow.get("partial", False),
        texts=_search_texts(tables["search"], name),
        values_left_out=_texts(tables["search"], "leave-out"),
        packages=_texts(require, "packages"),
        services=_texts(require, "services"),
        absent=_paths(require, "absent", f"{name}: require.absent"),
        newest_kernel=require.get("newest-kernel", False),
        oldest_lists_days=_days(require, name),
        first_starts=_first_starts(tables["windows"], name),
        reissues_sid=tables["windows"].get("reissue-sid", False),
        disables_administrator=tables["windows"].get("disable-administrator", False),
        source_format=_source_format(tables["images"], name),
        followed_folders=_paths(tables["images"], "follow", f"{name}: images.follow"),
        traces=tuple(parse_traces(text, name)),
        digests=((Path(name).name, hashlib.sha256(text.encode()).hexdigest()),),
        files=(name,),
        given=tuple(item for item, (table, key) in answers.items() if key in tables[table]),
    )


def any_pattern_fits(patterns: tuple[str, ...], path: str) -> bool:
    """Whether a path is one that a pattern means: ``*`` within a folder, ``**`` below it too."""
    return any(re.fullmatch(_as_expression(pattern), path) for pattern in patterns)


def _as_expression(pattern: str) -> str:
    parts = re.split(r"(\*\*|\*|\?)", pattern)
    meanings = {"**": ".*", "*": "[^/]*", "?": "[^/]"}
    return "".join(meanings.get(part) or re.escape(part) for part in parts)


def _checked_table(document: dict[str, Any], table: str, name: str) -> dict[str, Any]:
    found = document.get(table, {})
    if not isinstance(found, dict):
        raise UsageError(f"{name}: {table} must be a table")
    for key, value in found.items():
        kind = _TABLES[table].get(key)
        if kind is None:
            known = ", ".join(_TABLES[table])
            raise UsageError(f"{name}: {table} has no key {key!r}; there are {known}")
        if type(value) is not kind:
            raise UsageError(f"{name}: {table}.{key} must be {_KIND_NAMES[kind]}")
        if isinstance(value, list) and not all(isinstance(item, str) and item for item in value):
            raise UsageError(f"{name}: {table}.{key} must be a list of texts")
    return found


_KIND_NAMES = {
    list: "a list of texts",
    bool: "true or false",
    int: "a whole number",
    str: "a text",
}


def _texts(table: dict[str, Any], key: str) -> tuple[str, ...]:
    return tuple(table.get(key, ()))


def _paths(table: dict[str, Any], key: str, where: str) -> tuple[str, ...]:
    found = _texts(table, key)
    for path in found:
        if not path.startswith("/"):
            raise UsageError(f"{where}: {path!r} must be an absolute path")
    return found


def _places(table: dict[str, Any], where: str) -> tuple[str, ...]:
    """Paths, and places that are no file, as a seal prints them."""
    found = _texts(table, "residue")
    for place in found:
        if not place.startswith("/") and " " not in place:
            raise UsageError(
                f"{where}: {place!r} must be an absolute path, or a place as a seal prints it"
            )
    return found


def _codes(table: dict[str, Any], key: str, name: str) -> tuple[str, ...]:
    found = _texts(table, key)
    for code in found:
        if code not in CODES:
            raise UsageError(
                f"{name}: readiness.{key}: there is no remark {code!r}; there are "
                f"{', '.join(CODES)}"
            )
    return found


def _first_starts(table: dict[str, Any], name: str) -> tuple[str, ...]:
    found = _texts(table, "first-start")
    for word in found:
        if word not in FIRST_STARTS:
            raise UsageError(
                f"{name}: windows.first-start: {word!r} is none of {', '.join(FIRST_STARTS)}"
            )
    return found


def _source_format(table: dict[str, Any], name: str) -> str:
    found: str = table.get("source-format", "")
    if found and found not in SOURCE_FORMATS:
        raise UsageError(
            f"{name}: images.source-format: {found!r} is none of {', '.join(SOURCE_FORMATS)}"
        )
    return found


def _search_texts(table: dict[str, Any], name: str) -> tuple[str, ...]:
    found = _texts(table, "texts")
    for number, text in enumerate(found, 1):
        if len(text.encode()) < _MIN_TEXT:
            raise UsageError(
                f"{name}: search.texts: the text number {number} is too short to be searched for, "
                f"it needs {_MIN_TEXT} letters"
            )
    return found


def _days(table: dict[str, Any], name: str) -> int:
    days: int = table.get("lists-not-older-than-days", 0)
    if days < 0:
        raise UsageError(f"{name}: require.lists-not-older-than-days must not be negative")
    return days


def _check_traces(rules: HouseRules) -> None:
    """Own traces need ids of their own; kept ones must be known."""
    known = {trace.id for trace in load_catalogue()}
    seen: set[str] = set()
    for trace in rules.traces:
        if trace.id in known or trace.id in seen:
            raise UsageError(f"the house rules' trace {trace.id} has an id that is taken")
        seen.add(trace.id)
    for name in rules.kept_traces:
        if name not in FAMILIES and name not in known | seen:
            raise UsageError(f"the house rules keep the trace {name!r}, which there is not")


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"


def iter_rules(rules: HouseRules) -> list[tuple[str, str]]:
    """(rule, what it says) of all rules that say something, to be shown."""
    sentences = [
        ("keep.traces", ", ".join(rules.kept_traces)),
        ("keep.accounts", ", ".join(rules.kept_accounts)),
        ("keep.root-login", "yes" if rules.keeps_root_login else ""),
        ("allow.residue", ", ".join(rules.residue_paths)),
        ("allow.static-address", "yes" if rules.allows_static_address else ""),
        ("allow.partial", "yes" if rules.allows_partial else ""),
        ("remove.accounts", ", ".join(rules.removed_accounts)),
        ("clones.plant-first-boot", "yes" if rules.plants_first_boot else ""),
        ("clones.expect-seed", "yes" if rules.expects_seed else ""),
        ("clones.to-dhcp", "yes" if rules.asks_dhcp else ""),
        ("clones.restart-history", "yes" if rules.restarts_history else ""),
        ("clones.same-size", "yes" if rules.allows_same_size_clones else ""),
        ("images.source-format", rules.source_format),
        ("images.follow", ", ".join(rules.followed_folders)),
        ("readiness.blockers", ", ".join(rules.remarks_as_blockers)),
        ("readiness.advice", ", ".join(rules.remarks_as_advice)),
        ("readiness.ignore", ", ".join(rules.ignored_remarks)),
        ("search.texts", _count(len(rules.texts), "text") if rules.texts else ""),
        ("search.leave-out", ", ".join(rules.values_left_out)),
        ("require.packages", ", ".join(rules.packages)),
        ("require.services", ", ".join(rules.services)),
        ("require.absent", ", ".join(rules.absent)),
        ("require.newest-kernel", "yes" if rules.newest_kernel else ""),
        (
            "require.lists-not-older-than-days",
            str(rules.oldest_lists_days) if rules.oldest_lists_days else "",
        ),
    ]
    sentences += [
        ("windows.first-start", ", ".join(rules.first_starts)),
        ("windows.reissue-sid", "yes" if rules.reissues_sid else ""),
        ("windows.disable-administrator", "yes" if rules.disables_administrator else ""),
    ]
    sentences += [(f"trace {trace.id}", trace.title) for trace in rules.traces]
    sentences += [(f"file {name}", f"sha256 {digest[:16]}…") for name, digest in rules.digests]
    return [(rule, text) for rule, text in sentences if text]
