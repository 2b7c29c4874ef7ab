"""A seal that would stop in the end says so before, with every place, and how to decide on each."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from tests.oracles import judge_ext

PLACES = [f"/etc/ferry/berth-{number}.conf" for number in range(6)]
KEPT = {path: f"berth of pier-ref, number {path[-6]}\n" for path in PLACES} | {
    "/var/lib/ferry/pier-ref/ledger": "x"
}
NAMES = "/var/lib/ferry (names)"


@pytest.fixture
def volume(tmp_path: Path) -> Path:
    """A guest whose name stands in files that no trace knows, and in a folder's name."""
    return make_guest_volume(tmp_path, BARE_GUEST | SEEDING | KEPT)


def rehearse(zeroseal: Command, volume: Path, *words: str | Path) -> tuple[int, dict[str, object]]:
    done = zeroseal("seal", volume, "--rehearse", "--expect-seed", "--json", *words)
    return done.status, json.loads(done.out)


def test_everything_that_would_stop_a_seal_is_listed_at_once(
    zeroseal: Command, volume: Path, tmp_path: Path
) -> None:
    before = sorted(tmp_path.iterdir())
    status, told = rehearse(zeroseal, volume)
    left = told["leftOver"]
    assert isinstance(left, list)
    assert (status, told["wouldSeal"]) == (1, False)
    assert {item["place"] for item in left} == {*PLACES, NAMES}
    assert sorted(tmp_path.iterdir()) == before
    refused = zeroseal("seal", volume, "-o", tmp_path / "o.raw", "--expect-seed", "--json")
    assert refused.status == 5
    for place in (*PLACES, NAMES):
        assert f" in {place}\n" in refused.err
    assert "--rehearse --draft-rules" in refused.err
    assert len(json.loads(refused.out)["places"]) == len(left)
    shown = zeroseal("seal", volume, "--rehearse", "--expect-seed").out
    assert "would be refused: 7 places" in shown


@pytest.mark.parametrize("way", ["allow", "search no more", "treat"])
def test_each_choice_of_the_drafted_rules_makes_the_seal_pass(
    zeroseal: Command, volume: Path, tmp_path: Path, way: str
) -> None:
    rules, sealed = tmp_path / "rules.toml", tmp_path / "o.raw"
    status, _told = rehearse(zeroseal, volume, "--draft-rules", rules)
    assert status == 1
    assert rehearse(zeroseal, volume, "--rules", rules)[0] == 1  # as drafted it decides nothing
    text = rules.read_text()
    allow, search, *traces = re.split(r"(?m)^(?=\[search\]|# 3\.)", text)
    if way == "allow":
        allow = allow.replace('  # "', '  "')
    elif way == "search no more":
        search = search.replace('  # "', '  "')
    else:
        traces = [trace.replace("\n# ", "\n") for trace in traces]
    rules.write_text(allow + search + "".join(traces))
    words = ("--expect-seed", "--rules", rules)
    done = zeroseal("seal", volume, "-o", sealed, *words)
    if way == "treat":  # the folder itself is kept with its name: that is a matter for a rename
        assert done.status in (0, 5), done.err
        assert not any(path in done.err for path in PLACES)
        return
    assert done.status == 0, done.err
    judge_ext(sealed)


def test_what_was_accepted_is_in_every_answer(
    zeroseal: Command, volume: Path, tmp_path: Path
) -> None:
    rules, sealed = tmp_path / "rules.toml", tmp_path / "o.raw"
    rehearse(zeroseal, volume, "--draft-rules", rules)
    rules.write_text(rules.read_text().replace('  # "', '  "').partition("[search]")[0])
    done = zeroseal("seal", volume, "-o", sealed, "--expect-seed", "--rules", rules)
    assert done.status == 0, done.err
    for words in ((), ("--deep",), ("--deep", "--against", volume), ("--level", "quick")):
        answer = zeroseal("check", sealed, *words)
        assert answer.status == 0, answer.out
        assert answer.out.startswith("SEALED")
        assert "Accepted at the seal, and still there" in answer.out
        assert PLACES[5] in answer.out
        told = json.loads(zeroseal("check", sealed, *words, "--json").out)
        assert {item["place"] for item in told["accepted"]} == {*PLACES, NAMES}


def test_values_that_nobody_accepted_are_an_answer_with_advice_that_helps(
    zeroseal: Command, volume: Path, tmp_path: Path
) -> None:
    sealed = tmp_path / "o.raw"
    assert zeroseal("seal", volume, "-o", sealed, "--expect-seed", "--level", "full").status == 0
    answer = zeroseal("check", sealed, "--deep", "--against", volume)
    assert answer.status == 1
    assert "--rehearse --draft-rules" in answer.out


def test_words_that_do_not_go_together(zeroseal: Command, volume: Path, tmp_path: Path) -> None:
    rules = tmp_path / "rules.toml"
    alone = zeroseal("seal", volume, "-o", tmp_path / "o.raw", "--draft-rules", rules)
    assert (alone.status, "needs --rehearse" in alone.err) == (2, True)
    rules.write_text("precious")
    taken = zeroseal("seal", volume, "--rehearse", "--expect-seed", "--draft-rules", rules)
    assert (taken.status, rules.read_text()) == (4, "precious")
