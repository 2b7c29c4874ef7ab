"""Replacing bytes all over a volume: whatever form they lie in, and nothing else changes."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from tests.ntfs import (
    NOW,
    fuse,
    judge_ntfs,
    judge_security,
    make_ntfs,
    streams_by_dissect,
    streams_of,
)
from tests.xfs import FileStore
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.index import IndexEntry
from zeroseal.filesystems.ntfs.nodes import Attribute
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.security import STREAM, hash_descriptor, iter_descriptors
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.tree import Kind

OLD, NEW = b"1847362910-2938471605", b"9021438765-1145093827"
RAW, FRESH = bytes.fromhex("5e131c6e75b725af"), bytes.fromhex("0123456789abcdef")
PAIRS = [
    (OLD, NEW),
    (OLD.decode().encode("utf-16-le"), NEW.decode().encode("utf-16-le")),
    (RAW, FRESH),
]
OWNER = bytes.fromhex("0105000000000005") + (21).to_bytes(4, "little") + RAW + bytes(8)


def _descriptor(owner: bytes) -> bytes:
    entry = b"\0\3" + (8 + len(owner)).to_bytes(2, "little") + b"\xff\1\x1f\0" + owner
    acl = b"\2\0" + (8 + len(entry)).to_bytes(2, "little") + b"\1\0\0\0" + entry
    offsets = (20, 20 + len(owner), 0, 20 + 2 * len(owner))
    return b"\1\0\4\x80" + b"".join(n.to_bytes(4, "little") for n in offsets) + owner * 2 + acl


def _swapped(content: bytes) -> bytes:
    for old, new in PAIRS:
        content = content.replace(old, new)
    return content


@pytest.fixture
def volume(tmp_path: Path) -> Path:
    """A volume with old bytes in every form that a volume has."""
    path = make_ntfs(tmp_path / "v", "-c", "1024")
    with fuse(path, "compression") as point:
        packed = point / "packed"
        packed.mkdir()
        os.setxattr(packed, "system.ntfs_attrib", (0x810).to_bytes(4, "little"))
        (packed / "log.txt").write_bytes((b"all the tide tables " * 300 + OLD) * 40)
        with (point / "sparse").open("wb") as sparse:  # larger than the volume
            for place in (0, 5 << 20, (60 << 20) - 7):
                sparse.seek(place)
                sparse.write(b"s" * 1020 + OLD + RAW + b"s" * 3000)
    store = FileStore(path)
    editor = NtfsEditor(store, NOW)
    top = editor.create_folder(editor.root, b"people", 0o755)
    for index in range(60):
        name = b"S-1-5-21-%s-%d" % (OLD, 1000 + index)
        folder = editor.create_folder(top, name, 0o755)
        editor.set_security(folder, _descriptor(OWNER[:-4] + index.to_bytes(4, "little")))
        editor.create_file(folder, b"small", b"to " + OLD + b" and on", 0o644)
    wide = OLD.decode().encode("utf-16-le")
    sizes = {b"large": 300_000, b"wide": 90_000, b"binary": 20_000}
    for (name, size), form in zip(sizes.items(), (OLD, wide, RAW), strict=True):
        editor.create_file(top, name, (b"x" * 997 + form) * (size // 1000), 0o644)
    # a file whose text lies across the border of two fragments
    pieces = [editor.create_file(top, b"gap%d" % n, bytes(1024), 0o644) for n in range(40)]
    for number in range(0, len(pieces), 2):
        editor.remove(top, b"gap%d" % number)
    editor.finish()
    torn = bytearray(b"y" * 30_000)
    for place in range(1024, 29_000, 1024):
        torn[place - 9 : place - 9 + len(OLD)] = OLD
    editor.create_file(top, b"torn", bytes(torn), 0o644)
    node = editor.create_file(top, b"streams", b"nothing", 0o644)
    editor.write_stream(node, "of " + OLD.decode(), b"s" * 700)
    editor.write_stream(node, "other", wide * 3)
    # a value in a record whose sector ends within it
    for length in range(300, 560, 3):
        editor.create_file(top, b"r%d" % length, b"z" * (length - 280) + RAW + b"z", 0o644)
    editor.finish()
    store.close()
    return path


def test_every_form_is_replaced_and_the_volume_stays_sound(tmp_path: Path, volume: Path) -> None:
    store = FileStore(volume)
    before = streams_of(NtfsTree(store))
    rights = _rights(NtfsTree(store))
    editor = NtfsEditor(store, NOW)
    assert editor.replace_bytes(PAIRS) > 100
    editor.finish()
    store.close()
    judge_ntfs(volume)
    judge_security(volume)
    expected = {
        (_swapped(path.encode()).decode(), stream): _swapped(content)
        for (path, stream), content in before.items()
    }
    after = streams_of(NtfsTree(FileStore(volume)))
    assert after == expected
    assert streams_by_dissect(volume) == expected
    assert _rights(NtfsTree(FileStore(volume))) == {
        _swapped(path.encode()).decode(): _swapped(content) for path, content in rights.items()
    }
    left = [path for path, content in after.items() if OLD in content or RAW in content]
    assert left == []
    assert OLD not in b"".join(path.encode() for path, _stream in after)


def test_named_streams_keep_their_names(volume: Path) -> None:
    """Names of streams are not looked into: none that Windows makes names a machine."""
    names = [stream for _path, stream in streams_of(NtfsTree(FileStore(volume))) if stream]
    assert f"of {OLD.decode()}" in names


def test_old_rights_in_records_and_owners_of_quotas_are_replaced(tmp_path: Path) -> None:
    path = make_ntfs(tmp_path / "v")
    store = FileStore(path)
    editor = NtfsEditor(store, NOW)
    node = editor.get_node(editor.create_file(editor.root, b"old style", b"x", 0o644))
    node.attributes.append(Attribute(layout.SECURITY_DESCRIPTOR, value=_descriptor(OWNER)))
    editor.finish()
    quota = editor.find_entry(layout.EXTEND, b"$Quota")
    assert quota
    for rid in range(30):
        owner = OWNER[:-4] + rid.to_bytes(4, "little")
        view = editor.open_index(quota.number, "$O")
        view.put(IndexEntry(owner, 0, (0x200 + rid).to_bytes(4, "little") + bytes(4)))
        view = editor.open_index(quota.number, "$Q")
        data = bytes(48) + owner
        view.put(IndexEntry((0x200 + rid).to_bytes(4, "little"), 0, data))
    editor.finish()
    editor.replace_bytes(PAIRS)
    editor.finish()
    store.close()
    judge_ntfs(path)
    tree = NtfsTree(FileStore(path))
    entry = tree.find_child(tree.root, b"old style")
    assert entry
    own = tree.get_node(entry.node).find(layout.SECURITY_DESCRIPTOR)
    assert own is not None
    assert own.value == _descriptor(_swapped(OWNER))
    whole = path.read_bytes()
    assert whole.count(FRESH) >= 62  # each owner by key and in data, and the old style twice


def _rights(tree: NtfsTree) -> dict[str, bytes]:
    """Each file's descriptor by its path, as ``$SII`` and ``$SDS`` have it."""
    secure = tree.get_node(layout.SECURE)
    stream = secure.find(layout.DATA, STREAM)
    assert stream is not None
    by_id = {}
    for stored in iter_descriptors(read_stream(tree.volume, stream)):
        assert stored.header.hash == hash_descriptor(stored.content)
        by_id[stored.header.id] = stored.content
    found, pending = {}, [("", tree.root)]
    while pending:
        path, folder = pending.pop()
        for item in tree.list_folder(folder):
            own = f"{path}/{item.name.decode()}"
            found[own] = by_id.get(tree.get_node(item.node).security_id, b"")
            if item.kind is Kind.FOLDER:
                pending.append((own, item.node))
    return found
