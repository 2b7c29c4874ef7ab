"""RPM's database: packages that rpmbuild made and rpm installed, in each form of the database."""

from __future__ import annotations

import hashlib
import json
import random
import struct
import subprocess
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, write_tree
from tests.oracles import need, run
from zeroseal.guests.linux.packages import read_packages, versions_of
from zeroseal.guests.linux.rpm_database import RpmPackage, iter_packages
from zeroseal.sealing.tree_image import inspected_tree

SPEC = """Name: {name}
Version: {version}
Release: 3
Epoch: 1
Summary: Tide tables of Saltmarsh Ferries
License: MIT
BuildArch: noarch
%description
Tide tables.
%install
mkdir -p %{{buildroot}}/etc/{name} %{{buildroot}}/usr/share/{name}
echo 'port = 4' > %{{buildroot}}/etc/{name}/tide.conf
for n in $(seq {files}); do echo $n > %{{buildroot}}/usr/share/{name}/table-$n; done
%files
%config /etc/{name}/tide.conf
/usr/share/{name}
"""


@pytest.fixture(scope="module")
def installed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A root with three packages, as rpm installed them; never changed."""
    need("rpmbuild", "rpm")
    folder = tmp_path_factory.mktemp("rpm")
    root = folder / "root"
    root.mkdir()
    for name, files in (("tide-tables", 400), ("ferry-times", 3), ("pier-lights", 30)):
        spec = folder / f"{name}.spec"
        spec.write_text(SPEC.format(name=name, version=f"2.{files}", files=files))
        run("rpmbuild", "-bb", "--define", f"_topdir {folder}/top", spec)
    words = ["--root", str(root), "--dbpath", "/var/lib/rpm"]
    run("rpm", *words, "--initdb")
    run("rpm", *words, "-i", "--nodeps", *sorted((folder / "top").rglob("*.rpm")))
    return root


def blobs_of(root: Path) -> list[bytes]:
    import sqlite3

    with sqlite3.connect(root / "var/lib/rpm/rpmdb.sqlite") as connection:
        return [row[0] for row in connection.execute("SELECT blob FROM Packages ORDER BY hnum")]


def judge(found: list[RpmPackage], root: Path) -> None:
    """Rpm itself says the same of the packages and their files."""
    words = ["--root", str(root), "--dbpath", "/var/lib/rpm"]
    told = run("rpm", *words, "-qa", "--qf", "%{NAME} %{EVR} %{ARCH}\n").splitlines()
    assert sorted(f"{one.name} {one.version} {one.architecture}" for one in found) == sorted(told)
    for package in found:
        listed = run("rpm", *words, "-ql", package.name).splitlines()
        assert [file.path for file in package.files] == listed
        settings = run("rpm", *words, "-qc", package.name).splitlines()
        assert [file.path for file in package.files if file.is_setting] == settings
        for file in package.files:
            place = root / file.path.lstrip("/")
            if place.is_file():
                assert hashlib.sha256(place.read_bytes()).hexdigest() == file.digest
                assert package.digest_kind == 8


def test_the_form_of_sqlite_is_read_as_rpm_reads_it(installed: Path) -> None:
    folder = installed / "var/lib/rpm"
    log = folder / "rpmdb.sqlite-wal"
    whole = (folder / "rpmdb.sqlite").read_bytes()
    judge(list(iter_packages(whole, log.read_bytes() if log.exists() else b"")), installed)


def test_the_old_form_is_read_from_what_berkeley_db_makes(installed: Path, tmp_path: Path) -> None:
    need("db5.3_load")
    lines = ["VERSION=3", "format=bytevalue", "type=hash", "h_nelem=100", "db_pagesize=4096",
             "HEADER=END"]  # fmt: skip
    for number, blob in enumerate(blobs_of(installed), 1):
        lines += [f" {struct.pack('<I', number).hex()}", f" {blob.hex()}"]
    lines.append("DATA=END\n")
    made = tmp_path / "Packages"
    subprocess.run(["db5.3_load", made], input="\n".join(lines), text=True, check=True)
    judge(list(iter_packages(made.read_bytes())), installed)


def as_ndb(blobs: list[bytes]) -> bytes:
    """By the documentation: rpm here makes none."""
    slots, body, place = b"", b"", 4096 // 16
    for number, blob in enumerate(blobs, 1):
        units = -(-(16 + len(blob) + 12) // 16)
        slots += b"Slot" + struct.pack("<III", number, place, units)
        head = b"BlbS" + struct.pack("<III", number, 7, len(blob))
        body += (head + blob).ljust(units * 16 - 12, b"\0") + bytes(8) + b"BlbE"
        place += units
    top = b"RpmP" + struct.pack("<IIII", 0, 7, 1, len(blobs) + 1)
    return (top.ljust(32, b"\0") + slots).ljust(4096, b"\0") + body


def test_the_form_with_slots_is_read(installed: Path) -> None:
    judge(list(iter_packages(as_ndb(blobs_of(installed)))), installed)


@pytest.mark.parametrize("form", ["sqlite", "ndb", "hash"])
def test_damaged_databases_give_less_and_no_error(
    installed: Path, tmp_path: Path, form: str
) -> None:
    whole = (installed / "var/lib/rpm/rpmdb.sqlite").read_bytes()
    if form == "ndb":
        whole = as_ndb(blobs_of(installed))
    elif form == "hash":
        need("db5.3_load")
        text = "VERSION=3\nformat=bytevalue\ntype=hash\nHEADER=END\n"
        text += "".join(
            f" 0{n}000000\n {blob.hex()}\n" for n, blob in enumerate(blobs_of(installed))
        )
        subprocess.run(
            ["db5.3_load", tmp_path / "p"], input=f"{text}DATA=END\n", text=True, check=True
        )
        whole = (tmp_path / "p").read_bytes()
    dice = random.Random(form)
    for _ in range(150):
        mutant = bytearray(whole)
        for _change in range(dice.randint(1, 40)):
            mutant[dice.randrange(len(mutant))] = dice.randrange(256)
        list(iter_packages(bytes(mutant)[: dice.choice([None, len(whole) // 2])]))


def test_a_guest_with_rpm_has_packages_shipped_files_and_unclaimed_ones(
    installed: Path, tmp_path: Path, zeroseal: Command
) -> None:
    root = tmp_path / "root"
    run("cp", "-a", installed, root)
    planted = {"/etc/ferry/node_id": "7d9f5c1e-40aa-4f0e-9a52-1c2d3e4f5a6b\n"}
    write_tree(root, BARE_GUEST | SEEDING | planted)
    (root / "etc/tide-tables/tide.conf").write_text("node_id = 7d9f5c1e-40aa\n")  # a package's
    with inspected_tree(root) as inspection:
        packages = versions_of(read_packages(inspection.guest))
        assert packages == {"ferry-times": "1:2.3-3", "pier-lights": "1:2.30-3",
                            "tide-tables": "1:2.400-3"}  # fmt: skip
        assert inspection.system.is_shipped("/etc/pier-lights/tide.conf")
        assert not inspection.system.is_shipped("/etc/tide-tables/tide.conf")
        contents = inspection.system.read_contents()
    form = "%{name} %{epoch}:%{version}-%{release} %{arch} %{vendor} %{sourcerpm}\\n"
    listed = run("rpm", "--root", str(installed), "--dbpath", "/var/lib/rpm", "-qa", "--qf", form)
    assert {
        f"{item.name} {item.version} {item.architecture} {item.maker or '(none)'} "
        f"{item.source or item.name}-{item.version.partition(':')[2]}.src.rpm"
        for item in contents.components
    } == set(listed.splitlines())
    told = json.loads(zeroseal("survey", "--root", root, "--json").out)
    (unclaimed,) = told["readiness"]["stays"]["unclaimed"]
    assert unclaimed["path"] == "/etc/ferry/node_id"


def test_two_versions_of_an_interrupted_update_are_half_installed(
    installed: Path, tmp_path: Path, zeroseal: Command
) -> None:
    root, blobs = tmp_path / "root", blobs_of(installed)
    write_tree(root, BARE_GUEST | SEEDING)
    (root / "var/lib/rpm").mkdir(parents=True)
    older = next(blob for blob in blobs if b"tide-tables" in blob).replace(b"2.400", b"2.399")
    (root / "var/lib/rpm/Packages.db").write_bytes(as_ndb([*blobs, older]))
    told = json.loads(zeroseal("survey", "--root", root, "--json").out)["readiness"]
    assert any("partly installed" in text and "tide-tables" in text for text in told["blockers"])
