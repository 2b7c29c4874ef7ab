"""Every container both ways: what qemu-img makes is read identically, what we write it accepts."""

from __future__ import annotations

import contextlib
import re
import struct
import uuid
from pathlib import Path

import crc32c
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.containers import (
    SIZE,
    SPECS,
    change_at_random,
    judge_container,
    make_image,
    name_of,
    pattern,
)
from tests.oracles import image_info, run
from zeroseal.errors import (
    DamagedError,
    MissingError,
    RefusedError,
    UnsupportedError,
    ZeroSealError,
)
from zeroseal.images.create import ContainerSpec, create_image
from zeroseal.images.detect import open_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.in_place import InPlaceChange
from zeroseal.images.vhdx.read import VhdxImage
from zeroseal.images.vhdx.write import WritableVhdx

PACKED = [ContainerSpec("vmdk", compress="small"), ContainerSpec("vmdk", compress="fast")]
# (QEMU's format, its options, how we name what it is)
MADE_BY_QEMU = [
    ("qcow2", "compat=0.10", "version 2"),
    ("qcow2", "cluster_size=512", "version 3"),
    ("qcow2", "cluster_size=2M,refcount_bits=1", "version 3"),
    ("qcow2", "refcount_bits=2", "version 3"),
    ("qcow2", "refcount_bits=4", "version 3"),
    ("qcow2", "extended_l2=on", "version 3, subclusters"),
    ("qcow2", "extended_l2=on,cluster_size=16k", "version 3, subclusters"),
    ("vmdk", "subformat=monolithicSparse", "sparse"),
    ("vmdk", "subformat=monolithicFlat", "flat"),
    ("vmdk", "subformat=twoGbMaxExtentSparse", "split, sparse"),
    ("vmdk", "subformat=twoGbMaxExtentFlat", "split, flat"),
    ("vmdk", "subformat=streamOptimized", "stream-optimized"),
    ("vmdk", "zeroed_grain=on", "sparse"),
    ("vmdk", "compat6=on", "sparse"),
    ("vhdx", "subformat=dynamic", "dynamic"),
    ("vhdx", "subformat=fixed", "fixed"),
    ("vhdx", "block_size=1M,log_size=2M", "dynamic"),
    ("vhdx", "block_size=256M,block_state_zero=off", "dynamic"),
    ("vpc", "subformat=dynamic", "dynamic"),
    ("vpc", "subformat=fixed", "fixed"),
    ("vpc", "subformat=dynamic,force_size=on", "dynamic"),
    ("vpc", "subformat=fixed,force_size=on", "fixed"),
    ("vdi", "static=off", "dynamic"),
    ("vdi", "static=on", "fixed"),
]


@pytest.mark.parametrize(("kind", "options", "variant"), MADE_BY_QEMU, ids=lambda value: value)
def test_what_qemu_makes_is_read_and_changed_identically(
    tmp_path: Path, kind: str, options: str, variant: str
) -> None:
    raw, path = tmp_path / "a.raw", tmp_path / "a.disk"
    raw.write_bytes(pattern())
    run("qemu-img", "convert", "-O", kind, "-o", options, raw, path)
    run("qemu-io", "-f", kind, "-c", "write -P 0x5a 64k 64k", "-c", "write -z 2M 1M", path)
    run("qemu-img", "convert", "-f", kind, "-O", "raw", path, tmp_path / "b.raw")
    content = (tmp_path / "b.raw").read_bytes()
    image = open_image(path)
    assert image.variant == variant
    assert image.size_bytes == len(content) == image_info(path)["virtual-size"] or kind == "vpc"
    assert image.read(0, image.size_bytes) == content
    for extent in image.iter_extents(0, image.size_bytes):
        if extent.is_zero:
            end = extent.offset_bytes + extent.length
            assert not any(content[extent.offset_bytes : end])
    image.close()
    if len(image.files) > 1 or variant == "stream-optimized":
        with pytest.raises((RefusedError, UnsupportedError), match="write a new file"):
            InPlaceChange(path)
        return
    model = bytearray(content)
    change_at_random(path, model, seed=len(options))
    judge_container(path, "vhd" if kind == "vpc" else kind, bytes(model))


@pytest.mark.parametrize("compression", ["zlib", "zstd"])
def test_compressed_clusters_are_read_and_replaced(tmp_path: Path, compression: str) -> None:
    raw, path = tmp_path / "a.raw", tmp_path / "a.qcow2"
    raw.write_bytes(pattern(3))
    options = f"compression_type={compression},cluster_size=32k"
    run("qemu-img", "convert", "-c", "-O", "qcow2", "-o", options, raw, path)
    image = open_image(path)
    assert image.read(0, SIZE) == raw.read_bytes()
    image.close()
    model = bytearray(raw.read_bytes())
    change_at_random(path, model, seed=5, steps=15)
    judge_container(path, "qcow2", bytes(model))


@pytest.mark.parametrize("raw_data", ["on", "off"])
def test_an_external_data_file_is_read(tmp_path: Path, raw_data: str) -> None:
    path, content = tmp_path / "a.qcow2", bytearray(SIZE)
    run("qemu-img", "create", "-f", "qcow2", "-o",
        f"data_file={tmp_path / 'side.bin'},data_file_raw={raw_data}", path, str(SIZE))  # fmt: skip
    run("qemu-io", "-c", "write -P 7 0 64k", "-c", "write -P 9 3M 100k", path)
    content[:65536] = b"\7" * 65536
    content[3 << 20 : (3 << 20) + 102400] = b"\x09" * 102400
    image = open_image(path)
    assert image.read(0, SIZE) == content
    assert [file.path.name for file in image.files] == ["a.qcow2", "side.bin"]
    image.close()
    with pytest.raises(RefusedError, match="external data file"):
        InPlaceChange(path)
    (tmp_path / "side.bin").unlink()
    with pytest.raises(MissingError, match=r"side\.bin"):
        open_image(path)


@pytest.mark.parametrize("spec", [*SPECS, *PACKED], ids=name_of)
def test_what_we_make_and_change_qemu_reads_identically(
    tmp_path: Path, spec: ContainerSpec
) -> None:
    content = pattern(7)
    path = make_image(tmp_path / "a.disk", spec, content)
    judge_container(path, spec.format_name, content)
    image = open_image(path)
    assert (image.format_name, image.size_bytes) == (spec.format_name, SIZE)
    assert image.read(0, SIZE) == content
    image.close()
    if spec.compress:
        return
    model = bytearray(content)
    for seed in range(4):
        change_at_random(path, model, seed)
        judge_container(path, spec.format_name, bytes(model))


@pytest.mark.parametrize("size", [512, 1 << 20, (1 << 20) + 512, 300 * 1000 * 1024, 40 << 30])
@pytest.mark.parametrize("name", ["qcow2", "vmdk", "vhdx", "vhd", "vdi"])
def test_sizes_are_kept_to_the_byte(tmp_path: Path, name: str, size: int) -> None:
    path = tmp_path / "a.disk"
    path.touch()
    writer = create_image(HostFile(path, writable=True), ContainerSpec(name), size, "a.disk")
    writer.write((size - 1) // 65536 * 65536, b"x" * min(512, size))
    writer.finish()
    assert open_image(path).size_bytes == size
    assert image_info(path)["virtual-size"] == size
    assert path.stat().st_blocks * 512 < 32 << 20


def give_content_id(path: Path, digits: str) -> None:
    """Writes a content ID as qemu-img does, which leaves out leading zeros."""
    raw = path.read_bytes()
    start = raw.index(b"\nCID=") + 5
    end = raw.index(b"\n", start)
    length = raw.index(b"\0", start)
    text = raw[:start] + digits.encode() + raw[end:length]
    path.write_bytes(text.ljust(length + 8, b"\0")[: length + 8] + raw[length + 8 :])


@pytest.mark.parametrize("digits", [8, 7])
def test_a_vmdk_reads_through_its_parent_and_knows_another(tmp_path: Path, digits: int) -> None:
    content = bytearray(pattern())
    (tmp_path / "a.raw").write_bytes(content)
    run("qemu-img", "convert", "-O", "vmdk", tmp_path / "a.raw", tmp_path / "base.vmdk")
    give_content_id(tmp_path / "base.vmdk", "9abcdef0"[-digits:])
    top = tmp_path / "top.vmdk"
    run("qemu-img", "create", "-f", "vmdk", "-b", "base.vmdk", "-F", "vmdk", top)
    run("qemu-io", "-c", "write -P 0x5a 100k 300k", top)
    content[100 << 10 : 400 << 10] = b"\x5a" * (300 << 10)
    image = open_image(top)
    assert image.read(0, SIZE) == content
    assert [path.name for path in image.chain] == ["top.vmdk", "base.vmdk"]
    image.close()
    with pytest.raises(RefusedError, match="parent"):
        InPlaceChange(top)
    with InPlaceChange(tmp_path / "base.vmdk") as change:
        change.image.write(0, b"x")
        change.commit()
    with pytest.raises(RefusedError, match="was changed after"):
        open_image(top)
    (tmp_path / "base.vmdk").unlink()
    with pytest.raises(MissingError, match=r"base\.vmdk"):
        open_image(top)


def test_a_damaged_grain_of_a_stream_is_told_from_a_sound_one(tmp_path: Path) -> None:
    path = make_image(tmp_path / "a.vmdk", ContainerSpec("vmdk", compress="small"), pattern(2))
    raw = bytearray(path.read_bytes())
    raw[65536 + 12 + 20] ^= 0xFF  # inside the first grain's stream
    path.write_bytes(raw)
    image = open_image(path)
    with pytest.raises(DamagedError, match="grain"):
        for start in range(0, SIZE, 65536):
            image.read(start, min(65536, SIZE - start))
    path.write_bytes(raw[:-512])
    with pytest.raises(DamagedError, match="without its end"):
        open_image(path)


def test_a_stream_has_the_strict_layout(tmp_path: Path) -> None:
    """Markers, tables behind their grains, footer and end, as the published note has them."""
    content = b"tide" * (40 << 20 >> 2)
    raw = make_image(
        tmp_path / "a.vmdk", ContainerSpec("vmdk", compress="small"), content
    ).read_bytes()
    assert raw[:4] == b"KDMV"
    assert struct.unpack_from("<Q", raw, 56)[0] == (1 << 64) - 1
    assert raw[-512:] == bytes(512)
    assert struct.unpack_from("<QII", raw, len(raw) - 1536) == (1, 0, 3)
    (directory_sector,) = struct.unpack_from("<Q", raw, len(raw) - 1024 + 56)
    position, kinds, grains = 65536, [], 0
    while position < len(raw) - 1536:
        value, size, kind = struct.unpack_from("<QII", raw, position)
        if size:  # a grain
            assert value == grains * 128
            grains += 1
            position += -(-(12 + size) // 512) * 512
        else:
            kinds.append((kind, grains))
            if kind == 2:
                assert position // 512 + 1 == directory_sector
            position += 512 + value * 512
    assert grains == 640
    assert kinds == [(1, 512), (1, 640), (2, 640)]


def test_a_vhdx_with_a_log_to_replay(tmp_path: Path) -> None:
    """QEMU leaves its last log entries in place: make them count again, and undo what they did."""
    path = tmp_path / "a.vhdx"
    run("qemu-img", "create", "-f", "vhdx", "-o", "block_size=1M", path, "8M")
    run("qemu-io", "-f", "vhdx", "-c", "write -P 7 0 3M", "-c", "write -P 9 5M 1M", path)
    run("qemu-img", "convert", "-O", "raw", path, tmp_path / "want.raw")
    raw = bytearray(path.read_bytes())
    entries = [at for at in range(1 << 20, 2 << 20, 4096) if raw[at : at + 4] == b"loge"]
    log_id = next(
        bytes(raw[at + 32 : at + 48]) for at in sorted(entries, key=lambda at: raw[at + 16])[-1:]
    )
    for at in entries:
        for number in range(struct.unpack_from("<I", raw, at + 24)[0]):
            kind, target = struct.unpack_from("<4s12xQ", raw, at + 64 + 32 * number)
            if kind == b"desc" and raw[at + 32 : at + 48] == log_id:
                raw[target : target + 4096] = bytes(4096)
    at = max((65536, 131072), key=lambda at: struct.unpack_from("<Q", raw, at + 8)[0])
    raw[at + 48 : at + 64] = log_id
    raw[at + 4 : at + 8] = bytes(4)
    raw[at + 4 : at + 8] = crc32c.crc32c(bytes(raw[at : at + 4096])).to_bytes(4, "little")
    path.write_bytes(raw)
    assert "log" in run("qemu-img", "check", path, status=1) + "log"
    image = open_image(path)
    assert image.read(0, 8 << 20) == (tmp_path / "want.raw").read_bytes()
    assert "its log" in image.remarks[0]
    assert path.read_bytes() == raw  # replayed in memory only
    image.close()
    with InPlaceChange(path) as change:
        change.image.write(0, b"tide")
        change.commit()
    judge_container(path, "vhdx", b"tide" + (tmp_path / "want.raw").read_bytes()[4:])
    raw[at + 48] ^= 1  # a log id that no entry has
    raw[at + 4 : at + 8] = bytes(4)
    raw[at + 4 : at + 8] = crc32c.crc32c(bytes(raw[at : at + 4096])).to_bytes(4, "little")
    path.write_bytes(raw)
    with pytest.raises(DamagedError, match="has no entry that can be replayed"):
        open_image(path)


def test_the_newer_sound_header_of_a_vhdx_counts(tmp_path: Path) -> None:
    path = make_image(tmp_path / "a.vhdx", ContainerSpec("vhdx"), pattern())
    raw = bytearray(path.read_bytes())
    raw[131072 + 100] ^= 1
    raw[192 * 1024 + 100] ^= 1  # the first region table, too
    path.write_bytes(raw)
    assert open_image(path).read(0, SIZE) == pattern()
    raw[65536 + 100] ^= 1
    path.write_bytes(raw)
    with pytest.raises(DamagedError, match="without a valid header"):
        open_image(path)


def test_a_vhdx_of_large_sectors_is_read_and_changed(tmp_path: Path) -> None:
    """qemu-img reads none: its tables are compared with what the specification works out."""
    path, content = tmp_path / "a.vhdx", pattern(size=8 << 20)
    path.touch()
    file = HostFile(path, writable=True)
    made = WritableVhdx.create(file, 8 << 20, sector_bytes=4096)
    made.write(0, content)
    made.flush()
    made.close()
    assert struct.unpack_from("<I", path.read_bytes(), (2 << 20) + (64 << 10) + 32) == (4096,)
    model = bytearray(content)
    change_at_random(path, model, seed=3)
    image = open_image(path)
    assert isinstance(image, VhdxImage)
    assert image.read(0, 8 << 20) == model
    assert image.metadata.chunk_ratio == (1 << 23) * 4096 >> 20
    image.close()


def test_a_dynamic_vhd_is_read_by_the_copy_of_its_footer(tmp_path: Path) -> None:
    path = make_image(tmp_path / "a.vhd", ContainerSpec("vhd"), pattern())
    raw = path.read_bytes()
    path.write_bytes(raw[:-100] + bytes(100))
    assert open_image(path).read(0, SIZE) == pattern()


def differencing_vhd(base: Path, top: Path, present: dict[int, bytes]) -> None:
    """Makes a child of a VHD by hand: no program here does. ``present`` is sector to content."""
    top.write_bytes(b"")
    raw = bytearray(make_image(top, ContainerSpec("vhd"), pattern()).read_bytes())
    blocks = {sector * 512 // (2 << 20) for sector in present}
    footer = bytearray(raw[-512:])
    footer[60:64] = (4).to_bytes(4, "big")
    header = bytearray(raw[512:1536])
    header[40:56] = base.read_bytes()[-512 + 68 : -512 + 84]
    header[64 : 64 + 16] = "base.vhd".encode("utf-16-be")
    table = bytearray(b"\xff" * 512)
    data = b""
    first = 2048
    for block in sorted(blocks):
        table[block * 4 : block * 4 + 4] = ((first + len(data)) // 512).to_bytes(4, "big")
        bitmap, content = bytearray(512), bytearray(b"\xee" * (2 << 20))
        for sector, text in present.items():
            number = sector - block * 4096
            if 0 <= number < 4096:
                bitmap[number // 8] |= 0x80 >> number % 8
                content[number * 512 : number * 512 + 512] = text
        data += bytes(bitmap + content)
    for part, place in ((footer, 64), (header, 36)):
        part[place : place + 4] = bytes(4)
        part[place : place + 4] = (~sum(part) & 0xFFFFFFFF).to_bytes(4, "big")
    top.write_bytes(bytes(footer + header + table) + data + bytes(footer))


def test_a_differencing_vhd_holds_the_sectors_that_its_bitmaps_mark(tmp_path: Path) -> None:
    base = make_image(tmp_path / "base.vhd", ContainerSpec("vhd"), pattern())
    present = {0: b"a" * 512, 5: b"b" * 512, 6: b"c" * 512, 4096: b"d" * 512, 9000: b"e" * 512}
    differencing_vhd(base, tmp_path / "top.vhd", present)
    want = bytearray(pattern())
    for sector, text in present.items():
        want[sector * 512 : sector * 512 + 512] = text
    image = open_image(tmp_path / "top.vhd")
    assert image.variant == "differencing"
    assert image.read(0, SIZE) == want
    image.close()
    with pytest.raises(RefusedError, match="differencing"):
        InPlaceChange(tmp_path / "top.vhd")
    make_image(base, ContainerSpec("vhd"), pattern())  # another disk of the same name
    with pytest.raises(RefusedError, match="created from another disk"):
        open_image(tmp_path / "top.vhd")


def test_a_differencing_vhdx_holds_the_sectors_that_its_bitmaps_mark(tmp_path: Path) -> None:
    base = make_image(tmp_path / "base.vhdx", ContainerSpec("vhdx"), pattern())
    top = make_image(tmp_path / "top.vhdx", ContainerSpec("vhdx"), bytes(SIZE))
    raw, base_raw = bytearray(top.read_bytes()), base.read_bytes()
    at = max((65536, 131072), key=lambda at: struct.unpack_from("<Q", base_raw, at + 8)[0])
    linkage = f"{{{uuid.UUID(bytes_le=base_raw[at + 32 : at + 48])}}}"
    pairs = [("parent_linkage", linkage), ("relative_path", ".\\base.vhdx")]
    locator, words = bytearray(20 + 12 * len(pairs)), b""
    struct.pack_into("<16sHH", locator, 0, bytes(16), 0, len(pairs))
    for number, (key, value) in enumerate(pairs):
        for column, text in ((0, key), (4, value)):
            encoded = text.encode("utf-16-le")
            struct.pack_into("<I", locator, 20 + 12 * number + column, len(locator) + len(words))
            struct.pack_into("<H", locator, 28 + 12 * number + column // 2, len(encoded))
            words += encoded
    item = bytes(locator) + words
    metadata = 2 << 20
    struct.pack_into("<H", raw, metadata + 10, 6)
    kind = uuid.UUID("A8D35F2D-B30B-454D-ABF7-D3D84834AB0C").bytes_le
    struct.pack_into("<16sIIII", raw, metadata + 32 + 5 * 32, kind, 0x11000, len(item), 4, 0)
    raw[metadata + 0x11000 : metadata + 0x11000 + len(item)] = item
    raw[metadata + 0x10004] |= 2  # has a parent
    table = 3 << 20
    chunk_ratio = (1 << 23) * 512 // (1 << 20)
    raw = raw.ljust(8 << 20, b"\0")
    content, bitmap = bytearray(b"\xee" * (1 << 20)), bytearray(1 << 20)
    for sector in (0, 3, 4, 2047):
        content[sector * 512 : sector * 512 + 512] = b"z" * 512
        bitmap[sector // 8 + 256] |= 1 << sector % 8  # the second block of the chunk
    raw[8 << 20 :] = content + bitmap
    struct.pack_into("<Q", raw, table + 8, 8 << 20 | 7)
    struct.pack_into("<Q", raw, table + 8 * chunk_ratio, 9 << 20 | 6)
    top.write_bytes(raw)
    want = bytearray(pattern())
    for sector in (0, 3, 4, 2047):
        want[(1 << 20) + sector * 512 : (1 << 20) + sector * 512 + 512] = b"z" * 512
    image = open_image(top)
    assert (image.variant, image.read(0, SIZE)) == ("differencing", bytes(want))
    image.close()
    with pytest.raises(RefusedError, match="differencing"):
        InPlaceChange(top)
    change_at_random(base, bytearray(pattern()), 1, 2)
    with pytest.raises(RefusedError, match="was changed after"):
        open_image(top)


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (("vdi", 0x4C, 4), "differencing type"),
        (("vdi", 0x44, 9), "version"),
        (("vdi", 0x178, 77), "blocks of 77 bytes"),
        (("vmdk", 4, 9), "version 9"),
        (("vmdk", 20, 77), "grains of 77 sectors"),
        (("vhdx", 65536 + 66, 9), "without a valid header|version"),
    ],
    ids=str,
)
def test_headers_that_make_no_sense_are_named(
    tmp_path: Path, change: tuple[str, int, int], told: str
) -> None:
    name, place, value = change
    path = make_image(tmp_path / "a.disk", ContainerSpec(name), pattern())
    raw = bytearray(path.read_bytes())
    raw[place : place + 4] = value.to_bytes(4, "little")
    if name == "vhdx":
        raw[131072 + 66] ^= 1
    path.write_bytes(raw)
    with pytest.raises((DamagedError, UnsupportedError), match=told):
        open_image(path)


def test_an_extent_in_another_folder_is_not_opened(tmp_path: Path) -> None:
    (tmp_path / "a.vmdk").write_text(
        '# Disk DescriptorFile\nversion=1\nCID=1\nparentCID=ffffffff\ncreateType="monolithicFlat"\n'
        'RW 8 FLAT "/etc/passwd" 0\n'
    )
    with pytest.raises(UnsupportedError, match="another folder"):
        open_image(tmp_path / "a.vmdk")
    text = (tmp_path / "a.vmdk").read_text()
    (tmp_path / "a.vmdk").write_text(text.replace("FLAT", "VMFSSPARSE"))
    with pytest.raises(UnsupportedError, match="sparse extent of an ESX host"):
        open_image(tmp_path / "a.vmdk")
    (tmp_path / "a.vmdk").write_text(re.sub("RW.*", "", text))
    with pytest.raises(DamagedError, match="without extents"):
        open_image(tmp_path / "a.vmdk")


@pytest.mark.parametrize("spec", [*SPECS[1:], ContainerSpec("vmdk", compress="small")], ids=name_of)
@given(data=st.data())
def test_damaged_containers_raise_only_our_errors(
    tmp_path: Path, spec: ContainerSpec, data: st.DataObject
) -> None:
    path = tmp_path / "a.disk"
    if not path.exists():
        make_image(path, spec, pattern(size=3 << 20))
    raw = bytearray(path.read_bytes())
    places = st.one_of(st.integers(0, 600), st.integers(0, len(raw) - 1), st.integers(-600, -1))
    places = st.one_of(places, st.sampled_from([65536, 65540, 131080, 196616, 3 << 20]))
    for _ in range(data.draw(st.integers(1, 8))):
        raw[data.draw(places) % len(raw)] = data.draw(st.integers(0, 255))
    raw = raw[: data.draw(st.sampled_from([len(raw), len(raw), 200, 70_000, len(raw) - 700]))]
    (tmp_path / "b.disk").write_bytes(raw)
    with contextlib.suppress(ZeroSealError):
        image = open_image(tmp_path / "b.disk")
        for extent in image.iter_extents(0, min(image.size_bytes, SIZE)):
            for start in range(extent.offset_bytes, extent.offset_bytes + extent.length, 1 << 20):
                image.read(start, min(1 << 20, extent.offset_bytes + extent.length - start))
        image.close()
    with contextlib.suppress(ZeroSealError), InPlaceChange(tmp_path / "b.disk") as change:
        change.image.write(0, b"x" * 70_000)
        change.image.zero(100_000, 300_000)
        change.commit()
