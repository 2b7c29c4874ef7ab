"""Texts of one's own (--canaries): found in every form, named by their line, never shown."""

from __future__ import annotations

import base64
import bz2
import gzip
import io
import lzma
import os
import zipfile
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_disk, make_ext, write_tree
from tests.oracles import run
from zeroseal.blocks.search import Searcher
from zeroseal.sealing.canaries import text_forms

TEXT = "Project Herring 77"


def zipped(text: bytes) -> bytes:
    file = io.BytesIO()
    with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("plan", text * 4)
    return file.getvalue()


PLACES = {
    "plain": TEXT.upper().encode(),
    "wide": TEXT.encode("utf-16-le"),
    "base64-0": base64.b64encode(TEXT.encode() + b" more"),
    "base64-1": base64.b64encode(b"x" + TEXT.encode() + b" more"),
    "base64-2": base64.b64encode(b"xy" + TEXT.encode() + b" more"),
    "base64-wide": base64.b64encode(b"z" + TEXT.encode("utf-16-le") + b"more"),
    "address": b"https://x.example/?q=Project%20Herring%2077",
    "form": b"q=Project+Herring+77",
    "packed.gz": gzip.compress(TEXT.encode()),
    "packed.bz2": bz2.compress(TEXT.encode()),
    "packed.xz": lzma.compress(TEXT.encode()),
    "packed.zip": zipped(TEXT.encode()),
    "packed.tgz": gzip.compress(b"\0" * 600 + base64.b64encode(TEXT.encode())),
}


def disk(folder: Path, places: dict[str, bytes], *, named: bool) -> Path:
    source = folder / f"tree-{os.urandom(3).hex()}"
    source.mkdir()
    write_tree(source, BARE_GUEST | SEEDING)
    (source / "srv").mkdir(exist_ok=True)
    for name, content in places.items():
        (source / "srv" / name).write_bytes(
            b"before\n" + content if "packed." not in name else content
        )
    if named:
        (source / "srv" / f"file of {TEXT}").write_text("x")
        (source / "srv" / "link").symlink_to(f"/away/{TEXT}")
        (source / "srv" / "attributes").write_text("x")
    volume = make_ext(folder / "volume", 12, "-t", "ext4", "-b", "1024", tree=source)
    if named:
        run("debugfs", "-w", "-R", f'ea_set /srv/attributes user.plan "{TEXT} today"', volume)
    image = make_disk(folder / f"disk-{os.urandom(3).hex()}", ("8304", volume))
    if named:
        run("sgdisk", "-c", f"1:{TEXT}", image)
    return image


def test_a_text_is_found_in_every_form_and_place(tmp_path: Path, zeroseal: Command) -> None:
    canaries = tmp_path / "texts.txt"
    canaries.write_text(f"# what must be gone\n\n{TEXT}\nnothing like it 4471\n")
    image = disk(tmp_path, PLACES, named=True)
    words = ("--expect-seed", "--canaries", canaries)
    refused = zeroseal("seal", image, "-o", tmp_path / "out", *words)
    assert refused.status == 5
    for name in PLACES:
        assert f"line 3 of texts.txt in /srv/{name}" in " ".join(refused.err.split()), name
    said = " ".join(refused.err.split())
    assert "line 3 of texts.txt in /srv (names)" in said
    assert "line 3 of texts.txt in between the volumes, at byte" in said  # the partition's name
    assert "line 3 of texts.txt in /srv/attributes" in said
    assert "line 3 of texts.txt in /srv/link" in said
    assert "Herring" not in refused.err + refused.out
    assert not (tmp_path / "out").exists()
    rehearsed = zeroseal("seal", image, "--rehearse", *words)
    assert rehearsed.status == 1
    clean = disk(tmp_path, {"harmless": b"Project Haddock 77"}, named=False)
    done = zeroseal("seal", clean, "-o", tmp_path / "clean", *words)
    assert done.status == 0, done.err
    assert zeroseal("check", tmp_path / "clean", "--deep", "--canaries", canaries).status == 0
    done = zeroseal("seal", image, "-o", tmp_path / "kept", "--expect-seed", "--allow-residue")
    assert done.status == 0
    found = zeroseal("check", tmp_path / "kept", "--deep", "--canaries", canaries)
    assert found.status == 1
    assert "line 3 of texts.txt: /srv/packed.xz" in found.out


def test_a_short_text_is_looked_for_as_a_word(tmp_path: Path, zeroseal: Command) -> None:
    canaries = tmp_path / "texts.txt"
    canaries.write_text("Kelp\n")
    letters = {"../etc/letter": b"to Kelp, with thanks", "../etc/other": b"kelpie"}
    image = disk(tmp_path, letters, named=False)
    refused = zeroseal(
        "seal", image, "-o", tmp_path / "out", "--expect-seed", "--canaries", canaries
    )
    assert refused.status == 5
    assert "line 1 of texts.txt in /etc/letter" in " ".join(refused.err.split())
    assert "/etc/other" not in refused.err


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"", "has no text to be searched for"),
        (b"# only this\n", "has no text to be searched for"),
        (b"good enough\nab\n", "line 2: a text to be searched for has 3 letters or more"),
        (b"x" * 600, "at most 512 bytes"),
        (b"\xff\xfe", "UTF-8"),
    ],
)
def test_a_file_that_cannot_be_used_is_refused(
    tmp_path: Path, zeroseal: Command, content: bytes, said: str
) -> None:
    (tmp_path / "texts").write_bytes(content)
    image = disk(tmp_path, {}, named=False)
    answer = zeroseal("seal", image, "-o", tmp_path / "o", "--canaries", tmp_path / "texts")
    assert answer.status == 2
    assert said in " ".join(answer.err.split())
    missing = zeroseal("seal", image, "-o", tmp_path / "o", "--canaries", tmp_path / "none")
    assert missing.status == 3
    useless = zeroseal("check", image, "--canaries", tmp_path / "texts")
    assert (useless.status, "--deep" in useless.err) == (2, True)


@pytest.mark.parametrize("text", ["Project Herring 77", "søndag på kaien", "tide-4471"])
def test_each_phase_of_base64_has_a_form(text: str) -> None:
    searcher = Searcher([needle._replace(value_no=0) for needle in text_forms(text)])
    for raw in (text.encode(), text.encode("utf-16-le")):
        for before in range(7):
            for after in range(4):
                encoded = base64.b64encode(b"q" * before + raw + b"r" * after)
                assert list(searcher.find(encoded)), (before, after)
