"""What stays beside the files of NTFS: canaries everywhere, and journals as Windows wants them."""

from __future__ import annotations

import os
import uuid
from pathlib import Path

import pytest

from tests.ntfs import (
    NOW,
    add_change_journal,
    compare_with_mount,
    fuse,
    judge_ntfs,
    make_ntfs,
    streams_of,
)
from tests.patching import clean_part, inventory
from tests.xfs import FileStore
from zeroseal.filesystems.inventory import Part
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.driver import NtfsDriver
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.index import IndexEntry
from zeroseal.filesystems.ntfs.nodes import Attribute
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.runs import HOLE, Run
from zeroseal.filesystems.ntfs.state import log_state
from zeroseal.filesystems.ntfs.unused import iter_free_space
from zeroseal.filesystems.ntfs.volume import put_fixups
from zeroseal.filesystems.tree import Kind

CANARY = b"canary-in-the-coal-hold-"
WIDE = CANARY.decode().encode("utf-16-le")
OPTIONS = ["", "-c 512", "-c 65536", "-s 4096 -c 4096", "-c 2048"]


def lay_canaries(point: Path) -> None:
    """Names, contents, streams that go, some before we come and some by us."""
    for folder in ("keep", "gone", "squeezed"):
        (point / folder).mkdir()
    for number in range(900):
        (point / "keep" / f"{CANARY.decode()}{number:05}").write_bytes(CANARY * (number % 60))
    for number in range(200):
        (point / "keep" / f"good-{number}").write_bytes(b"good" * 100)
    for path in (point / "keep").glob("canary-*"):
        path.unlink()
    for number in range(200):
        path = point / "gone" / f"{CANARY.decode()}{number}"
        path.write_bytes(CANARY * 300)
        (point / "gone" / f"{path.name}:{CANARY.decode()}").write_bytes(CANARY * 2)
    (point / "keep" / "good-1").write_bytes(CANARY * 3000)
    os.truncate(point / "keep" / "good-1", 3)
    (point / "keep" / "good-2").write_bytes(CANARY * 15)
    os.truncate(point / "keep" / "good-2", 3)
    os.setxattr(point / "squeezed", "system.ntfs_attrib_be", b"\0\0\x08\x10")
    (point / "squeezed" / "file").write_bytes(CANARY * 9000)
    (point / "squeezed" / "kept").write_bytes(b"kept and packed " * 9000)


def plant(volume: Path) -> None:
    """Writes canaries where no program looks: behind ends, in free records and free clusters."""
    store = FileStore(volume)
    tree = NtfsTree(store)
    ntfs, size = tree.volume, tree.volume.cluster_bytes
    pending = [tree.root]
    while pending:
        for entry in tree.list_folder(pending.pop()):
            if entry.kind is Kind.FOLDER:
                pending.append(entry.node)
            record = bytearray(ntfs.read_record(entry.node))
            used = int.from_bytes(record[24:28], "little")
            room = len(record) - used
            record[used:] = (WIDE * 100)[:room]
            ntfs.write_raw_record(entry.node, put_fixups(record))
            for attribute in tree.get_node(entry.node).all_of(layout.DATA):
                if attribute.value is not None or attribute.is_compressed or not attribute.runs:
                    continue
                end = sum(run.clusters for run in attribute.runs) * size
                last = attribute.runs[-1]
                rest = end - attribute.initialized
                content = (CANARY * (rest // len(CANARY) + 1))[:rest]
                store.write((last.lcn + last.clusters) * size - rest, content)
    for number, record_ in list(ntfs.iter_records()):
        if number >= 24 and record_ and not record_[22] & layout.IN_USE:
            patched = bytearray(record_)
            patched[200 : 200 + len(WIDE)] = WIDE
            ntfs.write_raw_record(number, put_fixups(patched))
    for offset, length in list(iter_free_space(NtfsTree(store).volume))[-3:]:
        store.write(offset + length - 100, CANARY)
    store.close()


def note_changes(volume: Path) -> None:
    """A change journal as Windows keeps it: a hole, then names; and an identifier of the volume."""
    store = FileStore(volume)
    editor = NtfsEditor(store, NOW)
    writer = editor._writer
    add_change_journal(editor, WIDE)
    identifier = uuid.UUID("a5a5a5a5-0000-11ee-8000-525400000001").bytes_le
    top = editor.get_node(layout.VOLUME)
    top.attributes.append(Attribute(layout.OBJECT_ID, value=identifier))
    writer.changed[top.number] = top
    found = editor.find_entry(layout.EXTEND, b"$ObjId")
    assert found is not None
    view = editor.open_index(found.reference & layout.REFERENCE_MASK, "$O")
    data = top.reference.to_bytes(8, "little") + bytes(48)
    view.put(IndexEntry(identifier, 0, data))
    editor.finish()
    store.close()


@pytest.mark.parametrize("options", OPTIONS)
def test_nothing_that_was_removed_is_left_anywhere(tmp_path: Path, options: str) -> None:
    volume = make_ntfs(tmp_path / "v", *options.split(), megabytes=64)
    with fuse(volume, "compression") as point:
        lay_canaries(point)
    note_changes(volume)
    judge_ntfs(volume)
    store = FileStore(volume)
    editor = NtfsEditor(store, NOW)
    editor.remove_tree(editor.root, b"gone")
    squeezed = editor.find_child(editor.root, b"squeezed")
    assert squeezed
    editor.remove(squeezed.node, b"file")
    editor.finish()
    plant(volume)
    kept = streams_of(NtfsTree(store))
    whole = volume.read_bytes()
    assert min(whole.count(CANARY), whole.count(WIDE)) > 100
    for part in (Part.JOURNAL, Part.SLACK, Part.FREE_INODES, Part.FREE_SPACE):
        noted = NtfsDriver().stored_changes(NtfsTree(store)) if part is Part.JOURNAL else 0
        assert inventory("ntfs", store).stale_bytes(part) + noted > 0
        clean_part("ntfs", store, part)
    whole = volume.read_bytes()
    assert (whole.count(CANARY), whole.count(WIDE)) == (0, 0)
    assert whole.count(b"\x52\x54\x00\x00\x00\x01") == 0  # a network card's address
    again = inventory("ntfs", store)
    assert [again.stale_bytes(part) for part in Part] == [0] * len(Part)
    assert NtfsDriver().stored_changes(NtfsTree(store)) == 0
    judge_ntfs(volume)
    tree = NtfsTree(store)
    assert streams_of(tree) == kept
    assert log_state(tree.volume) == "empty"
    journal = tree.change_journal()
    assert journal is not None
    changes, limits = (journal.find(layout.DATA, name) for name in ("$J", "$Max"))
    assert changes and limits and limits.value
    assert changes.runs == [Run(HOLE, 528)]
    assert int.from_bytes(limits.value[24:32], "little") == changes.size
    assert any(limits.value[16:24])
    with fuse(volume) as point:
        compare_with_mount(tree, point)
        for number in range(50):
            (point / f"new-{number}").write_bytes(b"new" * number)
    judge_ntfs(volume)
    store.close()
