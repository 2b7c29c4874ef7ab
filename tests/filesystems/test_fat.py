"""FAT as others make it: read, changed at random against a model, judged by fsck.fat and mtools."""

from __future__ import annotations

import contextlib
import random
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_disk, make_guest_volume
from tests.oracles import cut_partition, find_texts, run
from tests.patching import write_patches
from zeroseal.errors import NeedsRecoveryError, NoSpaceError, UnsupportedError, ZeroSealError
from zeroseal.filesystems.fat.check import check_volume
from zeroseal.filesystems.fat.edit import FatEditor
from zeroseal.filesystems.fat.inventory import iter_slack
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.filesystems.tree import Kind
from zeroseal.images.host_file import HostFile
from zeroseal.images.raw import RawImage

NOW = 1_795_000_000
KINDS = [
    ("12", "4M", ["-s", "4"]),
    ("16", "20M", ["-s", "2"]),
    ("32", "40M", ["-s", "1"]),
    ("32", "300M", ["-s", "8"]),
]


def make_fat(path: Path, bits: str, size: str, options: list[str]) -> Path:
    with path.open("wb") as file:
        file.truncate(int(size[:-1]) << 20)
    run("mkfs.fat", "-F", bits, "-n", "ESP", *options, path)
    return path


def store_of(path: Path) -> RawImage:
    return RawImage(HostFile(path, writable=True))


def content_of(tree: FatTree) -> dict[str, bytes | None]:
    found: dict[str, bytes | None] = {}
    pending = [("", tree.root)]
    while pending:
        path, node = pending.pop()
        for item in tree.list_folder(node):
            name = f"{path}/{item.name.decode()}"
            found[name] = None if item.kind is Kind.FOLDER else tree.read_file(item.node)
            if item.kind is Kind.FOLDER:
                pending.append((name, item.node))
    return found


def judge(path: Path, model: dict[str, bytes | None]) -> None:
    """fsck.fat and our checker find nothing, and mtools the same content."""
    run("fsck.fat", "-n", path)
    assert check_volume(store_of(path), "v") == []
    for name, content in model.items():
        if content is not None:
            run("mcopy", "-n", "-i", path, f"::{name}", path.with_suffix(".out"))
            assert path.with_suffix(".out").read_bytes() == content
            path.with_suffix(".out").unlink()


@pytest.mark.parametrize(("bits", "size", "options"), KINDS, ids=str)
def test_what_mtools_makes_is_read_identically(
    tmp_path: Path, bits: str, size: str, options: list[str]
) -> None:
    path, chance = make_fat(tmp_path / "v.img", bits, size, options), random.Random(1)
    model: dict[str, bytes | None] = {}
    names = ["SHORT.TXT", "lower.txt", "Long name with blanks.conf", "Fähre-Ω.txt", "n" * 200]
    run("mmd", "-i", path, "::EFI", "::EFI/debian folder")
    model["/EFI"] = model["/EFI/debian folder"] = None
    for folder in ("", "/EFI", "/EFI/debian folder"):
        for number, name in enumerate(names):
            content = chance.randbytes(chance.choice([0, 10, 5000, 40_000]))
            (tmp_path / "f").write_bytes(content)
            run("mcopy", "-i", path, tmp_path / "f", f"::{folder}/{name}")
            model[f"{folder}/{name}"] = content
            assert number >= 0
    tree = FatTree(store_of(path))
    assert content_of(tree) == model
    assert tree.volume.bits == int(bits)
    found = tree.find_child(tree.root, b"efi")
    assert found is not None
    assert found.name == b"EFI"
    assert check_volume(store_of(path), "v") == []


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize(("bits", "size", "options"), KINDS, ids=str)
def test_random_changes_match_a_model_and_fsck(
    tmp_path: Path, bits: str, size: str, options: list[str], seed: int
) -> None:
    path, chance = make_fat(tmp_path / "v.img", bits, size, options), random.Random(seed)
    store = store_of(path)
    tree = FatEditor(store, NOW)
    model: dict[str, bytes | None] = {}
    folders = {"": tree.root}
    for step in range(80):
        folder = chance.choice(list(folders))
        kind = chance.random()
        files = [name for name, content in model.items() if content is not None]
        if kind < 0.45:
            name = chance.choice(["A", "canary-name-", "Långt namn "]) * chance.randint(1, 6) + str(
                step
            )
            content = b"canary-content" * chance.choice([0, 1, 300, 4000])
            tree.create_file(folders[folder], name.encode(), content, 0o644)
            model[f"{folder}/{name}"] = content
        elif kind < 0.55:
            name = f"folder {step}"
            folders[f"{folder}/{name}"] = tree.create_folder(folders[folder], name.encode(), 0o755)
            model[f"{folder}/{name}"] = None
        elif kind < 0.75 and files:
            name = chance.choice(files)
            above, _slash, last = name.rpartition("/")
            found = tree.find_child(folders[above], last.encode())
            assert found is not None
            old = model[name] or b""
            new = chance.choice([b"", b"x" * 3000, old[: len(old) // 2]])
            if new == old[: len(old) // 2]:
                tree.truncate(found.node, len(new))
            else:
                tree.replace_content(found.node, new)
            model[name] = new
        elif model:
            name = chance.choice(list(model))
            above, _slash, last = name.rpartition("/")
            tree.remove_tree(folders[above], last.encode())
            for gone in [key for key in model if key == name or key.startswith(name + "/")]:
                del model[gone]
                folders.pop(gone, None)
    assert content_of(tree) == model
    tree.finish()
    store.close()
    judge(path, model)
    store = store_of(path)
    tree = FatEditor(store, NOW)
    for item in tree.list_folder(tree.root):
        tree.remove_tree(tree.root, item.name)
    tree.finish()
    assert list(iter_slack(tree)) == []
    store.close()
    judge(path, {})
    assert find_texts(path, [b"canary-content", b"canary-name-", b"CANARY"]) == set()


@pytest.mark.parametrize(("bits", "size", "options"), KINDS[:3], ids=str)
def test_slack_and_deleted_names_are_zeroed(
    tmp_path: Path, bits: str, size: str, options: list[str]
) -> None:
    path = make_fat(tmp_path / "v.img", bits, size, options)
    (tmp_path / "f").write_bytes(b"kept")
    for number in range(20):
        run("mcopy", "-i", path, tmp_path / "f", f"::kept {number}")
        run("mcopy", "-i", path, tmp_path / "f", f"::canary deleted {number}")
    for number in range(20):
        run("mdel", "-i", path, f"::canary deleted {number}")
    store = store_of(path)
    tree = FatTree(store)
    before = content_of(tree)
    node = next(item.node for item in tree.list_folder(tree.root))
    offset = tree.volume.cluster_offset(tree.file_clusters(node)[0]) + 100
    store.write(offset, b"canary-behind-a-file")
    wide = "canary deleted".encode("utf-16-le")[:10]
    assert len(list(iter_slack(tree))) >= 2
    assert wide in path.read_bytes()
    write_patches(store, iter_slack(tree))
    assert list(iter_slack(FatTree(store))) == []
    assert content_of(FatTree(store)) == before
    run("fsck.fat", "-n", path)
    assert wide not in path.read_bytes()
    assert find_texts(path, [b"canary-behind-a-file"]) == set()


def test_a_dirty_volume_and_links_are_refused_and_a_full_one_is_told(tmp_path: Path) -> None:
    for bits, size, place in (("16", "20M", 37), ("32", "40M", 65)):
        path = make_fat(tmp_path / f"v{bits}", bits, size, [])
        tree = FatEditor(store_of(path), NOW)
        with pytest.raises(UnsupportedError, match="cannot store links"):
            tree.create_link(tree.root, b"a", b"b")
        with pytest.raises(NoSpaceError, match="is full"):
            tree.create_file(tree.root, b"big", bytes(64 << 20), 0)
        raw = bytearray(path.read_bytes())
        raw[place] |= 1
        path.write_bytes(raw)
        with pytest.raises(NeedsRecoveryError, match="not unmounted cleanly"):
            FatTree(store_of(path))


def test_damage_is_found_by_the_checker(tmp_path: Path) -> None:
    path = make_fat(tmp_path / "v.img", "16", "20M", [])
    (tmp_path / "f").write_bytes(b"x" * 50_000)
    for name in ("a", "b"):
        run("mcopy", "-i", path, tmp_path / "f", f"::{name}")
    sound = path.read_bytes()
    tree = FatTree(store_of(path))
    first, second = tree.list_folder(tree.root)
    chain = tree.file_clusters(first.node)
    table = tree.volume.table_offset(0)
    damages = {
        "copies of the allocation table differ": [(table + 2 * chain[1], b"\0")],
        "shares cluster": [(second.node + 26, chain[0].to_bytes(2, "little"))],
        "clusters": [(first.node + 28, b"\1\0\0\0")],
        "allocated but belongs to no file": [
            (tree.volume.table_offset(copy) + 2 * 5000, b"\xff\xff") for copy in (0, 1)
        ],
        "it points to cluster": [(first.node + 26, b"\xf0\xef")],
        "larger than its partition": [(19, b"\xff\xff")],
    }
    for told, places in damages.items():
        raw = bytearray(sound)
        for place, value in places:
            raw[place : place + len(value)] = value
        path.write_bytes(raw)
        problems = " ".join(problem.what for problem in check_volume(store_of(path), "v"))
        assert told in problems or told == "points to cluster", (told, problems)
        assert problems


@given(data=st.data())
def test_damaged_volumes_raise_only_our_errors(tmp_path: Path, data: st.DataObject) -> None:
    path = tmp_path / "kept"
    if not path.exists():
        make_fat(path, "12", "4M", ["-s", "4"])
        tree = FatEditor(store_of(path), NOW)
        folder = tree.create_folder(tree.root, b"folder", 0)
        for number in range(8):
            tree.create_file(folder, f"a long file name {number}".encode(), b"x" * 9000, 0)
        tree.finish()
    raw = bytearray(path.read_bytes())
    for _ in range(data.draw(st.integers(1, 8))):
        raw[data.draw(st.one_of(st.integers(0, 63), st.integers(500, 40_000)))] = data.draw(
            st.integers(0, 255)
        )
    (tmp_path / "v").write_bytes(raw)
    store = store_of(tmp_path / "v")
    check_volume(store, "v")
    with contextlib.suppress(ZeroSealError):
        content_of(FatTree(store))
        list(iter_slack(FatTree(store)))
    with contextlib.suppress(ZeroSealError, ValueError):
        tree = FatEditor(store, NOW)
        tree.create_file(tree.root, b"new name", b"y" * 5000, 0)
        for item in tree.list_folder(tree.root):
            tree.remove_tree(tree.root, item.name)
        tree.finish()
    store.close()


def test_the_efi_system_partition_of_a_guest_is_sealed_too(
    tmp_path: Path, zeroseal: Command
) -> None:
    esp = make_fat(tmp_path / "esp", "16", "20M", [])
    (tmp_path / "seed").write_bytes(bytes(range(256)) * 2)
    (tmp_path / "f").write_bytes(b"canary-of-a-deleted-loader" * 500)
    run("mmd", "-i", esp, "::loader", "::EFI")
    run("mcopy", "-i", esp, tmp_path / "seed", "::loader/random-seed")
    run("mcopy", "-i", esp, tmp_path / "f", "::EFI/canary-file.efi")
    run("mdel", "-i", esp, "::EFI/canary-file.efi")
    run("mcopy", "-i", esp, tmp_path / "f", "::EFI/kept.efi")
    files = BARE_GUEST | {
        "/etc/fstab": BARE_GUEST["/etc/fstab"] + "LABEL=ESP /boot/efi vfat umask=0077 0 1\n",
        "/boot/efi/.keep": "",
    }
    disk = make_disk(
        tmp_path / "d.raw", ("ef00", esp), ("8300", make_guest_volume(tmp_path, files))
    )
    wide = "canary-file".encode("utf-16-le")[:10]
    assert wide in disk.read_bytes()
    policy = ("--expect-seed", "--plant-first-boot")
    told = zeroseal("survey", disk, "--places", "--as-if", *policy).out
    assert "/boot/efi/loader/random-seed" in told
    assert "partition 1 on /boot/efi" in told
    sealed = tmp_path / "s.raw"
    answer = zeroseal("seal", disk, "-o", sealed, *policy)
    assert answer.status == 0, answer.err
    cut = cut_partition(sealed, 1, tmp_path / "cut")
    judge(cut, {"/EFI/kept.efi": b"canary-of-a-deleted-loader" * 500})
    assert content_of(FatTree(store_of(cut))).keys() == {"/loader", "/EFI", "/EFI/kept.efi"}
    raw = sealed.read_bytes()
    assert raw.count(b"canary-of-a-deleted-loader") == 500
    assert wide not in raw
    assert bytes(range(256)) not in raw
    assert zeroseal("check", sealed).out.startswith("SEALED")
