"""What every editor refuses, with which error, and that nothing is changed by what it refuses."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import pytest

from tests.disks import make_ext
from tests.filesystems.test_btrfs_read import make as make_btrfs
from tests.filesystems.test_fat import make_fat
from tests.ntfs import NOW, make_ntfs
from tests.xfs import FileStore, make_xfs
from zeroseal.errors import NoSpaceError, UnsupportedError
from zeroseal.filesystems.btrfs.edit import BtrfsEditor
from zeroseal.filesystems.editing import (
    BadNameError,
    EditError,
    EntryExistsError,
    FolderNotEmptyError,
    NoEntryError,
    NotFileError,
    NotFolderError,
)
from zeroseal.filesystems.ext.edit import ExtEditor
from zeroseal.filesystems.fat.edit import FatEditor
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.plain.tree import PlainTree
from zeroseal.filesystems.tree import EditableTree
from zeroseal.filesystems.xfs.edit import XfsEditor

MAKERS: dict[str, Callable[[Path], EditableTree]] = {
    "ext": lambda path: ExtEditor(FileStore(make_ext(path, 4)), NOW, "partition 7"),
    "btrfs": lambda path: BtrfsEditor(FileStore(make_btrfs(path)), NOW, "partition 7"),
    "xfs": lambda path: XfsEditor(FileStore(make_xfs(path)), NOW, "partition 7"),
    "ntfs": lambda path: NtfsEditor(FileStore(make_ntfs(path)), NOW, "partition 7"),
    "fat": lambda path: FatEditor(FileStore(make_fat(path, "16", "16M", [])), NOW, "partition 7"),
    "plain": lambda path: PlainTree("partition 7", NOW),
}
WITHOUT_LINKS = {"fat"}
WITHOUT_SECOND_NAMES = {"fat", "plain"}
WITHOUT_OWNERS = {"ntfs", "fat"}


@pytest.fixture(params=MAKERS)
def kind(request: pytest.FixtureRequest) -> str:
    """Each file system in turn."""
    return str(request.param)


@pytest.fixture
def editor(kind: str, tmp_path: Path) -> EditableTree:
    """Its editor, with a folder that has a file, and another file."""
    made = MAKERS[kind](tmp_path / "volume")
    folder = made.create_folder(made.root, b"folder", 0o755)
    made.create_file(folder, b"inside", b"tide", 0o644)
    made.create_file(made.root, b"file", b"gate", 0o644)
    made.finish()
    return made


def _refused(editor: EditableTree, kind: str) -> Iterator[tuple[Callable[[], object], type]]:
    """Yields (an edit, the error that it ends with)."""
    root = editor.root
    folder, file = (_node(editor, name) for name in (b"folder", b"file"))
    wrong: list[tuple[int, bytes, type]] = [
        (root, b"file", EntryExistsError),
        (root, b"folder", EntryExistsError),
        (file, b"new", NotFolderError),
        *((root, name, BadNameError) for name in (b"", b"a/b", b"a\0b", b"x" * 256)),
    ]
    for place, name, error in wrong:
        yield partial(editor.create_file, place, name, b"x", 0o644), error
        yield partial(editor.create_folder, place, name, 0o755), error
    for place, error in ((root, NoEntryError), (file, NotFolderError)):
        yield partial(editor.remove, place, b"nothing"), error
        yield partial(editor.remove_tree, place, b"nothing"), error
        yield partial(editor.rename, place, b"nothing", b"new"), error
    yield partial(editor.rename, root, b"file", b"folder"), EntryExistsError
    yield partial(editor.rename, root, b"file", b"a/b"), BadNameError
    yield partial(editor.remove, root, b"folder"), FolderNotEmptyError
    yield partial(editor.replace_content, folder, b"x"), NotFileError
    yield partial(editor.zero_content, folder, 0), NotFileError
    yield partial(editor.truncate, folder, 0), NotFileError
    if kind in WITHOUT_SECOND_NAMES:
        yield partial(editor.add_name, root, b"second", file), UnsupportedError
    else:
        yield partial(editor.add_name, root, b"second", folder), NotFileError
        yield partial(editor.add_name, root, b"folder", file), EntryExistsError
        yield partial(editor.add_name, file, b"second", file), NotFolderError
    if kind in WITHOUT_LINKS:
        yield partial(editor.create_link, root, b"link", b"file"), UnsupportedError
    else:
        yield partial(editor.create_link, root, b"file", b"folder"), EntryExistsError
        for target in (b"", b"x" * 70_000):
            yield partial(editor.create_link, root, b"link", target), BadNameError
    if kind in WITHOUT_OWNERS:
        yield partial(editor.set_owner, file, 5, 5), UnsupportedError


def test_every_editor_refuses_the_same_with_the_same_errors(
    kind: str, editor: EditableTree, tmp_path: Path
) -> None:
    volume = tmp_path / "volume"
    before = volume.read_bytes() if volume.exists() else b""
    changes = list(editor.changes) if isinstance(editor, PlainTree) else []
    for number, (edit, error) in enumerate(_refused(editor, kind)):
        with pytest.raises((EditError, UnsupportedError)) as caught:
            edit()
        assert caught.type is error, (number, caught.value)
        assert "partition 7" in str(caught.value)
    editor.finish()
    if isinstance(editor, PlainTree):
        assert editor.changes == changes
    else:
        assert volume.read_bytes() == before


@pytest.mark.parametrize("kind", [kind for kind in MAKERS if kind != "plain"])
def test_a_full_volume_says_so(editor: EditableTree, tmp_path: Path) -> None:
    volume = tmp_path / "volume"
    with pytest.raises(NoSpaceError, match="partition 7"):
        editor.create_file(editor.root, b"large", bytes(volume.stat().st_size), 0o644)


def test_an_entry_keeps_its_name_when_it_is_renamed_to_it(editor: EditableTree) -> None:
    editor.rename(editor.root, b"file", b"file")
    editor.rename(editor.root, b"file", b"new")
    editor.finish()
    assert editor.find_child(editor.root, b"file") is None
    assert editor.read_file(_node(editor, b"new")) == b"gate"


def _node(editor: EditableTree, name: bytes) -> int:
    entry = editor.find_child(editor.root, name)
    assert entry is not None
    return entry.node
