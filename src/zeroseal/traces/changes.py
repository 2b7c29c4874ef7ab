"""What a treatment does to one place: a closed set of small values that a plan is made of.

A change is a pure value. It never holds a secret: a file of accounts is rewritten by naming what
goes, not by carrying its new content.
"""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.patches import Patch
from zeroseal.guests.windows.hives import hive_title
from zeroseal.traces.key_edits import KeyEdit


@dataclass(frozen=True)
class RemovePath:
    """Removes a file, link or whole folder of the guest."""

    path: str


@dataclass(frozen=True)
class EmptyFile:
    """Cuts a file of the guest to nothing; owner, mode and attributes stay."""

    path: str


@dataclass(frozen=True)
class ReplaceContent:
    """Gives a file of the guest other content; owner, mode and attributes stay."""

    path: str
    content: str


@dataclass(frozen=True)
class DropAccounts:
    """Takes accounts out of an account file: their lines, and their places in groups.

    ``own_groups`` are groups that go with them.
    """

    path: str
    accounts: tuple[str, ...]
    own_groups: tuple[str, ...]


@dataclass(frozen=True)
class LockPassword:
    """Makes an account's password field match no password, and drops its hash."""

    path: str
    account: str


@dataclass(frozen=True)
class DropHostNames:
    """Takes names out of a hosts file; a line left with its address alone goes."""

    path: str
    names: tuple[str, ...]


@dataclass(frozen=True)
class EditKeys:
    """Drops or replaces keys of a text file."""

    path: str
    edit: KeyEdit


@dataclass(frozen=True)
class DropLines:
    """Takes lines out of a text file that begin with one of some words."""

    path: str
    words: tuple[str, ...]


@dataclass(frozen=True)
class SwapBootToken:
    """Puts a neutral word in the place of the machine ID in files of the boot loader."""

    path: str
    old: str
    new: str


@dataclass(frozen=True)
class AskDhcp:
    """Makes a network file ask DHCP instead of giving static addresses."""

    path: str


@dataclass(frozen=True)
class PutFile:
    """Makes a file with its folders, or gives one that is there this content."""

    path: str
    content: str


@dataclass(frozen=True)
class RenamePath:
    """Gives a file or folder another name in its folder."""

    path: str
    new_name: str


@dataclass(frozen=True)
class BlankSwapFile:
    """Zeroes a swap file behind its header; its blocks stay where they are."""

    path: str


@dataclass(frozen=True)
class RewriteInitramfs:
    """Takes entries out of an initramfs, and the content out of others.

    ``dropped`` and ``emptied`` are paths inside the archive.
    """

    path: str
    dropped: tuple[str, ...]
    emptied: tuple[str, ...]


@dataclass(frozen=True)
class RemoveKey:
    """Removes a key of the registry with all below it; ``file`` is its hive's."""

    file: str
    key: str


@dataclass(frozen=True)
class EmptyKey:
    """Removes the values and keys that a key of the registry holds; it stays itself."""

    file: str
    key: str


@dataclass(frozen=True)
class RemoveValue:
    """Removes a value of a key."""

    file: str
    key: str
    name: str


@dataclass(frozen=True)
class BlankValue:
    """Zeroes what a value holds; its length and type stay."""

    file: str
    key: str
    name: str


@dataclass(frozen=True)
class SetText:
    """Gives a value this text; its type stays."""

    file: str
    key: str
    name: str
    text: str


@dataclass(frozen=True)
class SetNumber:
    """Gives a value this number."""

    file: str
    key: str
    name: str
    number: int


@dataclass(frozen=True)
class SetPolicyName:
    """Gives a name of the security policy, a text with its length before it, another text."""

    file: str
    key: str
    name: str
    text: str


@dataclass(frozen=True)
class NewGuid:
    """Gives a value a random GUID that nobody else has."""

    file: str
    key: str
    name: str


@dataclass(frozen=True)
class DropWindowsAccount:
    """Takes an account out of the account database and its groups."""

    file: str
    sid: str
    account: str
    rid: int

    @property
    def key(self) -> str:
        """The key that bears its name."""
        return f"SAM\\Domains\\Account\\Users\\Names\\{self.account}"


@dataclass(frozen=True)
class DisableAccount:
    """Sets the flag by which nobody can log in to an account."""

    file: str
    key: str
    rid: int


@dataclass(frozen=True)
class CleanHive:
    """Zeroes what removed keys left in a hive and in its transaction logs."""

    file: str
    key: str = ""


@dataclass(frozen=True)
class WritePatches:
    """Makes stale ranges as they should be: zeros, or what the format has in their place.

    Attributes:
        place: what they are part of, as a plan names it.
        volume: the name of the volume that they lie on; empty where it is the disk itself.
        patches: the ranges, exactly as they will be written.
    """

    place: str
    volume: str
    patches: tuple[Patch, ...]


@dataclass(frozen=True)
class ForgetFileChanges:
    """Empties a volume's journal of changes to its files, and what names the volume in it."""

    volume: str
    size_bytes: int


@dataclass(frozen=True)
class ReissueSid:
    """Puts a new random identifier in the place of the machine's own, everywhere."""

    volume: str
    sid: str


TextChange = (
    DropAccounts | LockPassword | DropHostNames | EditKeys | DropLines | SwapBootToken | AskDhcp
)
PathChange = (
    RemovePath
    | EmptyFile
    | ReplaceContent
    | TextChange
    | PutFile
    | RenamePath
    | BlankSwapFile
    | RewriteInitramfs
)
RegistryChange = (
    RemoveKey
    | EmptyKey
    | RemoveValue
    | BlankValue
    | SetText
    | SetNumber
    | SetPolicyName
    | NewGuid
    | DropWindowsAccount
    | DisableAccount
    | CleanHive
)
VolumeChange = WritePatches | ForgetFileChanges
Change = PathChange | RegistryChange | VolumeChange | ReissueSid


def registry_path(change: RegistryChange) -> str:
    """A change's place as a path below its hive's file, its value last."""
    parts = [change.file, *change.key.split("\\")] if change.key else [change.file]
    name = getattr(change, "name", None)
    return "/".join([*parts, *(() if name is None else (f":{name}",))]).lower()


def place_of(change: Change) -> str:
    """The path, the key or the volume's name that a change is about."""
    if isinstance(change, RegistryChange):
        key = f"\\{change.key}" if change.key else ""
        name = getattr(change, "name", None)
        return f"{hive_title(change.file)}{key}" + (
            f" : {name or '(default)'}" if name is not None else ""
        )
    match change:
        case ReissueSid():
            return change.volume
        case (
            RemovePath(path=path)
            | EmptyFile(path=path)
            | ReplaceContent(path=path)
            | DropAccounts(path=path)
            | LockPassword(path=path)
            | DropHostNames(path=path)
            | EditKeys(path=path)
            | DropLines(path=path)
            | SwapBootToken(path=path)
            | AskDhcp(path=path)
            | PutFile(path=path)
            | RenamePath(path=path)
            | BlankSwapFile(path=path)
            | RewriteInitramfs(path=path)
        ):
            return path
        case WritePatches(place=place):
            return place
        case ForgetFileChanges(volume=volume):
            return volume
