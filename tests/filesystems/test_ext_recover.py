"""Recovery: volumes copied from under a running kernel, and journals written by debugfs."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.disks import make_ext
from tests.filesystems.test_ext_edit import open_writable
from tests.filesystems.test_ext_slack import content_of
from tests.oracles import judge_ext, mounted, run
from zeroseal.blocks.checksums import crc32_be
from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import (
    DamagedError,
    NeedsRecoveryError,
    UnsupportedError,
    ZeroSealError,
)
from zeroseal.filesystems.ext.check import check_volume
from zeroseal.filesystems.ext.journal_read import Journal
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.ext.recover import needs_recovery, recover_volume
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.images.detect import open_image

KINDS = [
    ["-t", "ext4"],
    ["-t", "ext4", "-b", "1024", "-J", "size=1"],
    ["-t", "ext3", "-b", "1024"],
    ["-t", "ext4", "-O", "^64bit,^metadata_csum"],
    ["-t", "ext4", "-O", "orphan_file,metadata_csum_seed,inline_data"],
    ["-t", "ext4", "-b", "1024", "-O", "bigalloc,orphan_file", "-C", "4096"],
]


def recover(path: Path) -> tuple[int, int, int]:
    store = open_writable(path)
    assert needs_recovery(store, "v")
    done = recover_volume(store, "v")
    store.close()
    assert not needs_recovery(open_image(path), "v")
    return done.transactions, done.blocks, done.orphans


def repaired(path: Path) -> Path:
    """A copy that e2fsck has recovered: what we have to come to as well."""
    other = path.with_name("by-e2fsck.img")
    shutil.copyfile(path, other)
    e2fsck(other, "-E", "journal_only")
    e2fsck(other, "-f")
    return other


def e2fsck(path: Path, *options: str) -> None:
    """Lets e2fsck mend what it finds; 1 means that it did."""
    done = subprocess.run(["e2fsck", "-y", *options, path], capture_output=True, check=False)
    assert done.returncode in (0, 1), done.stdout


def leave_running(folder: Path, options: list[str], chance: random.Random) -> Path:
    """A volume as it lay there while a kernel had it mounted: changes, deletions, open files."""
    path = make_ext(folder / "v.img", 24, *options)
    copy = folder / "copy.img"
    held = []
    with mounted(folder / "m", "-o", "loop,commit=300", path) as point:
        for number in range(chance.randrange(20, 60)):
            (point / f"d{number % 7}").mkdir(exist_ok=True)
            (point / f"d{number % 7}" / f"f{number}").write_bytes(chance.randbytes(7000))
        run("sync")
        for number in range(0, 20, 2):
            (point / f"d{number % 7}" / f"f{number}").unlink()
        for number in range(4):
            file = (point / f"open{number}").open("w+b")
            file.write(b"held-canary" * 3000)
            file.flush()
            held.append(file)
        (point / "link").symlink_to("x" * 80)
        for number in range(4):
            (point / f"open{number}").unlink()
        with (point / "last").open("wb") as last:
            last.write(b"last")
            last.flush()
            os.fsync(last.fileno())
        shutil.copyfile(path, copy)
        for file in held:
            file.close()
    return copy


@pytest.mark.parametrize("options", KINDS, ids=" ".join)
def test_what_a_kernel_left_running_is_recovered_as_e2fsck_does(
    tmp_path: Path, options: list[str]
) -> None:
    path = leave_running(tmp_path, options, random.Random(options[-1]))
    with pytest.raises(NeedsRecoveryError, match="recover the journal with"):
        ExtTree(open_image(path))
    expected = content_of(repaired(path))
    assert b"last" in expected["/last"]
    transactions, blocks, orphans = recover(path)
    assert transactions > 0
    assert blocks > 5
    assert orphans == 4
    judge_ext(path)
    assert check_volume(open_image(path)) == []
    assert content_of(path) == expected
    journal = Journal(ExtVolume(open_image(path)))
    assert list(journal.iter_transactions()) == []
    with mounted(tmp_path / "again", "-o", "loop", path) as point:
        (point / "after").write_text("x")
    judge_ext(path)


def write_journal(path: Path, folder: Path, version: str, script: list[str]) -> None:
    """Writes transactions with debugfs; ``version`` is that of the checksums, or none."""
    lines = [f"jo -c -v {version}" if version else "jo", *script, "jc"]
    (folder / "script").write_text("\n".join(lines) + "\n")
    run("debugfs", "-w", "-f", folder / "script", path)


@pytest.mark.parametrize("version", ["", "2", "3"])
@pytest.mark.parametrize("wide", ["64bit", "^64bit"])
def test_transactions_of_debugfs_are_replayed_with_revokes_and_escapes(
    tmp_path: Path, version: str, wide: str
) -> None:
    path = make_ext(tmp_path / "v.img", 24, "-t", "ext4", "-b", "1024", "-O", wide)
    blocks = {
        "first": b"1" * 1024,
        "pair": b"1" * 2048,
        "other-pair": b"2" * 2048,
        "escaped": bytes.fromhex("c03b3998") + b"e" * 1020,
    }
    for name, content in blocks.items():
        (tmp_path / name).write_bytes(content)
    script = [
        f"jw -b 20000,20001 {tmp_path}/pair",
        f"jw -b 20002 {tmp_path}/escaped",
        "jw -r 20000",
        f"jw -b 20001,20003 {tmp_path}/other-pair",
        "jw -r 20003",
        f"jw -b 20003 {tmp_path}/first",
    ]
    run("debugfs", "-w", "-R", "setb 20000 4", path)
    write_journal(path, tmp_path, version, script)
    other = tmp_path / "other.img"
    shutil.copyfile(path, other)
    e2fsck(other, "-E", "journal_only")
    assert recover(path)[:2] == (6, 3)
    ours, theirs = (file.read_bytes()[20000 * 1024 : 20004 * 1024] for file in (path, other))
    assert ours == theirs
    assert ours[:1024] == bytes(1024)
    assert ours[1024:2048] == b"2" * 1024
    assert ours[2048:3072] == blocks["escaped"]


def test_a_log_that_runs_over_its_end_is_read_round(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 24, "-t", "ext4", "-b", "1024", "-J", "size=1")
    (tmp_path / "one").write_bytes(b"w" * 1024 * 40)
    for number in range(30):  # each leaves its transactions behind those of the one before
        blocks = ",".join(str(20_000 + number * 40 + step) for step in range(40))
        write_journal(path, tmp_path, "3", [f"jw -b {blocks} {tmp_path}/one"])
        if number < 29:
            e2fsck(path, "-E", "journal_only")
    assert recover(path)[0] == 1
    assert path.read_bytes()[21_160 * 1024 :][: 40 * 1024] == b"w" * 1024 * 40


@pytest.mark.parametrize("where", ["data", "descriptor", "commit"])
def test_a_torn_end_is_left_out_and_damage_before_it_is_told(tmp_path: Path, where: str) -> None:
    path = make_ext(tmp_path / "v.img", 24, "-t", "ext4", "-b", "1024")
    (tmp_path / "one").write_bytes(b"a" * 1024)
    words = [f"jw -b {20_000 + number} {tmp_path}/one" for number in range(3)]
    write_journal(path, tmp_path, "3", words)
    volume = ExtVolume(open_image(path), ignore_state=True)
    journal = Journal(volume)
    transactions = list(journal.iter_transactions())
    step = {"descriptor": -1, "data": 0, "commit": 1}[where]

    def hit(number: int) -> Path:
        place = journal.place_of(transactions[number].writes[0].log_block + step) * 1024
        raw = bytearray(path.read_bytes())
        raw[place + 40 if where != "commit" else place + 17] ^= 1
        target = tmp_path / f"{number}.img"
        target.write_bytes(raw)
        return target

    with pytest.raises(DamagedError, match="transaction 1 of its journal"):
        recover(hit(0))
    if where == "commit":
        assert recover(hit(2))[0] == 2
    else:
        with pytest.raises(DamagedError, match="fails its checksum"):
            recover(hit(2))


def test_what_cannot_be_recovered_is_refused_with_the_way_out(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 16, "-t", "ext2")
    run("debugfs", "-w", "-R", "set_super_value state 0", path)
    with pytest.raises(NeedsRecoveryError, match="no journal"):
        recover(path)
    path = make_ext(tmp_path / "v.img", 64, "-t", "ext4", "-O", "fast_commit")
    copy = tmp_path / "copy.img"
    with mounted(tmp_path / "m", "-o", "loop,commit=300", path) as point:
        (point / "folder").mkdir()
        for number in range(5):
            with (point / f"quick{number}").open("wb") as file:
                file.write(b"x")
                file.flush()
                os.fsync(file.fileno())
        shutil.copyfile(path, copy)
    with pytest.raises(UnsupportedError, match="fast commits"):
        recover(copy)


def test_the_checksum_of_version_one_is_the_one_with_the_highest_bit_first() -> None:
    assert crc32_be(0xFFFFFFFF, b"123456789") ^ 0xFFFFFFFF == 0xFC891918  # CRC-32/BZIP2
    half = crc32_be(0xFFFFFFFF, b"1234")
    assert crc32_be(half, b"56789") == crc32_be(0xFFFFFFFF, b"123456789")


@given(
    places=st.lists(
        st.tuples(st.integers(0, 60 * 1024), st.integers(0, 255)), min_size=1, max_size=20
    )
)
def test_damaged_journals_raise_only_our_errors(
    tmp_path_factory: pytest.TempPathFactory, places: list[tuple[int, int]]
) -> None:
    folder = tmp_path_factory.getbasetemp() / "damaged-journal"
    path = folder / "v.img"
    if not path.exists():
        folder.mkdir(exist_ok=True)
        make_ext(path, 12, "-t", "ext4", "-b", "1024", "-O", "^metadata_csum")
        (folder / "one").write_bytes(b"a" * 1024)
        script = [f"jw -b {9000 + number} {folder}/one" for number in range(9)]
        write_journal(path, folder, "", [*script, "jw -r 9001,9002"])
    raw = bytearray(path.read_bytes())
    start = Journal(ExtVolume(open_image(path), ignore_state=True)).place_of(0) * 1024
    for place, value in places:
        raw[start + place] = value
    try:
        recover_volume(MemoryStore(bytes(raw)), "v")
    except ZeroSealError:
        return
