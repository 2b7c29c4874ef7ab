"""Identity that no catalogue knows: files that no package owns, named with reasons, never shown."""

from __future__ import annotations

import json
import time
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from zeroseal.images.detect import open_image
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.linux.unclaimed import find_unclaimed
from zeroseal.sealing.policy import DEFAULT_POLICY

AGENT_ID = "7d9f5c1e-40aa-4f0e-9a52-1c2d3e4f5a6b"
PLANTED = {
    "/var/lib/tide-agent/agent_id": AGENT_ID + "\n",
    "/etc/ferry/ferry.conf": "server = ledger.saltmarsh.example\nnode-id = 8812-pier-north\n",
    "/opt/buoy/state/seed": "q9Zr2LwX8vTn4KfYpB7mDsHc3GjUe6Ra",
}
HARMLESS = {
    "/etc/shipped/id": AGENT_ID + "\n",  # a package's
    "/var/lib/made/by-script/uuid": AGENT_ID + "\n",  # named by a package's script
    "/var/lib/postgresql/data/uuid": AGENT_ID + "\n",  # a data folder
    "/srv/uuid": AGENT_ID + "\n",
    "/etc/crypttab": f"# UUID={AGENT_ID}\n",
    "/etc/motd.d/tides": "High water at noon. The key to the gate is with the harbour master.\n",
    "/var/lib/beacon/uuid": "00000000-0000-0000-0000-000000000000\n",
}
DPKG = {
    "/var/lib/dpkg/status": "Package: shipped\nStatus: install ok installed\nVersion: 1\n",
    "/var/lib/dpkg/info/shipped.list": "/.\n/etc\n/etc/shipped\n/etc/shipped/id\n",
    "/var/lib/dpkg/info/shipped.postinst": "#!/bin/sh\nuuidgen > /var/lib/made/by-script/uuid\n",
}
APK = {
    "/lib/apk/db/installed": "P:shipped\nV:1\nF:etc/shipped\nR:id\n"
    "F:var/lib/made/by-script\nR:uuid\n",
}
PACMAN = {
    "/var/lib/pacman/local/shipped-1/desc": "%NAME%\nshipped\n\n%VERSION%\n1\n",
    "/var/lib/pacman/local/shipped-1/files": "%FILES%\netc/\netc/shipped/id\n"
    "var/lib/made/by-script/uuid\n",
}


def disk(folder: Path, *more: dict[str, str], size_mib: int = 8) -> Path:
    tree = BARE_GUEST | SEEDING | PLANTED | HARMLESS
    for one in more:
        tree |= one
    return make_guest_volume(folder, tree, size_mib)


@pytest.mark.parametrize("database", [DPKG, APK, PACMAN], ids=["dpkg", "apk", "pacman"])
def test_what_no_package_owns_and_looks_like_identity_is_named_with_reasons(
    tmp_path: Path, zeroseal: Command, database: dict[str, str]
) -> None:
    image = disk(tmp_path, database)
    shown = zeroseal("survey", image, "--unclaimed", "--as-if", "--expect-seed")
    text = " ".join(shown.out.split())
    for path in PLANTED:
        assert path in text
    assert "It is nothing but an identifier, and is called agent_id" in text
    assert "has a setting that is called an id, token or secret" in text
    assert "is small and looks random" in text
    assert 'allow.unclaimed = ["/var/lib/tide-agent/agent_id"]' in text
    for content in (AGENT_ID, "8812-pier-north", "q9Zr2LwX8vTn4Kf"):
        assert content not in text
    told = json.loads(zeroseal("survey", image, "--json").out)["readiness"]["stays"]["unclaimed"]
    assert {one["path"] for one in told} == set(PLANTED)
    assert told[0]["path"] == "/var/lib/tide-agent/agent_id"


def test_a_seal_says_what_stays_and_house_rules_treat_or_allow_it(
    tmp_path: Path, zeroseal: Command
) -> None:
    image, rules = disk(tmp_path, DPKG), tmp_path / "rules.toml"
    done = zeroseal("seal", image, "-o", tmp_path / "one", "--expect-seed")
    text = " ".join(done.out.split())
    assert "Unknown to the catalogue: 3 files that no package owns may identify" in text
    rules.write_text(
        'version = 1\n[allow]\nunclaimed = ["/etc/ferry/*", "/opt/**"]\n'
        '[[trace]]\nid = "keys.tide-agent"\ntitle = "Tide agent"\nwhy = "its id"\nguest = "linux"\n'
        'paths = ["/var/lib/tide-agent/agent_id"]\ntreatment = "remove"\n'
        'regrowth = { by = "the agent, when it starts" }\nsource = "the agent\'s manual"\n'
    )
    done = zeroseal("seal", image, "-o", tmp_path / "two", "--expect-seed", "--rules", rules)
    assert done.status == 0, done.err
    assert "Unknown to the catalogue" not in done.out
    assert "keys.tide-agent" in done.out
    rules.write_text('version = 1\n[readiness]\nblockers = ["unclaimed-files"]\n')
    refused = zeroseal("seal", image, "-o", tmp_path / "three", "--expect-seed", "--rules", rules)
    assert refused.status == 4
    rules.write_text('version = 1\n[allow]\nunclaimed = ["etc/ferry"]\n')
    wrong = zeroseal("survey", image, "--rules", rules)
    assert wrong.status == 2
    assert "must be an absolute path" in wrong.err


def test_without_a_package_database_nobody_is_suspected(tmp_path: Path, zeroseal: Command) -> None:
    told = json.loads(zeroseal("survey", disk(tmp_path), "--json").out)
    assert told["readiness"]["stays"]["unclaimed"] == []


def test_hostile_files_cost_little_time(tmp_path: Path) -> None:
    hostile = {
        "/etc/long-line": "machine " * 8000,
        "/etc/many-words": ("a." * 30 + "-") * 1000,
        "/etc/no-end": "\"'<" * 20_000,
        "/etc/hex": "0123456789abcdef" * 4000,
        "/etc/dashes": "12345678-1234-" * 4000,
    }
    inspection = Inspection.read(open_image(disk(tmp_path, DPKG, hostile)))
    policy = inspection.fit_policy(DEFAULT_POLICY)
    projected = inspection.judge.project(inspection, inspection.find_all(policy), policy)
    began = time.process_time()
    found = find_unclaimed(projected, {"/etc/machine-id"})
    assert time.process_time() - began < 5  # it took minutes once
    assert {one.path for one in found} == set(PLANTED)


def test_a_real_debian_gives_no_false_alarm(debian: Path, zeroseal: Command) -> None:
    told = json.loads(zeroseal("survey", debian, "--json").out)
    assert told["readiness"]["stays"]["unclaimed"] == []
