"""What is installed: against the package managers, and bills of materials against their judges."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest
from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator
from scripts.desk_machine import CURRENT, VERSION, number, text
from spdx_tools.spdx.parser.parse_anything import parse_file
from spdx_tools.spdx.validation.document_validator import validate_full_spdx_document

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, write_tree
from tests.oracles import partition_range, run, to_raw
from tests.templates.conftest import add, sealed_file
from tests.windows import make_windows_disk
from zeroseal.guests.components import Component, Kind, build_contents, parse_contents
from zeroseal.sealing.contents import read_contents, read_contents_of_tree
from zeroseal.templates.shelf.contents_file import CONTENTS_FILE, contents_of
from zeroseal.templates.shelf.entry import Template
from zeroseal.templates.shelf.shelf import Shelf

LANGUAGES = {
    "/usr/lib/python3/dist-packages/tide_tables-2.4.dist-info/METADATA": "Metadata-Version: 2.1\n"
    "Name: tide-tables\nVersion: 2.4\nAuthor: Saltmarsh\n\nName: not this one\n",
    "/usr/local/lib/python3.11/site-packages/gauge.egg-info": "Name: Gauge\nVersion: 1\n",
    "/usr/lib/python3/dist-packages/broken-1.dist-info/METADATA": "no head at all",
    "/usr/lib/node_modules/ferry/package.json": '{"name": "ferry", "version": "3.0.1"}',
    "/usr/lib/node_modules/ferry/node_modules/@tide/clock/package.json": '{"name": "@tide/clock", '
    '"version": "0.9.0"}',
    "/usr/lib/node_modules/odd/package.json": "[1, 2",
    "/home/ada/project/node_modules/own/package.json": '{"name": "own", "version": "1"}',
}


def judge_cyclonedx(path: Path) -> dict[str, str]:
    """The library's own strict validation; gives package URLs by name."""
    document = path.read_text()
    assert JsonStrictValidator(SchemaVersion.V1_6).validate_str(document) is None
    value = json.loads(document)
    assert value["metadata"]["timestamp"]
    return {item["name"]: item.get("purl", "") for item in value["components"]}


def judge_spdx(path: Path) -> set[str]:
    """The library's parser and full validation; gives the names of packages."""
    document = parse_file(str(path))
    assert validate_full_spdx_document(document) == []
    return {package.name for package in document.packages}


@pytest.mark.real_guest
def test_packages_of_a_debian_are_those_that_dpkg_lists(
    debian: Path, tmp_path: Path, zeroseal: Command
) -> None:
    raw = to_raw(debian, tmp_path / "raw")
    start, _length = partition_range(raw, 3)
    run("debugfs", "-R", f"rdump /var/lib/dpkg {tmp_path}", f"{raw}?offset={start}")
    form = "${binary:Package} ${Version} ${Architecture}\n"
    listed = run("dpkg-query", f"--admindir={tmp_path}/dpkg", "-W", "-f", form).splitlines()
    assert len(listed) > 100
    found = json.loads(zeroseal("contents", debian, "--json").out)
    ours = {
        f"{item['name']} {item['version']} {item['architecture']}"
        for item in found["components"]
        if item["kind"] == "deb"
    }
    assert ours == {line.replace(":amd64 ", " ", 1) for line in listed}
    assert any(item["kind"] == "kernel" for item in found["components"])
    bill, other = tmp_path / "bill.json", tmp_path / "bill.spdx.json"
    done = zeroseal("contents", debian, "--cyclonedx", bill, "--spdx", other)
    assert done.status == 0, done.err
    urls = judge_cyclonedx(bill)
    assert urls["libc6"].startswith("pkg:deb/debian/libc6@")
    assert "distro=debian-12" in urls["libc6"]
    assert {"libc6", "PyYAML"} <= judge_spdx(other)
    again = zeroseal("contents", debian, "--cyclonedx", bill)
    assert again.status == 4
    assert "already" in again.err


def test_packages_of_languages_lie_in_system_places(tmp_path: Path, zeroseal: Command) -> None:
    root = tmp_path / "root"
    write_tree(root, BARE_GUEST | SEEDING | LANGUAGES)
    contents = read_contents_of_tree(root)
    assert [(item.kind.value, item.name, item.version) for item in contents.components] == [
        ("npm", "@tide/clock", "0.9.0"),
        ("npm", "ferry", "3.0.1"),
        ("python", "Gauge", "1"),
        ("python", "tide-tables", "2.4"),
    ]
    bill = tmp_path / "bill.json"
    assert zeroseal("contents", "--root", root, "--cyclonedx", bill).status == 0
    urls = judge_cyclonedx(bill)
    assert urls["@tide/clock"] == "pkg:npm/%40tide/clock@0.9.0"
    assert urls["tide-tables"] == "pkg:pypi/tide-tables@2.4"
    for words in (("contents",), ("contents", "x.qcow2", "--root", root), ("contents", "no@1")):
        assert zeroseal(*words).status in (2, 3)


def test_programs_and_updates_of_a_windows(tmp_path: Path) -> None:
    packages = f"{CURRENT}\\Component Based Servicing\\Packages"
    kept = f"{packages}\\Package_for_KB5031234~31bf3856ad364e35~amd64~~19041.3570.1.0"
    gone = f"{packages}\\Package_for_KB5000001~31bf3856ad364e35~amd64~~19041.1.1.0"
    high, low = divmod((1_790_000_000 + 11_644_473_600) * 10_000_000, 1 << 32)
    disk = make_windows_disk(
        tmp_path / "desk.raw",
        ("SOFTWARE", text(f"{CURRENT}\\Uninstall\\Tide", "DisplayName", "Tide tables")),
        ("SOFTWARE", text(f"{CURRENT}\\Uninstall\\Tide", "DisplayVersion", "2.4")),
        ("SOFTWARE", text(f"{CURRENT}\\Uninstall\\Tide", "Publisher", "Saltmarsh")),
        ("SOFTWARE", text(f"{CURRENT}\\Uninstall\\Old", "DisplayName", "Without a version")),
        ("SOFTWARE", number(kept, "CurrentState", 112)),
        ("SOFTWARE", number(kept, "InstallTimeHigh", high)),
        ("SOFTWARE", number(kept, "InstallTimeLow", low)),
        ("SOFTWARE", number(gone, "CurrentState", 0)),
        ("SOFTWARE", text(VERSION, "CurrentBuild", "19045")),
        ("SOFTWARE", number(VERSION, "UBR", 3570)),
        ("SOFTWARE", number(VERSION, "CurrentMajorVersionNumber", 10)),
    )
    contents = read_contents(disk)
    assert contents.changed_at == 1_790_000_000
    assert Component(Kind.PROGRAM, "Tide tables", "2.4", maker="Saltmarsh") in contents.components
    assert Component(Kind.UPDATE, "KB5031234", "19041.3570.1.0", "amd64") in contents.components
    assert Component(Kind.KERNEL, "windows", "10.0.19045.3570") in contents.components
    assert contents.counts[Kind.UPDATE] == 1
    assert parse_contents(build_contents(contents)) == contents


def test_the_list_on_the_shelf_is_the_one_that_the_record_names(
    template: Template, shelf: Shelf, zeroseal: Command, tmp_path: Path
) -> None:
    own = ("--shelf", shelf.folder)
    path = template.folder / CONTENTS_FILE
    found = json.loads(zeroseal("contents", "gangway", *own, "--json").out)
    assert found["name"] == "gangway@2026-11"
    assert found["components"] == json.loads(path.read_text())["components"]
    assert found["diskDigest"] == template.entry.digest
    bills = [tmp_path / name for name in ("one.json", "two.json")]
    assert zeroseal("contents", "gangway", *own, "--cyclonedx", bills[0]).status == 0
    assert zeroseal("contents", template.disk, "--cyclonedx", bills[1]).status == 0
    one, two = (json.loads(bill.read_text()) for bill in bills)
    assert one["serialNumber"] == two["serialNumber"]  # of the same disk, at whatever time
    assert one["metadata"]["timestamp"] == two["metadata"]["timestamp"]
    path.chmod(0o644)
    path.write_text(path.read_text().replace('"version": "', '"version": "9', 1))
    verified = zeroseal("shelf", "verify", *own)
    assert verified.status == 1
    assert "not the one that its seal record names" in " ".join(verified.out.split())
    refused = zeroseal("contents", "gangway", *own)
    assert refused.status == 3
    assert "delete that file" in refused.err
    path.unlink()
    assert contents_of(template).digest == found["digest"]


def test_versions_differ_by_what_is_installed(
    template: Template, shelf: Shelf, demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    changed = tmp_path / "changed.qcow2"
    subprocess.run(["cp", demo_disk, changed], check=True)
    add(shelf, sealed_file(changed, tmp_path / "later.qcow2", now=1_999_999_999), version="2")
    contents = contents_of(shelf.get("gangway@2"))
    assert contents.components == contents_of(template).components
    same = zeroseal("shelf", "diff", "gangway@2026-11", "gangway@2", "--shelf", shelf.folder)
    assert "Packages" not in same.out


def test_whatever_a_guest_calls_its_packages_is_harmless_everywhere(
    tmp_path: Path, zeroseal: Command
) -> None:
    root = tmp_path / "root"
    evil = "\x1b]0;owned\x07<script>\u202e=1+1"
    write_tree(root, BARE_GUEST | SEEDING | {
        "/usr/lib/node_modules/deep/package.json": "[" * 100_000,
        "/usr/lib/node_modules/evil/package.json": json.dumps({"name": evil, "version": evil}),
        "/usr/lib/node_modules/list/package.json": '{"name": ["a"], "version": {}}',
        "/usr/lib/python3/dist-packages/evil-1.dist-info/METADATA":
            f"Name: {evil}\nVersion: ../../{evil}\nAuthor: {evil}\n",
    })  # fmt: skip
    release = f'ID="{evil}'.encode() + b'\xff"\nVERSION_ID="\xfe"\nPRETTY_NAME="\xfd"\n'
    (root / "etc/os-release").unlink(missing_ok=True)
    (root / "etc/os-release").write_bytes(release)
    status = root / "var/lib/dpkg/status"
    status.parent.mkdir(parents=True, exist_ok=True)
    status.write_bytes(
        b"Package: \xff\xfe\nStatus: install ok installed\nVersion: \x80<b>\n\n"
        b"Package: " + b"a" * 100_000 + b"\nStatus: install ok installed\n\n"
    )
    bill, other = tmp_path / "bill.json", tmp_path / "bill.spdx.json"
    shown = zeroseal("contents", "--root", root, "--every", "--cyclonedx", bill, "--spdx", other)
    assert shown.status == 0, shown.err
    assert not set("\x1b\x07\u202e") & set(shown.out + shown.err)
    for path in (bill, other):
        text = path.read_text()
        assert not set("\x1b\x07\u202e") & set(text)
        json.loads(text)
    judge_cyclonedx(bill)
    told = json.loads(zeroseal("contents", "--root", root, "--json").out)
    assert len(told["components"]) == 4
    contents = read_contents_of_tree(root)
    assert parse_contents(build_contents(contents)).digest == contents.digest
