"""A site's gate: each rule kept and missed, on real files; one status, each miss a sentence."""

from __future__ import annotations

import json
import shutil
import subprocess
import time
from pathlib import Path

import pytest

from tests.conftest import Command
from zeroseal.sealing.record import record_path

DAY = 86_400
RULES = """version = 1
[gate]
signed-by = ["ops.pub"]
level = "full"
proof = "deep"
sealed-within-days = 40
contents = true
no-unclaimed = true
no-secrets = true
"""


@pytest.fixture(scope="module")
def signed(demo_disk: Path, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """(a signed seal, a gate that it passes)."""
    from zeroseal import api

    folder = tmp_path_factory.mktemp("gate")
    for name in ("ops", "other"):
        words = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)]
        subprocess.run(words, check=True)
    sealed = folder / "sealed.qcow2"
    signer = api.read_signer(folder / "ops")
    api.seal(demo_disk, api.NewFile(sealed), now=int(time.time()) - DAY, signer=signer)
    gate = folder / "gate.toml"
    gate.write_text(RULES)
    return sealed, gate


def misses_of(zeroseal: Command, *words: object) -> tuple[int, dict[str, str]]:
    done = zeroseal("check", *words, "--json")
    gate = json.loads(done.out)["gate"]
    assert gate["passes"] == (not gate["misses"])
    return done.status, {miss["rule"]: miss["sentence"] for miss in gate["misses"]}


def test_a_template_that_keeps_every_rule_passes(
    signed: tuple[Path, Path], zeroseal: Command
) -> None:
    sealed, gate = signed
    done = zeroseal("check", sealed, "--gate", gate)
    assert done.status == 0, done.out
    assert "Passes the gate: 7 rules kept" in " ".join(done.out.split())
    assert misses_of(zeroseal, sealed, "--rules", gate) == (0, {})


@pytest.mark.parametrize(
    ("change", "rule", "sentence"),
    [
        (("ops.pub", "other.pub"), "signed-by", "not signed by one of the keys"),
        (('level = "full"', 'level = "deep"'), "level", "add --level deep"),
        (("within-days = 40", "within-days = 0"), "sealed-within-days", "1 day ago"),
        (("[gate]\n", "[gate]\npatched-within-days = 1\n"), "patched-within-days", "days ago"),
    ],
)
def test_a_rule_that_is_not_kept_is_a_sentence(
    signed: tuple[Path, Path],
    zeroseal: Command,
    change: tuple[str, str],
    rule: str,
    sentence: str,
) -> None:
    sealed, gate = signed
    other = gate.with_name(f"{rule}.toml")
    other.write_text(RULES.replace(*change))
    status, misses = misses_of(zeroseal, sealed, "--gate", other)
    assert status == 1
    assert list(misses) == [rule]
    assert sentence in misses[rule]


def test_what_is_not_known_does_not_pass(
    signed: tuple[Path, Path], demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    sealed, gate = signed
    other = tmp_path / "sealed.qcow2"
    shutil.copyfile(sealed, other)
    status, misses = misses_of(zeroseal, other, "--gate", gate)  # without its record
    assert (status, list(misses)) == (1, ["record"])
    assert zeroseal("seal", demo_disk, "-o", tmp_path / "unsigned.qcow2").status == 0
    path = record_path(tmp_path / "unsigned.qcow2")
    record = json.loads(path.read_text())
    del record["predicate"]["contents"]  # as an older version wrote it
    path.write_text(json.dumps(record))
    status, misses = misses_of(zeroseal, tmp_path / "unsigned.qcow2", "--gate", gate)
    assert (status, sorted(misses)) == (1, ["contents", "signed-by"])
    assert "older" not in misses["contents"] and "seal it again" in misses["contents"]
    status, misses = misses_of(zeroseal, demo_disk, "--gate", gate)
    assert status == 1
    assert {"verdict", "record"} <= set(misses)


def test_many_images_have_one_status_and_a_gate_that_says_nothing_is_refused(
    signed: tuple[Path, Path], demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    sealed, gate = signed
    folder = tmp_path / "images"
    folder.mkdir()
    for name in ("a.qcow2", "b.qcow2"):
        shutil.copyfile(sealed, folder / name)
    shutil.copyfile(record_path(sealed), record_path(folder / "a.qcow2"))
    done = zeroseal("check", folder, "--gate", gate)
    assert done.status == 1
    assert "NOT PASSED" in done.out and "it has no seal record" in " ".join(done.out.split())
    empty = tmp_path / "empty.toml"
    empty.write_text("version = 1\n")
    refused = zeroseal("check", sealed, "--gate", empty)
    assert refused.status == 2
    assert "no rule in [gate]" in " ".join(refused.err.split())
    empty.write_text('version = 1\n[gate]\nlevel = "deepest"\n')
    assert "gate.level" in zeroseal("check", sealed, "--gate", empty).err
    missing = tmp_path / "missing.toml"
    missing.write_text('version = 1\n[gate]\nsigned-by = ["nobody.pub"]\n')
    assert "nobody.pub" in zeroseal("check", sealed, "--gate", missing).err
