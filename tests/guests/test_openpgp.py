"""Rings of public keys, as gpg writes them and distributions ship them."""

from __future__ import annotations

import os
import random
import subprocess
from pathlib import Path

import pytest

from tests.oracles import need
from zeroseal.guests.linux.openpgp import is_public_keyring


@pytest.fixture(scope="module")
def home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    need("gpg")
    folder = tmp_path_factory.mktemp("gpg")
    folder.chmod(0o700)
    for number, kind in enumerate(("rsa2048", "ed25519")):
        gpg(folder, "--quick-gen-key", f"Tide archive {number} <{number}@saltmarsh.example>", kind)
    return folder


def gpg(home: Path, *words: str) -> bytes:
    command = ["gpg", "--homedir", str(home), "--batch", "--passphrase", "", *words]
    return subprocess.run(command, capture_output=True, check=True).stdout


def test_public_keys_are_told_from_secret_ones_and_from_anything_else(home: Path) -> None:
    public, secret = gpg(home, "--export"), gpg(home, "--export-secret-keys")
    assert is_public_keyring(public)
    assert not is_public_keyring(secret)
    assert not is_public_keyring(public + secret)
    assert not is_public_keyring(b"")
    rings = list(Path("/usr/share/keyrings").glob("*.gpg"))
    assert all(is_public_keyring(path.read_bytes()) for path in rings)
    dice = random.Random("openpgp")
    for _ in range(2000):
        cut = public[: dice.randrange(len(public))]
        is_public_keyring(cut + os.urandom(dice.randrange(8)))
    assert not any(is_public_keyring(public[: len(public) - n]) for n in range(1, 60))
