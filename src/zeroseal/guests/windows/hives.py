"""The hives of a guest: read through its tree, changed in memory, written back as whole files."""

from __future__ import annotations

from functools import cached_property

from zeroseal.errors import DamagedError
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.registry.hive import Hive
from zeroseal.guests.registry.hive_names import MACHINE_HIVES
from zeroseal.guests.registry.logs import empty_log
from zeroseal.guests.registry.paths import CONFIG_FOLDER, Registry
from zeroseal.messages import guests as messages

LOG_ENDINGS = (".LOG", ".LOG1", ".LOG2")
_MAGIC = b"regf"
_HIVE_FILES = (
    f"{CONFIG_FOLDER}/*",
    "/Users/*/NTUSER.DAT",
    "/Users/*/AppData/Local/Microsoft/Windows/UsrClass.dat",
    "/Windows/ServiceProfiles/*/NTUSER.DAT",
    "/Windows/ServiceProfiles/*/AppData/Local/Microsoft/Windows/UsrClass.dat",
    f"{CONFIG_FOLDER}/systemprofile/NTUSER.DAT",
    f"{CONFIG_FOLDER}/systemprofile/AppData/Local/Microsoft/Windows/UsrClass.dat",
    "/Windows/AppCompat/Programs/*.hve",
    "/*:/EFI/Microsoft/Boot/BCD",
    "/*:/Boot/BCD",
    "/Boot/BCD",
)
_LONGEST = 2 << 30


class GuestFiles:
    """A guest's files, as the registry asks for its hives."""

    def __init__(self, guest: Guest) -> None:
        self._guest = guest

    def read(self, path: str) -> bytes | None:
        """A whole file; None where there is none."""
        return self._guest.read_file(path, _LONGEST) if self._guest.is_file(path) else None


class GuestRegistry(Registry):
    """The registry of a guest, written through: what a ``HiveSet`` changes is seen at once.

    Each hive is read and parsed once; one that was not closed is read through its logs, in memory.
    """

    def __init__(self, guest: Guest) -> None:
        super().__init__(GuestFiles(guest), recover=True)
        self.guest = guest

    @cached_property
    def files(self) -> list[str]:
        """The paths of all hives of the guest."""
        return find_hives(self.guest)

    def get_hive(self, file: str) -> Hive:
        """A hive as it is now, its logs replayed.

        Raises:
            DamagedError: there is no such hive, or it is not sound.
        """
        hive = self.hive(file)
        if hive is None:
            raise DamagedError(messages.NOT_FOUND_IN_GUEST.format(path=file))
        return hive


def open_registry(guest: Guest) -> GuestRegistry:
    """The registry of a guest."""
    return GuestRegistry(guest)


def find_hives(guest: Guest) -> list[str]:
    """The paths of all hives: of the machine, of its profiles, of the boot loader."""
    found = []
    for pattern in _HIVE_FILES:
        for path in guest.glob(pattern):
            if path.upper().endswith(LOG_ENDINGS):
                continue
            facts = guest.facts(path, follow_last=False)
            if facts.kind is Kind.FILE and guest.read_file(path, 4) == _MAGIC:
                found.append(path)
    return found


def logs_of(guest: Guest, hive: str) -> list[str]:
    """The transaction logs beside a hive."""
    return [f"{hive}{ending}" for ending in LOG_ENDINGS if guest.is_file(f"{hive}{ending}")]


def hive_title(file: str) -> str:
    """How messages name a hive: ``SOFTWARE``, or its path."""
    name = file.rpartition("/")[2]
    own = file.lower() == f"{CONFIG_FOLDER}/{name}".lower()
    return name.upper() if own and name.upper() in MACHINE_HIVES else file


class HiveSet:
    """Hives of a guest that are being changed; nothing is in their files until ``finish``.

    Args:
        registry: the registry, which sees the changes at once; its guest's trees can be changed.
        now: the moment that changed keys are given, seconds since 1970.
    """

    def __init__(self, registry: GuestRegistry, now: int) -> None:
        self.registry, self.now = registry, now
        self.guest = registry.guest
        self._editors: dict[str, tuple[str, HiveEditor]] = {}

    def editor(self, file: str) -> HiveEditor:
        """The hive in a file, to be changed.

        Raises:
            DamagedError: there is no such hive, or it is not sound.
        """
        key = file.lower()
        if key not in self._editors:
            opened = HiveEditor(self.registry.get_hive(file), self.now, file)
            self._editors[key] = file, opened
        return self._editors[key][1]

    def is_open(self, file: str) -> bool:
        """Whether a hive is being changed."""
        return file.lower() in self._editors

    def publish(self) -> None:
        """Lets the registry see the changes, before they are in their files."""
        for file, editor in self._editors.values():
            self.registry.put(file, editor.build())

    def finish(self) -> None:
        """Writes the hives that were changed, without anything in free cells, and empties logs."""
        guest = self.guest
        for file, editor in self._editors.values():
            if not guest.is_file(file):
                continue  # it went with its profile
            editor.zero_free()
            content = editor.build()
            guest.replace_content(file, content)
            self.registry.put(file, content)
            for log in logs_of(guest, file):
                length = guest.facts(log).size_bytes
                guest.replace_content(log, empty_log(length))
        self._editors.clear()
