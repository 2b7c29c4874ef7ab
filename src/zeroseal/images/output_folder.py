"""Output folders: whole or not at all; what a killed command left is known, and swept away."""

from __future__ import annotations

import os
import secrets
import shutil
import sys
import time
from contextlib import suppress
from pathlib import Path
from types import TracebackType
from typing import Self

from zeroseal.errors import OutputExistsError, environment_error
from zeroseal.images.locks import try_lock
from zeroseal.images.output import flush_folder
from zeroseal.messages import images as messages

_LOCK_NAME = ".being-filled"
_SUFFIX = ".part"
_LOCKING_SECONDS = 60.0


class OutputFolder:
    """A folder that comes to be at ``final`` when it is committed.

    Until then it is a hidden folder beside it, which goes when the block is left without a commit.

    Attributes:
        path: the hidden folder, to be filled.

    Raises:
        OutputExistsError: the name is taken, and nothing was said to give way.
        UnfinishedError: the host failed us.
    """

    def __init__(self, final: Path, gives_way: bool = False) -> None:
        self.final = final
        self._gives_way = gives_way
        if not gives_way:
            _check_free(final)
        self.path = final.parent / f".{final.name}.{secrets.token_hex(4)}{_SUFFIX}"
        self._made = [folder for folder in final.parents if not folder.exists()]
        try:
            self.path.mkdir(parents=True)
            self._holder = _hold(self.path)
        except OSError as error:
            raise environment_error(error, final.parent, "writing to") from error

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._holder is not None:
            os.close(self._holder)
        shutil.rmtree(self.path, ignore_errors=True)
        for folder in self._made:
            with suppress(OSError):
                folder.rmdir()  # others may have put something there

    def commit(self) -> None:
        """Gives the folder its name.

        Raises:
            OutputExistsError: something took the name in the meantime.
        """
        try:
            if not self._gives_way:
                _check_free(self.final)  # an empty folder would give way to a rename
            self.path.rename(self.final)
            flush_folder(self.final.parent)
            (self.final / _LOCK_NAME).unlink(missing_ok=True)
        except OSError as error:
            raise environment_error(error, self.final, "writing") from error
        self._made = []


def sweep_unfinished(folder: Path) -> list[Path]:
    """Removes hidden folders whose command is no more; returns those that went.

    Such a folder is told by its lock: the system lets go of it when the command ends, however it
    ends. Where there are no locks only what never held anything is removed, after a minute.
    """
    gone = []
    for hidden in folder.glob(f".*{_SUFFIX}"):
        lock = hidden / _LOCK_NAME
        if _is_free(lock) if lock.is_file() else _is_old_and_empty(hidden):
            shutil.rmtree(hidden, ignore_errors=True)
            gone.append(hidden)
    return gone


def _check_free(final: Path) -> None:
    if os.path.lexists(final):
        raise OutputExistsError(messages.ALREADY_EXISTS.format(target=final), path=str(final))


def _hold(hidden: Path) -> int | None:
    """Takes the lock of a folder that is being filled; the lock's file comes with its lock."""
    if sys.platform == "win32":
        return None  # what is open there cannot be renamed
    early = hidden / f"{_LOCK_NAME}{_SUFFIX}"
    descriptor = os.open(early, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
    if try_lock(descriptor):  # else a file system without locks: the folder is never swept then
        with suppress(OSError):
            early.rename(hidden / _LOCK_NAME)
    return descriptor


def _is_old_and_empty(hidden: Path) -> bool:
    """Whether its command ended before it had the lock, or is about to take it."""
    try:
        names = {path.name for path in hidden.iterdir()}
        age_seconds = time.time() - hidden.stat().st_mtime
    except OSError:
        return False
    return names <= {f"{_LOCK_NAME}{_SUFFIX}"} and age_seconds > _LOCKING_SECONDS


def _is_free(lock: Path) -> bool:
    if sys.platform == "win32":
        return False
    try:
        descriptor = os.open(lock, os.O_RDWR)
    except OSError:
        return False
    try:
        return try_lock(descriptor)
    finally:
        os.close(descriptor)
