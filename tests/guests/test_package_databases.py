"""Whose a file is, by the databases that pacman itself made, and by one of apk's form."""

from __future__ import annotations

import base64
import hashlib
import json
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, write_tree
from tests.oracles import need, run
from zeroseal.guests.linux.file_claims import Claim, FileClaims
from zeroseal.guests.linux.packages import read_packages, versions_of
from zeroseal.sealing.tree_image import inspected_tree

SETTING = "password = tide-Kelp-4471\n"  # a package's own, the same on every machine
PLANTED = {"/etc/ferry/node_id": "7d9f5c1e-40aa-4f0e-9a52-1c2d3e4f5a6b\n"}


def install_by_pacman(folder: Path, root: Path) -> None:
    """A package that is made by hand and installed by pacman."""
    need("pacman")
    tree = folder / "package"
    write_tree(tree, {"/etc/tide-tables/tide.conf": SETTING, "/usr/share/tide/x": "x"})
    (tree / ".PKGINFO").write_text(
        "pkgname = tide-tables\npkgver = 2.4-3\npkgdesc = tides\nurl = https://x.example\n"
        "builddate = 1900000000\npackager = Saltmarsh\nsize = 30\narch = any\n"
        "backup = etc/tide-tables/tide.conf\n"
    )
    package = folder / "tide-tables-2.4-3-any.pkg.tar.gz"
    run("tar", "-C", tree, "-czf", package, ".PKGINFO", "etc", "usr")
    settings = folder / "pacman.conf"
    settings.write_text(
        "[options]\nArchitecture = auto\nSigLevel = Never\nLocalFileSigLevel = Never\n"
    )
    (root / "var/lib/pacman").mkdir(parents=True)
    run("pacman", "-U", "--root", root, "--dbpath", root / "var/lib/pacman", "--config", settings,
        "--cachedir", folder / "cache", "--logfile", folder / "log", "--noconfirm", "--noscriptlet",
        package)  # fmt: skip


def install_as_apk(_folder: Path, root: Path) -> None:
    """By apk(5): Debian has no apk."""
    digest = base64.b64encode(hashlib.sha1(SETTING.encode(), usedforsecurity=False).digest())
    write_tree(root, {
        "/etc/tide-tables/tide.conf": SETTING,
        "/lib/apk/db/installed": "P:tide-tables\nV:2.4-3\nF:etc/tide-tables\nR:tide.conf\n"
        f"Z:Q1{digest.decode()}\nF:usr/share/tide\nR:x\nZ:Q1bad base64\n\n",
    })  # fmt: skip


@pytest.mark.parametrize("install", [install_by_pacman, install_as_apk], ids=["pacman", "apk"])
def test_packages_shipped_files_and_nobodys_are_known(
    tmp_path: Path, zeroseal: Command, install: object
) -> None:
    root = tmp_path / "root"
    write_tree(root, BARE_GUEST | SEEDING | PLANTED)
    assert callable(install)
    install(tmp_path, root)
    setting = root / "etc/tide-tables/tide.conf"
    with inspected_tree(root) as inspection:
        assert versions_of(read_packages(inspection.guest)) == {"tide-tables": "2.4-3"}
        claims = FileClaims(inspection.guest)
        assert claims.claim_of("/etc/tide-tables/tide.conf") is Claim.SHIPPED
        assert claims.claim_of("/etc/ferry/node_id") is Claim.NOBODY
        assert inspection.system.is_shipped("/etc/tide-tables/tide.conf")
    told = json.loads(zeroseal("survey", "--root", root, "--json").out)["readiness"]["stays"]
    assert [one["path"] for one in told["unclaimed"]] == ["/etc/ferry/node_id"]
    assert told["secrets"] == []
    setting.write_text(SETTING + "more = 1\n")  # somebody changed it
    with inspected_tree(root) as inspection:
        claims = FileClaims(inspection.guest)
        assert claims.claim_of("/etc/tide-tables/tide.conf") is Claim.CHANGED
    told = json.loads(zeroseal("survey", "--root", root, "--json").out)["readiness"]["stays"]
    assert [one["path"] for one in told["secrets"]] == ["/etc/tide-tables/tide.conf"]
