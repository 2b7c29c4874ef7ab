"""House rules: what a site keeps, allows, requires and adds, over the real command line."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_guest_volume
from tests.oracles import find_texts
from zeroseal.errors import MissingError, UsageError
from zeroseal.sealing.house_rules import any_pattern_fits, parse_house_rules, read_house_rules
from zeroseal.sealing.record import record_path

TRACE = """
[[trace]]
id = "keys.tide-agent"
title = "Tide agent enrolment"
why = "two gauges with one enrolment overwrite each other's readings"
guest = "linux"
paths = ["/etc/tide-agent/enrol.key", "/var/lib/tide-agent/*.id"]
treatment = "remove"
regrowth = { service = "tide-agent.service" }
"""
GUEST = BARE_GUEST | {
    "/etc/tide-agent/enrol.key": "tide-key-canary",
    "/var/lib/tide-agent/gauge.id": "tide-id-canary",
    "/opt/app/note": "made on pier-ref.\n",
    "/opt/app/plan": "The Saltmarsh Winter Timetable\n",
    "/var/lib/dpkg/status": "Package: bash\nStatus: install ok installed\nVersion: 5.2-1\n",
}
SEEDED = ("--expect-seed", "--plant-first-boot")


def rules_in(folder: Path, text: str, name: str = "zeroseal.toml") -> Path:
    path = folder / name
    path.write_text("version = 1\n" + text)
    return path


def test_a_sites_own_trace_is_found_sealed_and_checked(tmp_path: Path, zeroseal: Command) -> None:
    image, out = make_guest_volume(tmp_path, GUEST), tmp_path / "o.img"
    rules = rules_in(tmp_path, "[allow]\nresidue = ['/opt/app/note']\n" + TRACE)
    told = zeroseal("survey", image, "--rules", rules, "--places", "--as-if", *SEEDED).out
    assert "keys.tide-agent" in told
    assert "/var/lib/tide-agent/gauge.id" in told
    assert "keys.tide-agent" not in zeroseal("survey", image, "--places").out
    answer = zeroseal("seal", image, "-o", out, "--rules", rules, *SEEDED)
    assert answer.status == 0, answer.err
    assert find_texts(out, [b"tide-key-canary", b"tide-id-canary"]) == set()
    record = json.loads(record_path(out).read_text())["predicate"]
    assert record["houseRules"][0]["name"] == "zeroseal.toml"
    assert len(record["houseRules"][0]["sha256"]) == 64
    assert record["proof"]["residue"][0]["place"] == "/opt/app/note"
    words = ("check", out, "--deep", "--against", image)
    assert zeroseal(*words, "--rules", rules).status == 0
    answer = zeroseal(*words)  # without the rules too: the record says what was accepted
    assert (answer.status, "/opt/app/note" in answer.out) == (0, True)
    explained = zeroseal("traces", "keys.tide-agent", "--rules", rules)
    assert "two gauges with one enrolment" in explained.out
    only = zeroseal("seal", image, "--dry-run", "--only", "keys.tide-agent", "--rules", rules)
    assert "Tide agent enrolment" in only.out


def test_what_rules_keep_stays_and_counts_only_where_they_allow_it(
    tmp_path: Path, zeroseal: Command
) -> None:
    image = make_guest_volume(tmp_path, GUEST)
    kept = "[keep]\ntraces = ['keys.ssh-host']\naccounts = ['ada.brine', 'nobody.here']\n"
    rules = rules_in(tmp_path, kept)
    answer = zeroseal("seal", image, "-o", tmp_path / "1", "--rules", rules, *SEEDED)
    assert answer.status == 1
    assert "host-private-key-canary" in (tmp_path / "1").read_bytes().decode("latin-1")
    record = json.loads(record_path(tmp_path / "1").read_text())["predicate"]
    assert record["kept"]["retainedAccounts"] == ["ada.brine"]
    site = rules_in(tmp_path, "[allow]\npartial = true\n", "site.toml")
    both = ("--rules", rules, "--rules", site)
    assert zeroseal("seal", image, "-o", tmp_path / "2", *both, *SEEDED).status == 0
    assert zeroseal("check", tmp_path / "2").status == 0
    skipped = ("--skip", "identity.machine-id")
    assert zeroseal("seal", image, "-o", tmp_path / "3", *both, *skipped, *SEEDED).status == 1


def test_texts_of_the_rules_may_stand_nowhere(tmp_path: Path, zeroseal: Command) -> None:
    image = make_guest_volume(tmp_path, GUEST)
    rules = rules_in(
        tmp_path,
        "[search]\ntexts = ['winter timetable']\n[allow]\nresidue = ['/opt/app/n*']\n",
    )
    answer = zeroseal("seal", image, "-o", tmp_path / "o", "--rules", rules, *SEEDED)
    assert answer.status == 5
    assert "text 1 of the house rules in /opt/app/plan" in answer.err
    assert "imetable" not in answer.err
    answer = zeroseal("check", image, "--deep", "--rules", rules)
    assert "text 1 of the house rules: /opt/app/plan" in answer.out


@pytest.mark.parametrize(
    ("rule", "told"),
    [
        ("packages = ['bash', 'tide-agent']", "the package tide-agent, which is not installed"),
        ("services = ['tide-agent.service']", "the service tide-agent.service, which is not"),
        ("absent = ['/opt/app/*']", "do not allow /opt/app/note, /opt/app/plan"),
        ("newest-kernel = true", "no kernel was found"),
        ("lists-not-older-than-days = 7", "there are none"),
    ],
)
def test_what_rules_require_stops_a_seal(
    tmp_path: Path, zeroseal: Command, rule: str, told: str
) -> None:
    image = make_guest_volume(tmp_path, GUEST)
    rules = rules_in(tmp_path, f"[require]\n{rule}\n")
    answer = zeroseal("seal", image, "-o", tmp_path / "o", "--rules", rules, *SEEDED)
    assert answer.status == 4
    assert told in answer.err
    assert "package bash" not in answer.err
    assert not (tmp_path / "o").exists()


def test_rules_in_force_are_shown_with_their_files(tmp_path: Path, zeroseal: Command) -> None:
    first = rules_in(tmp_path, "[keep]\naccounts = ['bosun']\n" + TRACE, "site.toml")
    second = rules_in(tmp_path, "[keep]\naccounts = ['mate']\n", "image.toml")
    words = ("survey", "none.img", "--show-rules", "--rules", first, "--rules", second)
    told = zeroseal(*words).out
    assert "bosun, mate" in told
    assert "Tide agent enrolment" in told
    assert "image.toml" in told
    assert zeroseal("survey", "none.img", "--show-rules").out.startswith("No house rules")
    value = json.loads(zeroseal(*words, "--json").out)
    assert {"rule": "keep.accounts", "says": "bosun, mate"} in value["rules"]


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("x", "not valid TOML"),
        ("version = 2", "must be version = 1"),
        ("version = 1\n[kep]\n", "unknown key; did you mean"),
        ("version = 1\n[keep]\ntrace = []\n", "unknown key; did you mean"),
        ("version = 1\n[keep]\ntraces = 'keys'\n", "keep.traces: it must be a list"),
        ("version = 1\nkeep = 1\n", "keep: it must be a table"),
        ("version = 1\n[allow]\nresidue = ['opt']\n", "'opt' must be an absolute path, or a place"),
        ("version = 1\n[search]\ntexts = ['abc']\n", "too short"),
        ("version = 1\n[require]\nlists-not-older-than-days = -1\n", "it must be at least 0"),
        ("version = 1\n[allow]\npartial = 1\n", "must be true or false"),
        ("version = 1\n[keep]\ntraces = ['keys.none']\n", "keep the trace 'keys.none'"),
        (
            "version = 1\n" + TRACE.replace("keys.tide-agent", "keys.vpn"),
            "an id that is already taken",
        ),
    ],
)
def test_a_wrong_rule_is_told_with_file_and_key(tmp_path: Path, text: str, told: str) -> None:
    path = tmp_path / "r.toml"
    path.write_text(text)
    with pytest.raises(UsageError, match=told.replace("[", r"\[")):
        read_house_rules([path])
    with pytest.raises(MissingError, match="cannot read the house rules"):
        read_house_rules([tmp_path / "missing.toml"])


def test_patterns_mean_what_they_say_and_layers_add_up() -> None:
    assert any_pattern_fits(("/opt/*/a.c",), "/opt/x/a.c")
    assert not any_pattern_fits(("/opt/*",), "/opt/x/a.c")
    assert any_pattern_fits(("/opt/**",), "/opt/x/a.c")
    assert not any_pattern_fits(("/opt/a.c",), "/opt/abc")
    upper = parse_house_rules("version = 1\n[keep]\nroot-login = true\n", "u")
    lower = parse_house_rules("version = 1\n[require]\nlists-not-older-than-days = 5\n", "l")
    both = upper.over(lower)
    assert (both.keep.root_login, both.require.lists_not_older_than_days) == (True, 5)
    last = parse_house_rules("version = 1\n[keep]\nroot-login = false\n", "x").over(both)
    assert (last.keep.root_login, last.require.lists_not_older_than_days) == (False, 5)
    assert [name for name, _digest in both.digests] == ["l", "u"]
