"""Damaged sheets, machine files and states give our errors only; kills leave no half-build."""

from __future__ import annotations

import random
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import DEMO_TIME, build
from tests.oracles import judge_qcow2
from zeroseal.demo.scenario import SHEET, lay_out
from zeroseal.errors import ZeroSealError
from zeroseal.machines import snapshots
from zeroseal.machines.definition import MachineDefinition, build_definition, read_machine_file
from zeroseal.machines.definition_files import read_definition_file
from zeroseal.machines.domain_xml import build_domain
from zeroseal.machines.media import read_seed_medium
from zeroseal.machines.seed import Seed
from zeroseal.machines.sheet.load import Wishes, load_sheets
from zeroseal.machines.sheet.secret_values import read_secrets
from zeroseal.machines.yard import Yard

EXAMPLE = Path(__file__).parents[2] / "examples/pier-server.toml"
MACHINE = MachineDefinition("pier", "4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10", "/srv/pier.qcow2")
SEEDS = Seed("i-1", "north").texts()
Reader = Callable[[Path], object]

READERS: dict[str, tuple[bytes, Reader]] = {
    "sheet": (EXAMPLE.read_bytes(), lambda path: load_sheets(path, Wishes())),
    "settings": (
        b"[machine]\ncpus = 2\n[variant.a]\nmachine.name = 'a'\n",
        lambda path: load_sheets(EXAMPLE, Wishes(settings=(path,))),
    ),
    "machine file": (build_definition(MACHINE).encode(), read_machine_file),
    "domain": (build_domain(MACHINE, MACHINE.disk, "qcow2").encode(), read_definition_file),
    "secrets": (b'ada = "not-a-real-secret"\n', lambda path: read_secrets(path, {})),
}


@pytest.mark.parametrize("kind", list(READERS))
@settings(max_examples=60)
@given(data=st.data())
def test_damaged_files_raise_only_our_errors(
    kind: str, data: st.DataObject, tmp_path_factory: pytest.TempPathFactory
) -> None:
    whole, read = READERS[kind]
    raw = bytearray(whole)
    for _ in range(data.draw(st.integers(1, 4))):
        place = data.draw(st.integers(0, max(0, len(raw) - 1)))
        match data.draw(st.sampled_from(["change", "cut", "insert", "double"])):
            case "change" if raw:
                raw[place] = data.draw(st.integers(0, 255))
            case "cut":
                del raw[place : place + data.draw(st.integers(1, 60))]
            case "insert":
                raw[place:place] = data.draw(st.binary(max_size=12))
            case _:
                raw += raw[place:]
    path = tmp_path_factory.mktemp("hostile") / "file.toml"
    path.write_bytes(bytes(raw))
    path.chmod(0o600)
    try:
        read(path)
    except ZeroSealError as error:
        assert "not-a-real-secret" not in error.message


@pytest.mark.parametrize("name", ["state.json", "snapshots.json", "machine.toml"])
@pytest.mark.parametrize("text", ["", "{", "[]", "[1]", '{"running": "perhaps"}', "\x00\xff", "5"])
def test_a_damaged_yard_is_told_by_its_file(tmp_path: Path, name: str, text: str) -> None:
    lay_out(tmp_path / "sheet")
    yard = Yard(tmp_path / "yard")
    machine = build(tmp_path / "sheet" / SHEET, yard)
    (machine.folder / name).write_bytes(text.encode("latin-1"))
    try:
        found = yard.machines()[0]
        snapshots.list_snapshots(found)
    except ZeroSealError as error:
        assert name in error.message


@given(st.binary(max_size=300), st.sampled_from(["meta-data", "user-data"]))
def test_damaged_seeds_raise_only_our_errors(raw: bytes, name: str) -> None:
    from zeroseal.machines.seed import parse_seed

    for text in (raw.decode("latin-1"), SEEDS[name] + raw.decode("latin-1")):
        try:
            parse_seed(SEEDS | {name: text})
        except ZeroSealError as error:
            assert "no readable seed" in error.message


def test_no_bytes_are_a_seed_medium(tmp_path: Path) -> None:
    chance = random.Random(7)
    for number in range(20):
        path = tmp_path / str(number)
        path.write_bytes(chance.randbytes(chance.randrange(90_000)))
        with pytest.raises(ZeroSealError, match="is not a readable medium"):
            read_seed_medium(path)


def test_a_build_killed_at_any_moment_is_unfinished_or_whole(tmp_path: Path) -> None:
    lay_out(tmp_path / "sheet")
    chance, seen = random.Random(DEMO_TIME), set()
    words = [sys.executable, "-m", "zeroseal", "build", "sheet/gangway.toml", "--quiet"]
    for _ in range(8):
        child = subprocess.Popen(words, cwd=tmp_path, stdout=subprocess.DEVNULL)
        time.sleep(0.2 + chance.random() * 1.6)
        child.kill()
        child.wait()
        yard = Yard(tmp_path / "yard")
        for machine in yard.machines():
            judge_qcow2(machine.disk)
            seen.add("unfinished" if machine.state.unfinished else "whole")
        if not yard.machines():
            seen.add("nothing")
    assert seen <= {"nothing", "unfinished", "whole"}
    for machine in Yard(tmp_path / "yard").machines():  # as a kill in the middle leaves it
        state = replace(machine.state, running=True, unfinished="it did not finish")
        Yard(tmp_path / "yard").set_state(machine.definition.name, state)
    build(tmp_path / "sheet" / SHEET, Yard(tmp_path / "yard"))
    assert not Yard(tmp_path / "yard").get("gangway-ref").state.unfinished
