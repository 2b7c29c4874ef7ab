"""NTFS volumes for tests: made by mkntfs, filled by ntfs-3g, judged by all that reads NTFS here."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
import pytsk3
from dissect.ntfs import NTFS

from tests.oracles import need, run
from tests.xfs import FileStore
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.check import check_volume
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.nodes import Attribute
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.runs import HOLE, Run
from zeroseal.filesystems.tree import Kind

MIB = 1 << 20
SMALLEST_MIB = 24
NOW = 1_795_000_000
REPARSE_POINT = 0xC0


def make_ntfs(path: Path, *options: str, megabytes: int = SMALLEST_MIB) -> Path:
    """An empty volume, on a file with a sector behind it for the copy of the boot sector."""
    path.unlink(missing_ok=True)
    with path.open("wb") as file:
        file.truncate(megabytes * MIB)
    words = list(options)
    if "-s" not in words:
        words += ["-s", "512"]
    run("mkntfs", "-F", "-Q", "-q", "-p", "2048", "-H", "255", "-S", "63", *words, path)
    return path


@contextmanager
def fuse(volume: Path, *options: str) -> Iterator[Path]:
    """Mounts a volume by ntfs-3g, its streams as ``file:stream``."""
    need("ntfs-3g", "pgrep")
    if not os.access("/dev/fuse", os.R_OK | os.W_OK):
        if os.environ.get("CI"):
            pytest.fail("no /dev/fuse in CI")
        pytest.skip("needs /dev/fuse")
    point = volume.with_name(volume.name + ".mnt")
    point.mkdir()
    words = ",".join(["streams_interface=windows", *options])
    run("ntfs-3g", "-o", words, volume, point)
    try:
        yield point
    finally:
        run("umount", point)
        point.rmdir()
        _wait_for_end(volume)


def _wait_for_end(volume: Path) -> None:
    """The driver writes the end of its work after the mount point is gone."""
    for _ in range(500):
        found = subprocess.run(["pgrep", "-f", f"ntfs-3g .*{volume} "], check=False)
        if found.returncode:
            return
        time.sleep(0.01)


def judge_ntfs(volume: Path) -> None:
    """Our own checker, ntfsresize's accounting and ntfs-3g's probe find nothing."""
    store = FileStore(volume)
    try:
        assert check_volume(store, "v") == []
    finally:
        store.close()
    told = run("ntfsresize", "-i", "-f", volume)
    assert "corrupt" not in told.lower()
    run("ntfs-3g.probe", "--readwrite", volume)


def judge_security(volume: Path) -> None:
    """Each file's security descriptor resolves, for ntfssecaudit."""
    told = run("ntfssecaudit", "-r", volume, "/")
    assert "** " not in told, told[:2000]


def compare_with_mount(tree: NtfsTree, point: Path) -> None:
    """Our tree holds what ntfs-3g shows."""
    pending = [(tree.root, point)]
    while pending:
        node, folder = pending.pop()
        entries = {os.fsdecode(entry.name): entry for entry in tree.list_folder(node)}
        assert sorted(entries) == sorted(path.name for path in folder.iterdir())
        for name, entry in entries.items():
            path = folder / name
            assert tree.find_child(node, entry.name) == entry
            if entry.kind is Kind.FOLDER:
                pending.append((entry.node, path))
            elif entry.kind is Kind.FILE:
                assert path.read_bytes() == tree.read_file(entry.node)
                assert path.lstat().st_size == tree.get_facts(entry.node).size_bytes
                for stream in tree.stream_names(entry.node):
                    if stream:
                        content = tree.read_named_stream(entry.node, stream)
                        assert (folder / f"{name}:{stream}").read_bytes() == content


Streams = dict[tuple[str, str], bytes]


def streams_of(tree: NtfsTree, node: int | None = None, path: str = "") -> Streams:
    """{(path, stream): content} as we read it; links have none."""
    found: Streams = {}
    for entry in tree.list_folder(tree.root if node is None else node):
        own = f"{path}/{os.fsdecode(entry.name)}"
        if entry.kind is Kind.FOLDER:
            found[own + "/", ""] = b""
            found |= streams_of(tree, entry.node, own)
        if entry.kind is Kind.FILE:
            for stream in tree.stream_names(entry.node):
                found[own, stream] = tree.read_named_stream(entry.node, stream)
    return found


def streams_by_sleuthkit(volume: Path) -> Streams:
    """The same by the Sleuth Kit."""
    system = pytsk3.FS_Info(pytsk3.Img_Info(str(volume)))
    found: Streams = {}
    pending: list[tuple[Any, str]] = [(system.open_dir(inode=system.info.root_inum), "")]
    while pending:
        folder, path = pending.pop()
        for file in folder:
            name = file.info.name.name.decode()
            number = file.info.meta.addr if file.info.meta else 0
            is_live = file.info.name.flags == pytsk3.TSK_FS_NAME_FLAG_ALLOC
            if name in (".", "..") or number < 24 or not is_live or ":" in name:
                continue
            own = f"{path}/{name}"
            if file.info.meta.type == pytsk3.TSK_FS_META_TYPE_DIR:
                found[own + "/", ""] = b""
                pending.append((file.as_directory(), own))
                continue
            attributes = list(file)
            if any(int(item.info.type) == REPARSE_POINT for item in attributes):
                continue
            for attribute in attributes:
                if attribute.info.type == pytsk3.TSK_FS_ATTR_TYPE_NTFS_DATA:
                    size = attribute.info.size
                    content = b""
                    if size:
                        content = file.read_random(0, size, attribute.info.type, attribute.info.id)
                    stream = attribute.info.name or b""
                    found[own, "" if stream == b"$Data" else stream.decode()] = content
    return found


def streams_by_dissect(volume: Path) -> Streams:
    """The same by dissect.ntfs, which is slow."""
    found: Streams = {}
    file = volume.open("rb")
    system = NTFS(file)
    pending: list[tuple[Any, str]] = [(system.mft.get("/"), "")]
    while pending:
        folder, path = pending.pop()
        for entry in folder.iterdir(ignore_dos=True):
            record = entry.dereference()
            if record.segment < 24:
                continue
            own = f"{path}/{entry.attribute.file_name}"
            if record.is_dir():
                found[own + "/", ""] = b""
                pending.append((record, own))
            elif not record.is_reparse_point():
                for attribute in record.attributes[0x80]:
                    found[own, attribute.name] = record.open(attribute.name).read()
    file.close()
    return found


def add_change_journal(editor: NtfsEditor, content: bytes, hole_clusters: int = 512) -> None:
    """A change journal as Windows has it: a long hole, then what it noted last."""
    node = editor._create(layout.EXTEND, b"$UsnJrnl", layout.IS_SYSTEM, layout.FILE_SYSTEM)
    unit = editor.volume.cluster_bytes
    taken = editor._writer.clusters.take(16)
    runs, size = [Run(HOLE, hole_clusters), *taken], (hole_clusters + 16) * unit
    journal = Attribute(
        layout.DATA,
        "$J",
        layout.SPARSE,
        None,
        is_indexed=False,
        runs=runs,
        size=size,
        initialized=size,
    )
    limits = (1 << 25).to_bytes(8, "little") + (1 << 23).to_bytes(8, "little") + bytes(16)
    node.attributes += [journal, Attribute(layout.DATA, "$Max", value=limits)]
    editor._link(layout.EXTEND, b"$UsnJrnl", node)
    for piece in taken:
        whole = piece.clusters * unit
        editor.volume.store.write(piece.lcn * unit, (content * (whole // len(content) + 1))[:whole])
