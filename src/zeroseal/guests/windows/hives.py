"""The hives of a guest: read through its tree, changed in memory, written back as whole files."""

from __future__ import annotations

from zeroseal.errors import DamagedError, NeedsRecoveryError
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.registry.logs import empty_log, replay_logs
from zeroseal.guests.registry.paths import CONFIG_FOLDER, MACHINE_HIVES, Registry

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


def open_registry(guest: Guest) -> Registry:
    """The registry of a guest; a hive that was not closed is read through its logs, in memory."""
    return Registry(GuestFiles(guest), recover=True)


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
        guest: opened with trees that can be changed.
        now: the moment that changed keys are given, seconds since 1970.
    """

    def __init__(self, guest: Guest, now: int) -> None:
        self._guest, self._now = guest, now
        self._editors: dict[str, HiveEditor] = {}

    def editor(self, file: str) -> HiveEditor:
        """The hive in a file, to be changed; one that was not closed is recovered first.

        Raises:
            DamagedError: there is no such hive, or it is not sound.
        """
        key = file.lower()
        if key not in self._editors:
            if not self._guest.is_file(file):
                raise DamagedError(f"{file} is not in the guest")
            raw = self._guest.read_file(file, _LONGEST)
            try:
                opened = HiveEditor(raw, self._now, file)
            except NeedsRecoveryError:
                logs = [self._guest.read_file(log, _LONGEST) for log in logs_of(self._guest, file)]
                opened = HiveEditor(replay_logs(raw, logs, file), self._now, file)
            self._editors[key] = opened
        return self._editors[key]

    def finish(self) -> None:
        """Writes the hives that were changed, without anything in free cells, and empties logs."""
        for file, editor in self._editors.items():
            if not self._guest.is_file(file):
                continue  # it went with its profile
            editor.zero_free()
            self._guest.replace_content(file, editor.build())
            for log in logs_of(self._guest, file):
                length = self._guest.facts(log).size_bytes
                self._guest.replace_content(log, empty_log(length))
        self._editors.clear()
