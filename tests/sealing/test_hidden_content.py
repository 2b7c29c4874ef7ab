"""Values that the bytes of a volume do not show: compressed, across marks, across fragments."""

from __future__ import annotations

import os
from pathlib import Path

from scripts.desk_machine import COMPUTER, NOW

from tests.conftest import Command
from tests.disks import make_disk
from tests.ntfs import fuse, make_ntfs
from tests.windows import make_windows_volume
from tests.xfs import FileStore
from zeroseal.blocks.pipeline import search_store
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.state import describe_volume
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.windows.system import WindowsSystem
from zeroseal.sealing.residue import search_hidden
from zeroseal.sealing.searched_value import SearchedValue, ValueSet, text_needle
from zeroseal.volumes.volume import Content, Volume


def _compress(point: Path, name: str, content: bytes) -> None:
    folder = point / name
    folder.mkdir()
    os.setxattr(folder, "system.ntfs_attrib", (0x810).to_bytes(4, "little"))
    (folder / "log.txt").write_bytes(content)


def _values(words: list[str]) -> ValueSet:
    found = [SearchedValue(f"value {word}", (text_needle(word),)) for word in words]
    return ValueSet(tuple(found), ())


def _guest(store: FileStore) -> Guest:
    volume = Volume("partition 1", 1, store, 0, Content("ntfs"))
    return Guest([Mount("/", volume, NtfsTree(store))], folds_case=True)


def test_what_the_file_system_hides_is_found(tmp_path: Path) -> None:
    path = make_ntfs(tmp_path / "v", "-c", "1024")
    words = [f"canary-{number:04}-of-the-tide" for number in range(260)]
    with fuse(path, "compression") as point:
        _compress(point, "packed", b"".join(b"tide tables " * 900 + w.encode() for w in words[:20]))
    store = FileStore(path)
    editor = NtfsEditor(store, NOW)
    for number, word in enumerate(words[20:160]):  # in records, across the ends of sectors
        content = b"z" * (30 + 3 * number) + word.encode()
        editor.create_file(editor.root, b"small %03d" % number, content, 0o644)
    gaps = [editor.create_file(editor.root, b"gap%d" % n, bytes(1024), 0o644) for n in range(220)]
    editor.finish()
    room = describe_volume(NtfsTree(store)).free_bytes - 40 * 1024
    editor.create_file(editor.root, b"filler", bytes(room), 0o644)
    for number in range(0, len(gaps), 2):  # what is free then lies in between
        editor.remove(editor.root, b"gap%d" % number)
    editor.finish()
    torn = bytearray(b"y" * (101 * 1024))
    for number, word in enumerate(words[160:]):  # at borders of clusters, many of fragments
        torn[(number + 1) * 1024 - 9 : (number + 1) * 1024 - 9 + len(word)] = word.encode()
    editor.create_file(editor.root, b"torn", bytes(torn), 0o644)
    editor.finish()
    values = _values(words)
    seen = {hit.value_no for hit in search_store(store, values.needles)}
    assert len(seen) < len(words) - 20  # the bytes alone do not show all
    hidden, unread = search_hidden(WindowsSystem(_guest(store)), values)
    assert unread == []
    found = {label for label, _place in hidden} | {values.values[n].label for n in seen}
    assert found == {value.label for value in values.values}
    assert ("value " + words[3], "/packed/log.txt") in hidden
    assert {place for _label, place in hidden} >= {"/packed/log.txt", "/torn"}


def test_a_name_inside_a_compressed_file_stops_a_seal(tmp_path: Path, zeroseal: Command) -> None:
    volume = make_windows_volume(tmp_path / "v")
    with fuse(volume, "compression") as point:
        _compress(point, "Saltmarsh", (b"all the tide tables " * 300 + COMPUTER.encode()) * 20)
    disk = make_disk(tmp_path / "d.raw", ("0700", volume))
    refused = zeroseal("seal", disk, "-o", tmp_path / "x", "--reissue-sid")
    assert refused.status == 5
    assert f"computer name ({COMPUTER}) in /Saltmarsh/log.txt" in refused.err
    rules = tmp_path / "rules.toml"
    rules.write_text('version = 1\n[allow]\nresidue = ["/Saltmarsh/**"]\n')
    allowed = zeroseal("seal", disk, "-o", tmp_path / "y", "--reissue-sid", "--rules", rules)
    assert allowed.status == 0, allowed.err
