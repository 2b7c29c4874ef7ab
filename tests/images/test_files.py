"""Host files and outputs: holes, odd sizes, taken names, file systems without hard links."""

from __future__ import annotations

import errno
import importlib.util
import os
import shutil
from pathlib import Path

import pytest

from tests.oracles import mounted, run
from zeroseal.errors import (
    MissingError,
    NoSpaceError,
    OutputExistsError,
    TruncatedError,
    UnfinishedError,
    UsageError,
    environment_error,
)
from zeroseal.images.compression import get_packer
from zeroseal.images.copying import copy_image_file
from zeroseal.images.create import ContainerSpec
from zeroseal.images.detect import open_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.output import OutputFile, write_small_file
from zeroseal.images.raw import RawImage


def test_holes_of_a_file_are_told_as_zeros(tmp_path: Path) -> None:
    path = tmp_path / "sparse"
    with path.open("wb") as file:
        file.seek(1 << 20)
        file.write(b"data")
        file.truncate(8 << 20)
    file_store = HostFile(path)
    extents = list(file_store.iter_extents(0, 8 << 20))
    assert sum(extent.length for extent in extents) == 8 << 20
    assert any(extent.is_zero for extent in extents)
    for extent in extents:
        if extent.is_zero:
            assert not any(file_store.read(extent.offset_bytes, extent.length))
    assert file_store.allocated_bytes < 1 << 20
    file_store.close()
    file_store.close()


@pytest.mark.parametrize("kind", ["folder", "fifo", "missing", "link to nothing"])
def test_what_is_no_file_is_refused_without_waiting(tmp_path: Path, kind: str) -> None:
    path = tmp_path / "x"
    if kind == "folder":
        path.mkdir()
    elif kind == "fifo":
        os.mkfifo(path)
    elif kind == "link to nothing":
        path.symlink_to("nothing")
    with pytest.raises(MissingError):
        open_image(path)


def test_a_read_past_the_end_names_the_file_and_the_way_out(tmp_path: Path) -> None:
    (tmp_path / "short").write_bytes(bytes(100))
    file = HostFile(tmp_path / "short")
    with pytest.raises(TruncatedError, match="is truncated or damaged: the file ends at byte"):
        file.read(90, 20)
    with pytest.raises(TypeError):
        file.write(0, b"x")


@pytest.mark.parametrize("size", [1, 511, 513, 4097])
def test_a_raw_image_that_ends_inside_a_sector_reads_on_as_zeros(tmp_path: Path, size: int) -> None:
    (tmp_path / "odd.raw").write_bytes(b"x" * size)
    image = RawImage(HostFile(tmp_path / "odd.raw", writable=True))
    assert image.size_bytes == -(-size // 512) * 512
    assert image.read(0, image.size_bytes) == (b"x" * size).ljust(image.size_bytes, b"\0")
    assert list(image.iter_extents(0, image.size_bytes))[-1].is_zero or size == image.size_bytes
    image.zero(0, image.size_bytes)
    assert not any(image.read(0, image.size_bytes))
    image.flush()
    image.close()


def test_an_output_comes_whole_or_not_at_all(tmp_path: Path) -> None:
    target = tmp_path / "out"
    with pytest.raises(ZeroDivisionError), OutputFile(target) as output:
        output.file.write(0, b"half")
        assert [path.stat().st_mode & 0o777 for path in tmp_path.iterdir()] == [0o600]
        raise ZeroDivisionError
    assert list(tmp_path.iterdir()) == []
    with OutputFile(target) as output:
        output.file.write(0, b"whole")
        assert not target.exists()
        output.commit()
    assert target.read_bytes() == b"whole"
    assert [path.name for path in tmp_path.iterdir()] == ["out"]


def test_a_name_that_is_taken_meanwhile_is_not_overwritten(tmp_path: Path) -> None:
    target = tmp_path / "out"
    with pytest.raises(OutputExistsError, match="in the meantime"), OutputFile(target) as output:
        target.write_text("precious")
        output.commit()
    assert target.read_text() == "precious"
    assert [path.name for path in tmp_path.iterdir()] == ["out"]


@pytest.mark.parametrize("code", [errno.EPERM, errno.EOPNOTSUPP])
def test_file_systems_without_hard_links_get_a_rename(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, code: int
) -> None:
    def no_links(*_args: object) -> None:
        raise OSError(code, "not here")

    monkeypatch.setattr(os, "link", no_links)
    write_small_file(tmp_path / "a", b"content")
    assert (tmp_path / "a").read_bytes() == b"content"
    with pytest.raises(OutputExistsError), OutputFile(tmp_path / "b") as output:
        (tmp_path / "b").write_text("precious")
        output.commit()
    assert (tmp_path / "b").read_text() == "precious"


def test_what_is_left_uncommitted_is_wiped_before_it_is_unlinked(tmp_path: Path) -> None:
    kept = tmp_path / "second-name"
    with pytest.raises(ZeroDivisionError), OutputFile(tmp_path / "out") as output:
        output.file.write(0, b"secret " * 100_000)
        os.link(output.file.path, kept)
        raise ZeroDivisionError
    assert kept.stat().st_size == 700_000
    assert not any(kept.read_bytes())


@pytest.mark.parametrize(
    ("code", "error"),
    [(errno.ENOSPC, NoSpaceError), (errno.EDQUOT, NoSpaceError), (errno.EIO, UnfinishedError)],
)
def test_failures_of_the_environment_are_told_by_cause(code: int, error: type[Exception]) -> None:
    found = environment_error(OSError(code, os.strerror(code)), Path("out.disk"), "writing")
    assert type(found) is error
    assert "writing" in found.message
    assert "out.disk" in found.message


def test_formats_that_are_none_are_refused() -> None:
    with pytest.raises(UsageError, match="the format 'tar' is not known"):
        ContainerSpec("tar")
    with pytest.raises(UsageError, match="cannot be compressed"):
        ContainerSpec("raw", compress="small")
    with pytest.raises(UsageError, match="zstd is for qcow2 only"):
        ContainerSpec("vmdk", compress="zstd")
    with pytest.raises(UsageError, match="choose from small, fast, zstd"):
        ContainerSpec("qcow2", compress="best")
    with pytest.raises(UsageError, match="no fixed form"):
        ContainerSpec("qcow2", fixed=True)
    with pytest.raises(UsageError, match="--preallocate"):
        ContainerSpec("vmdk", preallocate=True)


def test_a_full_file_system_is_told_while_writing(tmp_path: Path) -> None:
    with mounted(tmp_path / "small", "-t", "tmpfs", "-o", "size=64k", "none") as small:
        with pytest.raises(NoSpaceError), OutputFile(small / "o") as output:
            output.file.write(0, bytes(1 << 20))
        assert list(small.iterdir()) == []


def sparse(path: Path) -> bytes:
    with path.open("wb") as file:
        file.seek(5 << 20)
        file.write(b"tide" * 1000)
        file.truncate(64 << 20)
    return path.read_bytes()


def test_a_copied_image_keeps_its_holes(tmp_path: Path) -> None:
    content = sparse(tmp_path / "a")
    copy_image_file(tmp_path / "a", tmp_path / "b")
    assert (tmp_path / "b").read_bytes() == content
    assert (tmp_path / "b").stat().st_blocks * 512 < 1 << 20
    with pytest.raises(UnfinishedError):
        copy_image_file(tmp_path / "a", tmp_path / "b")


def test_a_copied_image_shares_its_blocks_where_the_host_can(tmp_path: Path) -> None:
    disk = tmp_path / "btrfs.disk"
    with disk.open("wb") as file:
        file.truncate(256 << 20)
    run("mkfs.btrfs", "-q", disk)
    with mounted(tmp_path / "m", "-o", "loop", disk) as folder:
        (folder / "a").write_bytes(os.urandom(100 << 20))
        os.sync()
        before = shutil.disk_usage(folder).free
        copy_image_file(folder / "a", folder / "b")
        os.sync()
        assert shutil.disk_usage(folder).free > before - (20 << 20)
        assert (folder / "b").read_bytes() == (folder / "a").read_bytes()


def test_what_fast_compression_needs_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(importlib.util, "find_spec", lambda _name: None)
    with pytest.raises(UsageError, match="needs the package isal"):
        get_packer("fast")
