"""LVM2 as its own programs make it: read in place, changed, refused by name."""

from __future__ import annotations

import contextlib
import json
import random
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from tests.lvm import lvm_disk, opened_lvm, put, take
from tests.oracles import find_texts, judge_ext, run
from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import UnsupportedError, ZeroSealError
from zeroseal.filesystems.drivers import read_disk
from zeroseal.images.detect import open_image
from zeroseal.images.in_place import InPlaceChange
from zeroseal.volumes.lvm.read import read_logical_volumes, read_physical_volume
from zeroseal.volumes.lvm.text import parse_text
from zeroseal.volumes.volume import Volume


def volume_of(raw: Path, name: str) -> Volume:
    disk = read_disk(MemoryStore(raw.read_bytes()))
    return {volume.name: volume for volume in disk.volumes}[f"tide-vg/{name}"]


def test_linear_striped_and_scattered_volumes_are_read_and_written(tmp_path: Path) -> None:
    raw, chance = tmp_path / "d.raw", random.Random(1)
    with lvm_disk(raw, 40, 40, 40) as disk:
        disk.create("plain", 24)
        disk.create("spread", 12, "-i", "3", "-I", "64k")
        disk.create("late", 4)
        disk.call("lvextend", "-L", "50M", "tide-vg/plain")  # other extents, other volumes
        places = {name: disk.places(name) for name in ("plain", "spread", "late")}
    assert len(places["plain"]) > 1
    assert len(places["spread"]) == 192
    for name, where in places.items():
        content = chance.randbytes(sum(length for _offset, length in where))
        put(raw, where, content)
        store = volume_of(raw, name).store
        assert store.size_bytes == len(content)
        assert store.read(0, len(content)) == content
        assert store.read(100_000, 500_000) == content[100_000:600_000]
    model = bytearray(take(raw, places["spread"]))
    with InPlaceChange(raw) as change:
        volumes = {volume.name: volume for volume in read_disk(change.image).volumes}
        store = volumes["tide-vg/spread"].store
        for _ in range(30):
            start, length = chance.randrange(len(model) - 300_000), chance.randrange(300_000)
            if chance.random() < 0.5:
                data = chance.randbytes(length)
                store.write(start, data)
                model[start : start + length] = data
            else:
                store.zero(start, length)
                model[start : start + length] = bytes(length)
        change.commit()
    assert take(raw, places["spread"]) == model


def lvm_crc(raw: bytes) -> int:
    """LVM's checksum, bit by bit."""
    value = 0xF597A6CF
    for byte in raw:
        value ^= byte
        for _ in range(8):
            value = value >> 1 ^ (0xEDB88320 if value & 1 else 0)
    return value


def test_metadata_that_wraps_around_its_area(tmp_path: Path) -> None:
    """Its text is moved to the end of the ring, as the thousandth change would have it."""
    raw = tmp_path / "d.raw"
    with lvm_disk(raw, 16) as disk:
        disk.create("one", 2)
        content = bytearray(raw.read_bytes())
        area = (1 << 20) + 4096
        size, offset, length = (
            int.from_bytes(content[area + at : area + at + 8], "little") for at in (32, 40, 48)
        )
        text = content[area + offset : area + offset + length]
        content[area + offset : area + offset + length] = bytes(length)
        content[area + size - 512 : area + size] = text[:512]
        content[area + 512 : area + 512 + length - 512] = text[512:]
        content[area + 40 : area + 48] = (size - 512).to_bytes(8, "little")
        content[area : area + 4] = lvm_crc(bytes(content[area + 4 : area + 512])).to_bytes(
            4, "little"
        )
        raw.write_bytes(content)
        places = disk.places("one")  # LVM itself still reads it
    put(raw, places, b"tide" * (2 << 20 >> 2))
    assert volume_of(raw, "one").store.read(0, 8) == b"tidetide"


@pytest.mark.parametrize("kind", ["thin", "raid1", "snapshot", "cache", "mirror"])
def test_volumes_of_other_kinds_are_refused_by_name(tmp_path: Path, kind: str) -> None:
    raw = tmp_path / "d.raw"
    with lvm_disk(raw, 16) as disk:
        disk.create("root", 4)
        disk.call("vgcfgbackup", "-f", tmp_path / "text", "tide-vg")
        text = (tmp_path / "text").read_text()
    changed = text.replace('type = "striped"', f'type = "{kind}"', 1)
    parsed = parse_text(changed.encode(), "a text")
    assert parsed.keys() >= {"tide-vg", "contents", "version"}
    volume = read_physical_volume("partition 1", MemoryStore(raw.read_bytes()[1 << 20 : 17 << 20]))
    with pytest.raises(UnsupportedError, match=f"root is a {kind} volume"):
        read_logical_volumes([replace(volume, text=parsed)])


def test_a_group_of_which_a_part_is_elsewhere_is_refused(tmp_path: Path) -> None:
    raw = tmp_path / "d.raw"
    with lvm_disk(raw, 16, 16) as disk:
        disk.create("root", 4)
    run("sgdisk", "-d", "2", raw)
    with pytest.raises(UnsupportedError, match="which is not on this disk"):
        read_disk(open_image(raw))


def test_a_guest_on_lvm_is_sealed(tmp_path: Path, zeroseal: Command) -> None:
    # what lies beneath a mount point is not seen by the guest, and so by no trace
    files = {path: text for path, text in BARE_GUEST.items() if not path.startswith("/var/")} | {
        "/etc/fstab": "/dev/mapper/tide--vg-root--lv / ext4 defaults 0 1\n"
        "/dev/tide-vg/var /var ext4 defaults 0 2\n/dev/mapper/tide--vg-swap none swap sw 0 0\n",
        "/etc/hostname": "canary-host-name\n",
        "/var/.keep": "",
    }
    root = make_guest_volume(tmp_path, files)
    (tmp_path / "v" / "log").mkdir(parents=True)
    (tmp_path / "v" / "log" / "syslog").write_text("canary-log-line\n" * 500)
    var = tmp_path / "var.img"
    run("mke2fs", "-q", "-t", "ext4", "-d", tmp_path / "v", var, "8M")
    swap = tmp_path / "swap.img"
    swap.write_bytes(bytes(4 << 20))
    run("mkswap", "-q", swap)
    with swap.open("r+b") as file:
        file.seek(1 << 20)
        file.write(b"canary-in-swap")
    raw = tmp_path / "d.raw"
    megabytes = -(-root.stat().st_size // (1 << 20))
    with lvm_disk(raw, 40, 40) as disk:
        disk.create("root-lv", megabytes)
        disk.create("var", 8, "-i", "2", "-I", "4k")
        disk.create("swap", 4)
        places = {name: disk.places(name) for name in ("root-lv", "var", "swap")}
    for name, content in (("root-lv", root), ("var", var), ("swap", swap)):
        put(raw, places[name], content.read_bytes())
    policy = ("--expect-seed", "--plant-first-boot")
    told = zeroseal("survey", raw, "--as-if", *policy).out
    assert "tide-vg/root-lv on /, tide-vg/var on /var" in told
    sealed = tmp_path / "s.raw"
    answer = zeroseal("seal", raw, "-o", sealed, *policy)
    assert answer.status == 0, answer.err
    canaries = [b"canary-host-name", b"canary-log-line", b"canary-in-swap"]
    assert find_texts(raw, canaries) == set(canaries)
    assert find_texts(sealed, canaries) == set()
    for name in ("root-lv", "var"):
        cut = tmp_path / f"{name}.cut"
        cut.write_bytes(take(sealed, places[name]))
        judge_ext(cut)
    assert zeroseal("check", sealed).out.startswith("SEALED")


@given(data=st.data())
def test_damaged_metadata_raises_only_our_errors(tmp_path: Path, data: st.DataObject) -> None:
    kept = tmp_path / "kept.raw"
    if not kept.exists():
        with lvm_disk(kept, 8, 8) as disk:
            disk.create("a", 2)
            disk.create("b", 2, "-i", "2")
    raw = bytearray(kept.read_bytes())
    start = 1 << 20
    live = int.from_bytes(raw[start + 4096 + 40 : start + 4096 + 48], "little")
    text = start + 4096 + live
    places = st.one_of(
        st.integers(start + 512, start + 700),
        st.integers(start + 4096, start + 4200),
        st.integers(text, text + 1500),
    )
    for _ in range(data.draw(st.integers(1, 6))):
        raw[data.draw(places)] = data.draw(st.integers(0, 255))
    if data.draw(st.booleans()):  # so that the text is looked into
        length = int.from_bytes(raw[start + 4096 + 48 : start + 4096 + 56], "little") % (1 << 16)
        with contextlib.suppress(ZeroSealError):
            parse_text(bytes(raw[text : text + length]), "a text")
    with contextlib.suppress(ZeroSealError):
        for volume in read_disk(MemoryStore(bytes(raw))).volumes:
            volume.store.read(0, min(volume.store.size_bytes, 1 << 20))


@pytest.mark.parametrize("copies", [1, 2])
def test_names_of_hosts_leave_the_metadata(tmp_path: Path, zeroseal: Command, copies: int) -> None:
    """Every volume notes where it was made; LVM's own programs read what is left, and change it."""
    raw, guest = tmp_path / "d.raw", make_guest_volume(tmp_path, BARE_GUEST | SEEDING)
    with lvm_disk(raw, *[40] * copies, host="pier-ref") as disk:
        for name in ("root", "srv", "log"):
            disk.create(name, 8)
        disk.call("lvremove", "-y", "tide-vg/log")
        places = disk.places("root")
        assert "pier-ref" in disk.call("lvs", "-o", "lv_host")
    put(raw, places, guest.read_bytes())
    survey = json.loads(zeroseal("survey", raw, "--json").out)
    found = [item for item in survey["findings"] if item["trace"] == "identity.lvm-hosts"]
    assert len(found[0]["places"]) == copies
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", raw, "-o", sealed, "--expect-seed")
    assert done.status == 0, done.err
    assert find_texts(sealed, [b"pier-ref", b'creation_host = "p', b"# Linux"]) == set()
    with opened_lvm(sealed) as disk:
        disk.call("vgck", "tide-vg")
        assert disk.call("lvs", "--noheadings", "-o", "lv_name,lv_host").split() == ["root", "srv"]
        disk.call("vgs", "-o", "all")
        disk.create("new", 4)
    assert zeroseal("survey", sealed).status == 0
    again = json.loads(
        zeroseal("seal", done_again(sealed), "-o", tmp_path / "2", "--expect-seed", "--json").out
    )
    assert [item["trace"] for item in again["treated"]] == ["identity.lvm-hosts", "disk.gaps"]


def done_again(sealed: Path) -> Path:
    """A sealed disk that LVM changed: its record no longer matters here."""
    sealed.with_name(sealed.name + ".seal.json").unlink()
    return sealed


def test_a_group_named_after_the_host_is_told_before_the_work(
    tmp_path: Path, zeroseal: Command
) -> None:
    raw, guest = tmp_path / "d.raw", make_guest_volume(tmp_path, BARE_GUEST | SEEDING)
    with lvm_disk(raw, 40, host="pier-ref", group="pier-ref-vg") as disk:
        disk.call("lvcreate", "-an", "-Zn", "-Wn", "-L", "8M", "-n", "root", "pier-ref-vg")
        place = disk.places("root", "pier-ref-vg")
    put(raw, place, guest.read_bytes())
    sealed, rules = tmp_path / "sealed.raw", tmp_path / "rules.toml"
    done = zeroseal("seal", raw, "-o", sealed, "--expect-seed")
    assert done.status == 4
    assert "volume group pier-ref-vg has the host name in its own" in done.err
    rules.write_text('version = 1\n[allow]\nresidue = ["LVM metadata of partition 1"]\n')
    done = zeroseal("seal", raw, "-o", sealed, "--expect-seed", "--rules", rules)
    assert done.status == 0, done.err
