"""qcow2 both ways: what qemu-img makes is read identically, what we write it accepts."""

from __future__ import annotations

import contextlib
import random
import zlib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.oracles import image_info, judge_qcow2, run, to_raw
from zeroseal.errors import MissingError, UnsupportedError, ZeroSealError
from zeroseal.images.compression import COMPRESSIONS
from zeroseal.images.create import ContainerSpec, create_image
from zeroseal.images.detect import open_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.output import OutputFile
from zeroseal.images.qcow2.write import WritableQcow2

SIZE = 3 * 1024 * 1024 + 512 * 7


def patterned_raw(path: Path, seed: int = 1) -> bytes:
    chance = random.Random(seed)
    content = bytearray(SIZE)
    for _ in range(12):
        start, length = chance.randrange(SIZE - 200_000), chance.randrange(1, 200_000)
        content[start : start + length] = (chance.randbytes(50) * (length // 50 + 1))[:length]
    path.write_bytes(content)
    return bytes(content)


def new_qcow2(path: Path, cluster_bits: int) -> WritableQcow2:
    path.write_bytes(b"")
    return WritableQcow2.create(HostFile(path, writable=True), SIZE, cluster_bits)


@pytest.mark.parametrize(
    "options",
    [
        ["-o", "compat=0.10"],
        ["-o", "cluster_size=512"],
        ["-o", "cluster_size=2M"],
        ["-o", "refcount_bits=1"],
        ["-o", "refcount_bits=64"],
        ["-o", "lazy_refcounts=on"],
        ["-o", "preallocation=full"],
        ["-c"],
        ["-c", "-o", "cluster_size=4096"],
    ],
    ids=" ".join,
)
def test_what_qemu_makes_is_read_identically(tmp_path: Path, options: list[str]) -> None:
    content = patterned_raw(tmp_path / "a.raw")
    run("qemu-img", "convert", "-O", "qcow2", *options, tmp_path / "a.raw", tmp_path / "a.qcow2")
    image = open_image(tmp_path / "a.qcow2")
    assert image.size_bytes == SIZE
    assert image.read(0, SIZE) == content
    for extent in image.iter_extents(0, SIZE):
        if extent.is_zero:
            assert not any(content[extent.offset_bytes : extent.offset_bytes + extent.length])
    image.close()


def test_a_backing_chain_is_read_through(tmp_path: Path) -> None:
    content = bytearray(patterned_raw(tmp_path / "base.raw"))
    run("qemu-img", "create", "-f", "qcow2", "-b", "base.raw", "-F", "raw", tmp_path / "mid.qcow2")
    run("qemu-img", "create", "-f", "qcow2", "-b", "mid.qcow2", "-F", "qcow2",
        tmp_path / "top.qcow2", str(SIZE + 65536))  # fmt: skip
    run("qemu-io", "-c", "write -P 0x5a 100k 300k", tmp_path / "mid.qcow2")
    run("qemu-io", "-c", "write -z 200k 64k", "-c", "write -P 7 1M 4k", tmp_path / "top.qcow2")
    content[100 << 10 : 400 << 10] = b"\x5a" * (300 << 10)
    content[200 << 10 : 264 << 10] = bytes(64 << 10)
    content[1 << 20 : (1 << 20) + 4096] = b"\7" * 4096
    image = open_image(tmp_path / "top.qcow2")
    assert [path.name for path in image.chain] == ["top.qcow2", "mid.qcow2", "base.raw"]
    assert image.read(0, image.size_bytes) == bytes(content).ljust(image.size_bytes, b"\0")
    image.close()


@pytest.mark.parametrize("seed", range(12))
def test_random_writes_match_a_bytearray_and_qemu(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    bits = chance.choice([9, 12, 16])
    path = tmp_path / "x.qcow2"
    image, model = new_qcow2(path, bits), bytearray(SIZE)
    for _ in range(50):
        start = chance.randrange(SIZE)
        length = min(SIZE - start, chance.choice([1, 100, 5000, 200_000]))
        kind = chance.random()
        if kind < 0.5:
            data = chance.randbytes(length)
            image.write(start, data)
            model[start : start + length] = data
        elif kind < 0.75:
            image.zero(start, length)
            model[start : start + length] = bytes(length)
        else:
            cluster = 1 << bits
            start -= start % cluster
            data = (chance.randbytes(cluster // 8) * 8)[: SIZE - start].ljust(cluster, b"\0")
            deflater = zlib.compressobj(6, zlib.DEFLATED, -12)
            packed = deflater.compress(data) + deflater.flush()
            if len(packed) < cluster:
                image.write_compressed(start, packed)
                model[start : start + cluster] = data[: SIZE - start]
        if chance.random() < 0.05:
            image.flush()
            image.close()
            image = WritableQcow2(HostFile(path, writable=True))
    assert image.read(0, SIZE) == model
    image.flush()
    image.close()
    judge_qcow2(path)
    assert to_raw(path, tmp_path / "x.raw").read_bytes() == model


def test_writes_over_a_backing_file_leave_it_alone(tmp_path: Path) -> None:
    content = bytearray(patterned_raw(tmp_path / "base.raw"))
    before = (tmp_path / "base.raw").read_bytes()
    for compat in ("0.10", "1.1"):
        top = tmp_path / f"top-{compat}.qcow2"
        run("qemu-img", "create", "-f", "qcow2", "-o", f"compat={compat}", "-b", "base.raw",
            "-F", "raw", top)  # fmt: skip
        backing = open_image(tmp_path / "base.raw")
        image = WritableQcow2(HostFile(top, writable=True), backing)
        image.write(70_000, b"tide" * 1000)
        image.zero(0, 65536 * 3)
        image.flush()
        image.close()
        model = bytes(65536 * 3) + bytes(content[65536 * 3 :])
        judge_qcow2(top)
        assert to_raw(top, tmp_path / "t.raw").read_bytes() == model
        assert (tmp_path / "base.raw").read_bytes() == before


def test_writing_after_a_snapshot_keeps_the_snapshot(tmp_path: Path) -> None:
    content = patterned_raw(tmp_path / "a.raw")
    path = tmp_path / "a.qcow2"
    run("qemu-img", "convert", "-O", "qcow2", tmp_path / "a.raw", path)
    run("qemu-img", "snapshot", "-c", "before", path)
    image = WritableQcow2(HostFile(path, writable=True))
    assert image.snapshots == ["before"]
    image.write(0, b"changed" * 30_000)
    image.flush()
    image.close()
    judge_qcow2(path)
    run("qemu-img", "snapshot", "-a", "before", path)
    assert to_raw(path, tmp_path / "b.raw").read_bytes() == content


def test_freed_clusters_hold_nothing_any_more(tmp_path: Path) -> None:
    path = tmp_path / "x.qcow2"
    image = new_qcow2(path, 16)
    image.write(0, b"secret-canary " * 20_000)
    image.flush()
    image.zero(0, SIZE)
    image.flush()
    image.close()
    assert b"secret-canary" not in path.read_bytes()


@pytest.mark.parametrize(
    ("format_name", "compress"),
    [("raw", ""), ("qcow2", ""), *(("qcow2", kind) for kind in COMPRESSIONS)],
)
def test_a_created_image_holds_what_it_was_given(
    tmp_path: Path, format_name: str, compress: str
) -> None:
    content = patterned_raw(tmp_path / "a.raw", seed=5)
    target = tmp_path / "out.disk"
    with OutputFile(target) as output:
        spec = ContainerSpec(format_name, compress)
        writer = create_image(output.file, spec, SIZE, target.name)
        for start in range(0, SIZE, 65536):
            piece = content[start : start + 65536]
            if any(piece):
                writer.write(start, piece)
        writer.finish()
        output.commit()
    assert image_info(target)["format"] == format_name
    assert to_raw(target, tmp_path / "b.raw").read_bytes() == content
    if format_name == "qcow2":
        judge_qcow2(target)
        details = image_info(target)["format-specific"]["data"]
        assert details["compression-type"] == ("zstd" if compress == "zstd" else "zlib")
    assert target.stat().st_mode & 0o777 == 0o644
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a.raw", "b.raw", "out.disk"]


def test_an_encrypted_image_is_refused_by_name(tmp_path: Path) -> None:
    path = tmp_path / "a.qcow2"
    run("qemu-img", "create", "-f", "qcow2", "--object", "secret,id=s,data=x", "-o",
        "encrypt.format=luks,encrypt.key-secret=s", path, "4M")  # fmt: skip
    with pytest.raises(UnsupportedError, match="encrypted"):
        open_image(path)


@pytest.mark.parametrize("options", ["compat=1.1", "extended_l2=on", "refcount_bits=64"])
def test_bitmaps_are_dropped_by_a_change(tmp_path: Path, options: str) -> None:
    content = bytearray(patterned_raw(tmp_path / "a.raw"))
    path = tmp_path / "a.qcow2"
    run("qemu-img", "convert", "-O", "qcow2", "-o", options, tmp_path / "a.raw", path)
    for name in ("b", "c"):
        run("qemu-img", "bitmap", "--add", path, name)
    run("qemu-io", "-c", "write -P 9 0 1M", path)
    content[: 1 << 20] = b"\x09" * (1 << 20)
    assert any("2 dirty bitmap" in remark for remark in open_image(path).remarks)
    image = WritableQcow2(HostFile(path, writable=True))
    image.write(70_000, b"x")
    content[70_000] = ord("x")
    image.flush()
    image.close()
    judge_qcow2(path)
    assert "bitmaps" not in image_info(path)["format-specific"]["data"]
    assert to_raw(path, tmp_path / "b.raw").read_bytes() == content


def test_a_missing_link_and_a_loop_of_a_chain_are_told(tmp_path: Path) -> None:
    patterned_raw(tmp_path / "base.raw")
    top = tmp_path / "top.qcow2"
    run("qemu-img", "create", "-f", "qcow2", "-b", "base.raw", "-F", "raw", top)
    (tmp_path / "base.raw").unlink()
    with pytest.raises(MissingError, match=r"base\.raw"):
        open_image(top)
    run("qemu-img", "rebase", "-u", "-b", "top.qcow2", "-F", "qcow2", top)
    with pytest.raises(UnsupportedError, match="loop"):
        open_image(top)


@given(st.data())
def test_damaged_images_raise_only_our_errors(tmp_path: Path, data: st.DataObject) -> None:
    if not (tmp_path / "a.qcow2").exists():
        patterned_raw(tmp_path / "a.raw")
        run("qemu-img", "convert", "-c", "-O", "qcow2", "-o", "cluster_size=4096",
            tmp_path / "a.raw", tmp_path / "a.qcow2")  # fmt: skip
    raw = bytearray((tmp_path / "a.qcow2").read_bytes())
    for _ in range(data.draw(st.integers(1, 8))):
        place = data.draw(st.one_of(st.integers(4, 111), st.integers(4096, 40_000)))
        raw[place] = data.draw(st.integers(0, 255))
    raw = raw[: data.draw(st.sampled_from([len(raw), len(raw), 200, 60, 20_000, len(raw) - 3000]))]
    (tmp_path / "b.qcow2").write_bytes(raw)
    with contextlib.suppress(ZeroSealError):
        image = open_image(tmp_path / "b.qcow2")
        for extent in image.iter_extents(0, min(image.size_bytes, SIZE)):
            for start in range(extent.offset_bytes, extent.offset_bytes + extent.length, 1 << 20):
                image.read(start, min(1 << 20, extent.offset_bytes + extent.length - start))
        image.close()
