"""The shelf, clones and their seed media."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import DEMO_TIME, start, stop
from tests.oracles import image_info, judge_qcow2, mounted, run, to_raw
from tests.templates.conftest import KEY, add, make
from zeroseal.errors import (
    DamagedError,
    MissingError,
    NoSpaceError,
    OutputExistsError,
    RefusedError,
    UsageError,
    ZeroSealError,
)
from zeroseal.machines.media import read_seed_medium, write_seed_medium
from zeroseal.machines.seed import Seed, SeedAccount, parse_seed
from zeroseal.machines.yard import Yard
from zeroseal.sealing.compare import compare_images
from zeroseal.sealing.record import record_path
from zeroseal.templates.shelf.entry import Template
from zeroseal.templates.shelf.shelf import Shelf

# -- the shelf


def test_the_shelf_keeps_a_read_only_copy_that_is_found_again(
    shelf: Shelf, template: Template, sealed: Path
) -> None:
    assert template.disk.read_bytes() == sealed.read_bytes()
    assert template.disk.stat().st_mode & 0o222 == 0
    assert record_path(template.disk).is_file()
    assert [item.entry.title for item in Shelf(shelf.folder).templates()] == ["gangway@2026-11"]
    assert shelf.get("gangway").entry == shelf.get("gangway@2026-11").entry == template.entry
    assert template.entry.system.startswith("Tideline Linux")


def test_an_empty_shelf_is_an_ordinary_case(tmp_path: Path) -> None:
    assert Shelf(tmp_path / "none").templates() == []
    with pytest.raises(MissingError, match="it contains no templates"):
        Shelf(tmp_path / "none").get("gangway")


def test_only_what_checks_sealed_comes_onto_the_shelf(
    shelf: Shelf, demo_disk: Path, sealed: Path, tmp_path: Path
) -> None:
    bare = tmp_path / "bare.qcow2"
    bare.write_bytes(sealed.read_bytes())
    for image, verdict in ((demo_disk, "UNSEALED"), (bare, "CLEAN")):
        with pytest.raises(RefusedError, match=f"is {verdict}, but the shelf accepts only sealed"):
            add(shelf, image, "gangway", "1")
    changed = tmp_path / "changed.raw"
    raw = bytearray(to_raw(sealed, changed).read_bytes())
    raw[9_000_000] ^= 1
    changed.write_bytes(raw)
    record_path(changed).write_bytes(record_path(sealed).read_bytes())
    with pytest.raises(RefusedError, match="is BROKEN SEAL"):
        add(shelf, changed, "gangway", "1")
    assert shelf.templates() == []
    assert not (shelf.folder / "gangway").exists()


def test_a_version_and_a_disk_are_taken_only_once(
    shelf: Shelf, template: Template, sealed: Path
) -> None:
    with pytest.raises(OutputExistsError, match="already has gangway@2026-11"):
        add(shelf, sealed, "gangway", "2026-11")
    with pytest.raises(OutputExistsError, match="same disk as gangway@2026-11"):
        add(shelf, sealed, "gangway", "2026-12")


@pytest.mark.parametrize(("name", "version"), [("Up", "1"), ("a/b", "1"), ("a", "../1"), ("", "1")])
def test_names_that_cannot_be_are_refused(
    shelf: Shelf, sealed: Path, name: str, version: str
) -> None:
    with pytest.raises(UsageError, match="is not a valid"):
        add(shelf, sealed, name, version)


@pytest.mark.parametrize(
    "text", ["", "{}", "[]", '{"schema": "zeroseal.shelf-entry", "version": 9}']
)
def test_a_damaged_entry_is_told(shelf: Shelf, template: Template, text: str) -> None:
    (template.folder / "entry.json").write_text(text)
    assert shelf.templates() == []
    assert "not a readable shelf entry" in shelf.problems()[0]
    with pytest.raises(DamagedError, match="not a readable shelf entry"):
        shelf.get("gangway@2026-11")


# -- clones


@pytest.mark.parametrize("linked", [False, True])
def test_clones_are_sound_named_and_two_machines(
    template: Template, tmp_path: Path, linked: bool
) -> None:
    yard = Yard(tmp_path / "yard")
    before = template.disk.read_bytes()
    clones = make(template, yard, "north", "south", linked=linked, key=KEY)
    for clone in clones:
        judge_qcow2(clone.disk)
        backing = image_info(clone.disk).get("full-backing-filename")
        assert (backing is not None) == linked
        if linked:
            assert (clone.folder / str(backing)).resolve() == template.disk.resolve()
            assert clone.disk.stat().st_size < 1 << 20
        start(yard, clone.definition.name, DEMO_TIME + 300)
        stop(yard, clone.definition.name, DEMO_TIME + 400)
        judge_qcow2(clone.disk)
    assert template.disk.read_bytes() == before
    assert len({clone.definition.mac for clone in clones}) == 2
    assert len({clone.definition.uuid for clone in clones}) == 2
    assert all(clone.definition.mac.startswith("02:") for clone in clones)
    comparison = compare_images([clone.disk for clone in clones])
    assert comparison.are_unique
    names = [
        value.shown for found in comparison.values for value in found if value.kind == "host name"
    ]
    assert names == ["north", "south"]


def test_a_seed_medium_is_read_by_other_programs_as_it_was_meant(
    template: Template, tmp_path: Path
) -> None:
    clone = make(template, Yard(tmp_path / "yard"), "north", key=KEY)[0]
    medium = clone.folder / "seed.iso"
    assert run("blkid", "-p", "-s", "LABEL", "-o", "value", medium).strip() == "cidata"
    meta = run("isoinfo", "-J", "-x", "/meta-data", "-i", medium)
    user = run("isoinfo", "-R", "-x", "/user-data", "-i", medium)
    assert "local-hostname: north" in meta
    assert user.startswith("#cloud-config\n")
    assert KEY in user.replace("\n    ", " ")


def test_a_seed_survives_its_medium(tmp_path: Path) -> None:
    accounts = (
        SeedAccount("ops", "Ops, 'n: x", (KEY, KEY + "2"), "$2b$x", admin=True),
        SeedAccount("b"),
    )
    seed = Seed("i-1", "north", "saltmarsh.example", accounts)
    write_seed_medium(tmp_path / "s.iso", seed)
    assert read_seed_medium(tmp_path / "s.iso") == seed


@pytest.mark.parametrize("text", ["", "[", "5", "#cloud-config\nusers: 3\n", "users: [{}]\n"])
def test_a_seed_that_is_none_raises_only_our_error(text: str, tmp_path: Path) -> None:
    with pytest.raises(DamagedError):
        parse_seed({"meta-data": "{instance-id: i, local-hostname: h}", "user-data": text})
    (tmp_path / "s.iso").write_text(text)
    with pytest.raises(DamagedError):
        read_seed_medium(tmp_path / "s.iso")


@pytest.mark.parametrize(
    ("names", "user", "key", "told"),
    [
        ((), "ops", "", "at least one clone"),
        (("a", "a"), "ops", "", "given twice"),
        (("Not_A_Name",), "ops", "", "is not a valid host name"),
        (("a",), "no spaces", "", "is not a valid account"),
        (("a",), "ops", "not a key", "public key is not in the"),
        (("a",), "ops", "ssh-ed25519 A\nssh-ed25519 B", "public key is not in the"),
        (("good", "there"), "ops", "", "already exists"),
    ],
)
def test_a_batch_that_cannot_be_whole_makes_nothing(
    template: Template, tmp_path: Path, names: tuple[str, ...], user: str, key: str, told: str
) -> None:
    yard = Yard(tmp_path / "yard")
    (yard.folder / "there").mkdir(parents=True)
    with pytest.raises(ZeroSealError, match=told):
        make(template, yard, *names, user=user, key=key)
    assert [path.name for path in yard.folder.iterdir()] == ["there"]


def test_a_template_that_was_changed_is_not_cloned(template: Template, tmp_path: Path) -> None:
    record = json.loads(record_path(template.disk).read_text())
    record["subject"][0]["digest"]["zerosealDiskTree1"] = "00" * 32
    record_path(template.disk).chmod(0o644)
    record_path(template.disk).write_text(json.dumps(record))
    with pytest.raises(RefusedError, match="is sealed, but its contents differ from those of"):
        make(template, Yard(tmp_path / "yard"), "north")
    record_path(template.disk).unlink()
    with pytest.raises(RefusedError, match="is UNKNOWN"):
        make(template, Yard(tmp_path / "yard"), "north")


def test_a_linked_clone_without_its_template_says_so(template: Template, tmp_path: Path) -> None:
    yard = Yard(tmp_path / "yard")
    make(template, yard, "north", linked=True)
    template.disk.unlink()
    with pytest.raises(MissingError, match="needs its backing file"):
        start(yard, "north", DEMO_TIME + 300)


# -- a full disk


def test_a_full_disk_leaves_no_half_template(sealed: Path, tmp_path: Path) -> None:
    with mounted(tmp_path / "small", "-t", "tmpfs", "-o", "size=300k", "none") as small:
        shelf = Shelf(small / "shelf")
        with pytest.raises(NoSpaceError):
            add(shelf, sealed, "gangway", "1")
        assert shelf.templates() == []
        assert list(small.rglob("*")) == []


@pytest.mark.parametrize("linked", [False, True])
def test_a_full_disk_leaves_no_half_batch_of_clones(
    template: Template, tmp_path: Path, linked: bool
) -> None:
    size = "400k" if linked else "1500k"  # room for one clone, not for all
    names = [f"clone-{number}" for number in range(6)]
    with mounted(tmp_path / "small", "-t", "tmpfs", "-o", f"size={size}", "none") as small:
        yard = Yard(small / "yard")
        with pytest.raises(NoSpaceError):
            make(template, yard, *names, linked=linked)
        assert yard.machines() == []
        assert list(small.rglob("*")) == []


@pytest.mark.parametrize("taken", ["north", "south", "west"])
def test_a_name_taken_while_a_batch_is_made_takes_the_whole_batch_back(
    template: Template, tmp_path: Path, taken: str
) -> None:
    yard = Yard(tmp_path / "yard")

    def take_a_name(step: object) -> None:
        if getattr(step, "done", 0) == 2:
            (yard.folder / taken).mkdir(exist_ok=True)
            (yard.folder / taken / "precious").touch()

    with pytest.raises(ZeroSealError):
        make(template, yard, "north", "south", "west", progress=take_a_name)
    assert [path.name for path in yard.folder.iterdir()] == [taken]
    assert [path.name for path in (yard.folder / taken).iterdir()] == ["precious"]
