"""Every trace of a Windows: what its patterns mean is found, and gone after a seal."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from Registry import Registry
from scripts.desk_machine import TOM as RETAINED_RID
from scripts.desk_machine import Row, files, raw, text, user_hives

from tests.conftest import Command
from tests.windows import make_windows_disk
from tests.windows_judges import Judged
from zeroseal.errors import UsageError
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.images.detect import open_image
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import SealOptions, resolve
from zeroseal.traces.load import load_catalogue, parse_traces
from zeroseal.traces.model import (
    EventLogs,
    HomeGlobs,
    InCode,
    PathGlobs,
    RegistryKeys,
    RegistryValues,
    Treatment,
)

RETAINED = "tom.kelp"
HOME = f"Users/{RETAINED}"
USER_FILES = {
    "USERS": f"{HOME}/NTUSER.DAT",
    "CLASSES": f"{HOME}/AppData/Local/Microsoft/Windows/UsrClass.dat",
}
FOLDERS = {"%ProgramData%": "ProgramData", "%AnyVolume%": ""}
WINDOWS = [trace for trace in load_catalogue() if trace.guest == "windows"]


def _spelled(pattern: str) -> str:
    """A path that a pattern fits."""
    for name, folder in FOLDERS.items():
        pattern = pattern.replace(name, folder)
    return pattern.strip("/").replace("**", "deep/*").replace("*", "a1").replace("?", "a")


def _key(pattern: str) -> tuple[str, str]:
    hive, _slash, key = pattern.partition("\\")
    return hive, key.replace("CSn", "ControlSet001").replace("*", "a1")


class _Machine:
    """The machine with a place for every pattern of the catalogue."""

    def __init__(self) -> None:
        self.paths: dict[str, str] = {}
        self.keys: dict[tuple[str, str], Treatment] = {}
        self.values: dict[tuple[str, str, str], Treatment] = {}
        for trace in WINDOWS:
            for place in trace.places:
                self._take(trace.id, place.locator, place.treatment)

    def _take(self, name: str, locator: object, treatment: Treatment) -> None:
        match locator:
            case PathGlobs(patterns=patterns):
                self.paths |= {_spelled(pattern): name for pattern in patterns}
            case HomeGlobs(patterns=patterns):
                self.paths |= {f"{HOME}/{_spelled(pattern)}": name for pattern in patterns}
            case EventLogs(patterns=patterns):
                folder = "Windows/System32/winevt/Logs"
                self.paths |= {f"{folder}/{_spelled(item)}.evtx": name for item in patterns}
            case RegistryKeys(patterns=patterns):
                self.keys |= {_key(pattern): treatment for pattern in patterns}
            case RegistryValues(patterns=wanted):
                for item in wanted:
                    for value in item.names:
                        place = (*_key(item.key), value.replace("*", "a1"))
                        self.values[place] = treatment
            case InCode():
                pass

    def rows(self) -> list[tuple[str, Row]]:
        """Rows that make the places of the registry."""
        found: list[tuple[str, Row]] = []
        for hive, key in self.keys:
            found.append((hive, raw(key, "inside", b"something")))
            found.append((hive, raw(f"{key}\\below", "inside", b"something")))
        for hive, key, name in self.values:
            found.append((hive, text(key, name, f"value of {name}")))
        return found

    def build(self, path: Path) -> Path:
        """A disk with the machine."""
        rows = self.rows()
        own = {USER_FILES[hive] for hive, _row in rows if hive in USER_FILES}
        made = {f"{HOME}/{name}": made for name, made in user_hives(RETAINED, RETAINED_RID).items()}
        extra = {name: b"left behind" * 9 for name in self.paths if name not in files()}
        for file in own:
            editor = HiveEditor(made[file], 0)
            for hive, (key, name, kind, data) in rows:
                if USER_FILES.get(hive) == file:
                    place = editor.root
                    for part in key.split("\\"):
                        place = editor.add_key(place, part)
                    editor.set_value(place, name, kind, data)
            extra[file] = editor.build()
        system = [row for row in rows if row[0] not in USER_FILES]
        return make_windows_disk(path, *system, extra=extra)


def test_every_trace_of_windows_is_found_on_one_machine_and_gone_after_a_seal(
    tmp_path: Path, zeroseal: Command
) -> None:
    machine = _Machine()
    disk = machine.build(tmp_path / "all.raw")
    policy = resolve(SealOptions(retained_accounts=(RETAINED,), reissue_sid=True))
    findings = Inspection.read(open_image(disk)).find_all(policy)
    found = {finding.trace.id for finding in findings}
    finders = {t.id for t in WINDOWS if isinstance(t.places[0].locator, InCode)}
    assert {trace.id for trace in WINDOWS} - found <= finders
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid", "--retain-account", RETAINED)
    assert done.status == 0, done.err
    after = Judged(sealed, tmp_path / "after")
    after.judge_hives()
    present = {path.lower() for path in after.files}
    assert [path for path in machine.paths if f"/{path}".lower() in present] == []
    for (hive, key), treatment in machine.keys.items():
        opened = _open(after, hive, key)
        if treatment is Treatment.REMOVE:
            assert opened is None, (hive, key)
        else:
            assert opened is not None, (hive, key)
            assert list(opened.subkeys()) == list(opened.values()) == [], (hive, key)
    for (hive, key, name), treatment in machine.values.items():
        opened = _open(after, hive, key)
        values = {value.name(): value.raw_data() for value in opened.values()} if opened else {}
        if treatment is Treatment.BLANK:
            assert not any(values[name]), (hive, key, name)
        else:
            assert name not in values, (hive, key, name)


def _open(judged: Judged, hive: str, key: str) -> Any:
    file = judged.hive(f"/{USER_FILES[hive]}" if hive in USER_FILES else hive)
    try:
        return Registry.Registry(str(file)).open(key)
    except Registry.RegistryKeyNotFoundException:
        return None


def test_there_are_sixty_traces_of_windows_and_each_says_what_it_must() -> None:
    assert len(WINDOWS) >= 60
    for trace in WINDOWS:
        assert trace.why, trace.id
        assert trace.regrowth.by, trace.id
        assert trace.source, trace.id


@pytest.mark.parametrize(
    ("entry", "told"),
    [
        ("guest = 'linux'\nkeys = ['SYSTEM\\a']\ntreatment = 'remove'", "for guest = .windows"),
        (
            "guest = 'any'\npaths = ['%ProgramData%/a']\ntreatment = 'remove'",
            'keys, event logs and %FOLDERS% are for guest = "windows" only',
        ),
        ("guest = 'windows'\nkeys = ['HKLM\\a']\ntreatment = 'remove'", "the name of a hive"),
        (
            "guest = 'windows'\nkeys = ['SYSTEM\\a']\ntreatment = 'blank'",
            "does not fit this kind",
        ),
        ("guest = 'windows'\nvalues = ['SYSTEM\\a']\ntreatment = 'remove'", "must be KEY : NAME"),
        (
            "guest = 'windows'\nvalues = ['SYSTEM\\a : b']\ntreatment = 'empty'",
            "does not fit this kind",
        ),
        (
            "guest = 'windows'\nevent_logs = ['*']\ntreatment = 'empty'",
            "does not fit this kind",
        ),
        ("guest = 'beos'\npaths = ['/a']\ntreatment = 'remove'", "guest must be one of"),
    ],
)
def test_a_wrong_trace_of_windows_is_told(entry: str, told: str) -> None:
    with pytest.raises(UsageError, match=told):
        parse_traces(f'[[trace]]\nid = "keys.a"\ntitle = "t"\nwhy = "w"\n{entry}\n', "f.toml")


def test_house_rules_bring_traces_of_windows_of_their_own(
    tmp_path: Path, zeroseal: Command
) -> None:
    key = "Saltmarsh\\Tide agent"
    disk = make_windows_disk(
        tmp_path / "d.raw",
        ("SOFTWARE", text(key, "Enrolment", "not-a-real-enrolment-51")),
        ("SOFTWARE", text(key, "Server", "tide.saltmarsh.example")),
        extra={"ProgramData/Tide agent/enrol.key": b"not-a-real-key-77"},
    )
    rules = tmp_path / "rules.toml"
    rules.write_text(
        "version = 1\n[[trace]]\nid = 'keys.tide-agent'\ntitle = 'Tide agent enrolment'\n"
        "why = 'two gauges with one enrolment overwrite each other'\nguest = 'windows'\n"
        f"values = ['SOFTWARE\\{key} : Enrolment']\ntreatment = 'remove'\n"
        "also = [{ paths = ['%ProgramData%/Tide agent/*.key'], treatment = 'remove' }]\n"
    )
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid", "--rules", rules)
    assert done.status == 0, done.err
    assert "keys.tide-agent" in done.out
    after = Judged(sealed, tmp_path / "after")
    assert after.value("SOFTWARE", key, "Enrolment") is None
    assert after.value("SOFTWARE", key, "Server") == "tide.saltmarsh.example"
    forms = {"key": b"not-a-real-key-77", "value": "enrolment-51".encode("utf-16-le")}
    assert after.find(forms) == set()
