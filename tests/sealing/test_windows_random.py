"""Random machines: wherever an old identifier stands, it is replaced, and nothing else changes."""

from __future__ import annotations

import os
import random
from pathlib import Path

import pytest
from scripts.desk_machine import (
    MACHINE,
    NOW,
    RAW_SID,
    SET,
    SID,
    VERSION,
    Row,
    account,
    descriptor,
    group,
    raw,
    text,
    user_hives,
)

from tests.conftest import Command
from tests.windows import make_windows_disk
from tests.windows_judges import Judged, forms_of_sid
from zeroseal.guests.registry import value_types

COUNT = int(os.environ.get("ZEROSEAL_WINDOWS_SEEDS", "2"))
WORDS = ("mate", "cook", "pilot", "stoker", "boatswain", "quartermaster", "lamplighter")
HIVES = ("SOFTWARE", "SYSTEM", "SECURITY", "SAM", "DEFAULT")


class _Made:
    """A random machine: what is added to the made-up one."""

    def __init__(self, seed: int) -> None:
        self.dice = random.Random(seed)
        self.rows: list[tuple[str, Row]] = []
        self.files: dict[str, bytes] = {}
        self.people = {
            f"{word}.{self.dice.randrange(100, 999)}": 1100 + number
            for number, word in enumerate(self.dice.sample(WORDS, self.dice.randint(1, 5)))
        }
        self.retained = [name for name in self.people if self.dice.random() < 0.5]
        for name, rid in self.people.items():
            self._add_person(name, rid)
        for number in range(self.dice.randint(20, 60)):
            self._add_value(number)
        for number in range(self.dice.randint(20, 60)):
            self._add_file(number)

    def _add_person(self, name: str, rid: int) -> None:
        self.rows += [("SAM", row) for row in account(name, rid, 0x210)]
        listed = f"{VERSION}\\ProfileList\\{MACHINE.account(rid)}"
        folder = f"C:\\Users\\{name}"
        self.rows.append(("SOFTWARE", text(listed, "ProfileImagePath", folder)))
        own = MACHINE.raw_account(rid)
        self.rows.append(("SAM", group("Account", 2000 + rid, f"crew {rid}", own)))
        for path, content in user_hives(name, rid).items():
            self.files[f"Users/{name}/{path}"] = content
        self.files[f"Users/{name}/Documents/{MACHINE.account(rid)}.txt"] = name.encode() * 50

    def _form(self) -> bytes:
        sid = MACHINE.account(self.dice.choice([500, 513, *self.people.values()]))
        return self.dice.choice(
            [
                sid.encode(),
                sid.encode("utf-16-le"),
                RAW_SID,
                MACHINE.raw_account(self.dice.randrange(500, 2000)),
                descriptor(MACHINE.raw_account(500)),
                b"nothing of the kind",
            ]
        )

    def _add_value(self, number: int) -> None:
        hive = self.dice.choice(HIVES)
        parts = ["Tide", f"table {number}"]
        if self.dice.random() < 0.4:
            parts.append(f"{self.dice.choice(['', 'of '])}{SID}-{number}")
        key = "\\".join(parts)
        size = self.dice.choice([0, 7, 900, 16_300, 16_344 - self.dice.randrange(40), 40_000])
        content = self.dice.randbytes(size) + self._form() + self.dice.randbytes(30)
        name = self.dice.choice(["value", f"{SID}-{number}", ""])
        self.rows.append((hive, raw(f"{SET}\\{key}" if hive == "SYSTEM" else key, name, content)))
        if self.dice.random() < 0.3:
            listed = value_types.pack(value_types.MULTI_SZ, [SID, "and", f"{SID}-1001"])
            self.rows.append((hive, (key, "listed", value_types.MULTI_SZ, listed)))

    def _add_file(self, number: int) -> None:
        size = self.dice.choice([0, 40, 600, 1000, 5000, 70_000])
        content = self.dice.randbytes(size) + self._form()
        if self.dice.random() < 0.3:
            content = (content + self._form()) * 3
        folder = self.dice.choice(["Program Files/Tide", f"ProgramData/{SID}", "Windows/Tide"])
        name = self.dice.choice([f"chart {number}.dat", f"{SID}-{number}.xml"])
        self.files[f"{folder}/{name}"] = content


def _swapped(content: bytes, own: str, raw_own: bytes) -> bytes:
    before, after = SID.removeprefix("S-1-5-21-"), own.removeprefix("S-1-5-21-")
    for old, new in (
        (before.encode(), after.encode()),
        (before.encode("utf-16-le"), after.encode("utf-16-le")),
        (RAW_SID[12:], raw_own[12:]),
    ):
        content = content.replace(old, new)
    return content


@pytest.mark.parametrize("seed", range(COUNT))
def test_a_random_machine_keeps_its_meaning_under_another_identifier(
    tmp_path: Path, zeroseal: Command, seed: int
) -> None:
    made = _Made(seed + NOW)
    disk = make_windows_disk(tmp_path / "d.raw", *made.rows, extra=made.files)
    options = [word for name in made.retained for word in ("--retain-account", name)]
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid", *options)
    assert done.status == 0, done.err
    before, after = Judged(disk, tmp_path / "before"), Judged(sealed, tmp_path / "after")
    after.judge_hives()
    assert after.find(forms_of_sid(RAW_SID)) == set()
    new = after.machine_sid()
    numbers = [str(int.from_bytes(new[at : at + 4], "little")) for at in (12, 16, 20)]
    own = "S-1-5-21-" + "-".join(numbers)
    kept = {rid: name for name, rid in made.people.items() if name in made.retained}
    assert {rid: name for rid, name in after.accounts().items() if rid > 1000} == kept
    listed = set(after.keys("SOFTWARE", f"{VERSION}\\ProfileList"))
    assert listed == {"S-1-5-18", *(f"{own}-{rid}" for rid in kept)}
    back = {path.replace(own, SID): content for path, content in after.files.items()}
    expected = {
        path: _swapped(content, own, new)
        for path, content in before.files.items()
        if path.startswith(("/Program Files/", f"/ProgramData/{SID}", "/Windows/Tide"))
        or any(path.startswith(f"/Users/{name}/Documents") for name in made.retained)
    }
    assert {path: back.get(path) for path in expected} == expected
    rights = {path.replace(own, SID): item for path, item in after.owners().items()}
    for path, (owner, allowed) in before.owners().items():
        if path in rights:
            meant = (
                rights[path][0].replace(own, SID),
                [a.replace(own, SID) for a in rights[path][1]],
            )
            assert meant == (owner, allowed)
    assert zeroseal("check", sealed).out.startswith("SEALED")
