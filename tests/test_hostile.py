"""Every command on damaged disks and disks made in bad faith: a sentence, never a traceback."""

from __future__ import annotations

import random
import struct
import time
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from tests.oracles import run, to_raw

LONGEST_SECONDS = 30


def answers_well(zeroseal: Command, *words: str | Path) -> int:
    """Runs a command; whatever it answers, it must be a sentence, a known status, and soon."""
    begin = time.monotonic()
    answer = zeroseal(*words)
    assert time.monotonic() - begin < LONGEST_SECONDS
    assert answer.status in (0, 1, 3, 4, 5), answer
    assert "Traceback" not in answer.err
    if answer.status > 1 and not answer.out:
        assert answer.err.startswith("zeroseal: ")
        sentences = [line for line in answer.err.splitlines() if not line.startswith("    ")]
        assert len(sentences) == 1  # places may be listed below it
    return answer.status


@pytest.mark.parametrize("seed", range(25))
def test_random_damage_anywhere_on_a_disk(
    zeroseal: Command, demo_disk: Path, tmp_path: Path, seed: int
) -> None:
    chance = random.Random(seed)
    raw = bytearray(to_raw(demo_disk, tmp_path / "d.raw").read_bytes())
    # the places that matter: partition table, superblock, bitmaps, inode table, folders
    for _ in range(chance.choice([1, 3, 30])):
        place = chance.choice([chance.randrange(1024), (3 << 20) + chance.randrange(600_000)])
        raw[place] = chance.randrange(256)
    image = tmp_path / "m.raw"
    image.write_bytes(raw)
    answers_well(zeroseal, "survey", image)
    answers_well(zeroseal, "check", image)
    answers_well(zeroseal, "compare", image, demo_disk)
    answers_well(zeroseal, "seal", image, "--dry-run")
    status = answers_well(zeroseal, "seal", image, "-o", tmp_path / "o.raw")
    assert (tmp_path / "o.raw").exists() == (status == 0)
    assert [path for path in tmp_path.iterdir() if path.name.startswith(".")] == []


@pytest.mark.parametrize(
    ("offset", "code", "value"),
    [
        (0x18, "<I", 40),  # block size
        (0x20, "<I", 8),  # tiny groups, and so millions of them
        (0x20, "<I", 0),
        (0x28, "<I", 0xFFFFFFF8),
        (0x4, "<I", 0xFFFFFFFF),
        (0x150, "<I", 0xFFFF),
        (0xFE, "<H", 0),
        (0x58, "<H", 3),
        (0x14, "<I", 77),
        (0xE0, "<I", 0xFFFFFFFF),
        (0xCE, "<H", 0xFFFF),
        (0x174, "<B", 255),
    ],
    ids=str,
)
def test_superblocks_made_in_bad_faith(
    zeroseal: Command, tmp_path: Path, offset: int, code: str, value: int
) -> None:
    image = make_guest_volume(tmp_path, BARE_GUEST)
    run("tune2fs", "-O", "^metadata_csum", image)
    raw = bytearray(image.read_bytes())
    struct.pack_into(code, raw, 1024 + offset, value)
    image.write_bytes(raw)
    answers_well(zeroseal, "survey", image)
    answers_well(
        zeroseal, "seal", image, "-o", tmp_path / "o", "--expect-seed", "--plant-first-boot"
    )


@pytest.mark.parametrize(
    "commands",
    [
        ["sif home/ada.brine block[2] 0", "sif home/ada.brine flags 0"],
        ["rm etc/passwd", "ln etc etc/passwd"],
        ["ln var home/ada.brine/loop"],
        ["sif etc/machine-id size 0x7fffffffffff"],
        ["sif etc/hostname mode 060644"],
        ["sif var/log/gate.log flags 0x10"],
        ["symlink etc/shadow2 /etc/shadow2", "rm etc/shadow", "symlink etc/shadow /etc/shadow"],
        ["mknod tmp p", "sif var mode 0100644"],
        ["set_super_value inodes_count 99999999"],
    ],
    ids=lambda commands: commands[0],
)
def test_trees_made_in_bad_faith(zeroseal: Command, tmp_path: Path, commands: list[str]) -> None:
    image = make_guest_volume(tmp_path, BARE_GUEST)
    run("debugfs", "-w", "-f", "-", image, feed="\n".join(commands))
    answers_well(zeroseal, "survey", image)
    answers_well(zeroseal, "check", image)
    answers_well(
        zeroseal, "seal", image, "-o", tmp_path / "o", "--expect-seed", "--plant-first-boot"
    )


def test_names_and_texts_of_a_guest_cannot_write_on_the_terminal(
    zeroseal: Command, tmp_path: Path
) -> None:
    evil = "\x1b]0;owned\x07\x1b[2J"
    image = make_guest_volume(
        tmp_path,
        BARE_GUEST
        | {
            "/etc/os-release": f'PRETTY_NAME="{evil}Linux"\n',
            "/etc/hostname": f"{evil}\n",
            f"/tmp/{evil}": "x",
            "/etc/passwd": BARE_GUEST["/etc/passwd"] + f"{evil}:x:1001:1001::/home/x:/bin/sh\n",
        },
    )
    for words in (("survey", image, "--places"), ("seal", image, "--dry-run", "--places")):
        answer = zeroseal(*words)
        assert "\x1b" not in answer.out + answer.err
        assert "\x07" not in answer.out + answer.err
    answer = zeroseal("seal", image, "-o", tmp_path / "o", "--retain-account", "nobody")
    assert "\x1b" not in answer.err


def test_bytes_that_are_no_text_stop_no_command(zeroseal: Command, tmp_path: Path) -> None:
    uuid = "7d9f5c1e-40aa-4f0e-9a52-1c2d3e4f5a6b"
    packages = {"/var/lib/dpkg/status": "Package: gate\nStatus: install ok installed\nVersion: 1\n",
                "/var/lib/dpkg/info/gate.list": "/.\n"}  # fmt: skip
    image = make_guest_volume(tmp_path, BARE_GUEST | SEEDING | packages)
    release, status, odd = (tmp_path / name for name in ("release", "status", "odd"))
    release.write_bytes(b'ID="x\xff"\nVERSION_ID="\xfe"\nPRETTY_NAME="\xfd Linux"\n')
    status.write_bytes(b"Package: \xff\xfe\nStatus: install ok installed\nVersion: \x80<b>\n")
    odd.write_text(f"{uuid}\n")
    script = tmp_path / "script"
    script.write_bytes(
        b"rm /etc/os-release\nwrite %s /etc/os-release\nrm /var/lib/dpkg/status\n"
        b"write %s /var/lib/dpkg/status\nmkdir /etc/ferry\nwrite %s /etc/ferry/node_id\xff\xfe\n"
        % tuple(bytes(path) for path in (release, status, odd))
    )
    run("debugfs", "-w", "-f", script, image)
    out, shelf = tmp_path / "o.raw", ("--shelf", tmp_path / "shelf")
    for words in (
        ("survey", image, "--places", "--unclaimed"),
        ("survey", image, "--json"),
        ("seal", image, "--rehearse", "--draft-rules", tmp_path / "draft.toml"),
        ("seal", image, "-o", out),
        ("check", out, "--deep", "--against", image),
        ("check", out, "--metrics", tmp_path / "m", "--sarif", tmp_path / "s", "--junit",
         tmp_path / "j"),
        ("contents", out, "--cyclonedx", tmp_path / "c", "--spdx", tmp_path / "x"),
        ("compare", image, out, "--files"),
        ("shelf", "add", out, "--name", "odd", "--version", "1", *shelf),
        ("shelf", "page", "--to", tmp_path / "pages", *shelf),
        ("shelf", "sync", tmp_path / "shelf", tmp_path / "other"),
        ("shelf", "list", *shelf),
        ("report", out, "--html", tmp_path / "r.html"),
    ):  # fmt: skip
        answers_well(zeroseal, *words)
    assert zeroseal("check", out).status == 0
    assert zeroseal("shelf", "verify", "--shelf", tmp_path / "other").status == 0
