"""What every editor refuses, with the same errors, before anything is changed.

``NoSpaceError`` (no room) and ``UnsupportedError`` (a thing that the file system has not) belong to
the contract too; each editor raises them itself.
"""

from __future__ import annotations

from zeroseal.errors import RefusedError
from zeroseal.filesystems.tree import FileTree, FolderEntry, Kind
from zeroseal.messages import filesystems as messages


class EditError(RefusedError):
    """An edit that the tree cannot take as it is; nothing was changed."""


class NoEntryError(EditError):
    """The folder has no entry of that name."""


class EntryExistsError(EditError):
    """The folder has an entry of that name already."""


class NotFolderError(EditError):
    """A node that should be a folder is none."""


class NotFileError(EditError):
    """A node that should be a file is none."""


class FolderNotEmptyError(EditError):
    """A folder that should be removed has entries."""


class BadNameError(EditError):
    """The file system cannot hold that name, or that target of a link."""


def check_folder(tree: FileTree, node: int) -> None:
    """Raises NotFolderError where a node is none."""
    if tree.get_facts(node).kind is not Kind.FOLDER:
        raise NotFolderError(messages.NODE_NOT_FOLDER.format(node=node, where=tree.where))


def check_file(tree: FileTree, node: int) -> None:
    """Raises NotFileError where a node has no content of its own."""
    if tree.get_facts(node).kind is not Kind.FILE:
        raise not_file(tree, node)


def check_can_be_linked(tree: FileTree, node: int) -> None:
    """Raises NotFileError where a node is a folder, which has one name only."""
    if tree.get_facts(node).kind is Kind.FOLDER:
        raise NotFileError(messages.FOLDER_HAS_ONE_NAME.format(node=node, where=tree.where))


def check_new(tree: FileTree, folder: int, name: bytes) -> None:
    """Looks whether a folder takes one more name.

    Raises:
        NotFolderError: it is none.
        EntryExistsError: the name is taken.
    """
    check_folder(tree, folder)
    if tree.find_child(folder, name) is not None:
        raise taken(tree, name)


def get_entry(tree: FileTree, folder: int, name: bytes) -> FolderEntry:
    """The entry of that name.

    Raises:
        NotFolderError: the folder is none.
        NoEntryError: it has no such entry.
    """
    check_folder(tree, folder)
    entry = tree.find_child(folder, name)
    if entry is None:
        raise missing(tree, name)
    return entry


def check_removable(tree: FileTree, entry: FolderEntry) -> None:
    """Raises FolderNotEmptyError where an entry is a folder with entries of its own."""
    if tree.get_facts(entry.node).kind is Kind.FOLDER and tree.list_folder(entry.node):
        raise FolderNotEmptyError(
            messages.FOLDER_NOT_EMPTY.format(name=shown(entry.name), where=tree.where)
        )


def missing(tree: FileTree, name: bytes) -> NoEntryError:
    """The error for a name that the folder has not."""
    return NoEntryError(messages.NO_ENTRY_IN_THAT_FOLDER.format(where=tree.where, name=shown(name)))


def not_file(tree: FileTree, node: int) -> NotFileError:
    """The error for a node that has no content."""
    return NotFileError(messages.NODE_OF_NOT_FILE.format(node=node, where=tree.where))


def taken(tree: FileTree, name: bytes) -> EntryExistsError:
    """The error for a name that the folder has already."""
    return EntryExistsError(
        messages.ENTRY_IN_THAT_FOLDER_ALREADY.format(where=tree.where, name=shown(name))
    )


def bad_name(tree: FileTree, name: bytes) -> BadNameError:
    """The error for a name that the file system cannot hold."""
    return BadNameError(messages.NOT_VALID_NAME.format(name=shown(name), where=tree.where))


def bad_target(tree: FileTree, target: bytes) -> BadNameError:
    """The error for a symbolic link that the file system cannot hold."""
    return BadNameError(
        messages.CANNOT_STORE_SYMBOLIC_LINK.format(where=tree.where, target=shown(target))
    )


def shown(name: bytes) -> str:
    """A name as a message has it."""
    return repr(name.decode("utf-8", "backslashreplace"))
