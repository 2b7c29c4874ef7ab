"""Signed seal records: made with keys of ssh-keygen and openssl, judged by openssl."""

from __future__ import annotations

import base64
import json
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.oracles import run


@pytest.fixture
def key(tmp_path: Path) -> Path:
    """A key of ssh-keygen's, with its .pub file."""
    path = tmp_path / "harbour"
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "harbour master", "-f", path)
    return path


def sealed_with(key: Path, disk: Path, out: Path, zeroseal: Command, *words: str) -> Path:
    answer = zeroseal("seal", disk, "-o", out, "--sign", key, "--quiet", *words)
    assert answer.status == 0, answer.err
    return out.with_name(out.name + ".seal.json")


def test_a_record_is_signed_as_dsse_says_and_openssl_agrees(
    tmp_path: Path, demo_disk: Path, zeroseal: Command
) -> None:
    key = tmp_path / "key.pem"
    run("openssl", "genpkey", "-algorithm", "ed25519", "-out", key)
    run("openssl", "pkey", "-in", key, "-pubout", "-out", tmp_path / "key.pub.pem")
    record = sealed_with(key, demo_disk, tmp_path / "o.qcow2", zeroseal)
    envelope = json.loads(record.read_text())
    assert envelope["payloadType"] == "application/vnd.in-toto+json"
    payload = base64.b64decode(envelope["payload"])
    assert json.loads(payload)["_type"] == "https://in-toto.io/Statement/v1"
    kind = envelope["payloadType"]
    signed = f"DSSEv1 {len(kind)} {kind} {len(payload)} ".encode() + payload
    (tmp_path / "signed").write_bytes(signed)
    signature = base64.b64decode(envelope["signatures"][0]["sig"])
    (tmp_path / "sig").write_bytes(signature)
    run(
        "openssl", "pkeyutl", "-verify", "-rawin", "-pubin", "-inkey", tmp_path / "key.pub.pem",
        "-in", tmp_path / "signed", "-sigfile", tmp_path / "sig",
    )  # fmt: skip
    trusted = zeroseal("check", tmp_path / "o.qcow2", "--trusted", tmp_path / "key.pub.pem")
    assert (trusted.status, trusted.out[:6]) == (0, "SEALED")


def test_each_reason_not_to_trust_a_record_is_told_apart(
    tmp_path: Path, demo_disk: Path, key: Path, zeroseal: Command
) -> None:
    out = tmp_path / "o.qcow2"
    record = sealed_with(key, demo_disk, out, zeroseal)
    public = key.with_suffix(".pub")
    stranger = tmp_path / "stranger"
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", stranger)
    good = zeroseal("check", out, "--trusted", public, "--trusted", stranger.with_suffix(".pub"))
    assert good.status == 0
    assert "signed by harbour master (SHA256:" in " ".join(good.out.split())
    assert run("ssh-keygen", "-lf", public).split()[1] in good.out
    assert "was not verified" in " ".join(zeroseal("check", out).out.split())

    def verdict() -> tuple[int, str]:
        found = zeroseal("check", out, "--trusted", public)
        return found.status, " ".join(found.out.split())

    unknown = zeroseal("check", out, "--trusted", stranger.with_suffix(".pub"))
    assert (unknown.status, "which is not a trusted" in " ".join(unknown.out.split())) == (
        1,
        True,
    )
    whole = record.read_text()
    envelope = json.loads(whole)
    statement = json.loads(base64.b64decode(envelope["payload"]))
    statement["predicate"]["kept"]["rootLogin"] = True
    forged = base64.b64encode(json.dumps(statement).encode()).decode()
    record.write_text(json.dumps(envelope | {"payload": forged}))
    status, told = verdict()
    assert status == 1
    assert told.startswith("BROKEN SEAL")
    assert "is invalid: the record was changed" in told
    record.write_text(base64.b64decode(envelope["payload"]).decode())
    assert (verdict()[0], "is not signed" in verdict()[1]) == (1, True)
    record.unlink()
    assert (verdict()[0], "its seal cannot be verified" in verdict()[1]) == (1, True)
    for damaged in ('{"payload": "x"}', '{"payload": "!", "payloadType": "x", "signatures": []}'):
        record.write_text(damaged)
        assert zeroseal("check", out).status == 3
    record.write_text(whole)
    assert verdict()[0] == 0


def test_a_key_with_a_passphrase_is_opened_or_refused(
    tmp_path: Path, demo_disk: Path, zeroseal: Command
) -> None:
    key, words = tmp_path / "locked", tmp_path / "words"
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "low water", "-f", key)
    words.write_text("low water\n")
    sealed_with(key, demo_disk, tmp_path / "o.qcow2", zeroseal, "--passphrase-from", str(words))
    words.write_text("high water\n")
    for more, told in (
        (["--passphrase-from", str(words)], "does not open the key"),
        ([], "give it with --passphrase-from"),
    ):
        answer = zeroseal("seal", demo_disk, "-o", tmp_path / "x", "--sign", key, *more)
        assert (answer.status, told in answer.err) == (2, True), answer.err
        assert not (tmp_path / "x").exists()


def test_what_is_no_key_is_told(tmp_path: Path, demo_disk: Path, zeroseal: Command) -> None:
    rsa = tmp_path / "rsa"
    run("ssh-keygen", "-q", "-t", "rsa", "-b", "2048", "-N", "", "-f", rsa)
    (tmp_path / "text").write_text("no key\n")
    for path, status, told in (
        (rsa, 2, "is not an Ed25519 key"),
        (tmp_path / "text", 2, "is not a readable private key"),
        (tmp_path / "none", 3, "cannot be read"),
    ):
        answer = zeroseal("seal", demo_disk, "-o", tmp_path / "x", "--sign", path)
        assert (answer.status, told in answer.err) == (status, True), answer.err
    for path in (rsa.with_suffix(".pub"), tmp_path / "text"):
        answer = zeroseal("check", demo_disk, "--trusted", path)
        assert (answer.status, "is not a public Ed25519 key" in answer.err) == (2, True), answer.err
