"""Machines that come to be together, or not at all: killed anywhere, too.

While they get their names, a list of them lies in the yard. Whoever finds a list that nobody holds
takes those machines away again: their batch did not come to its end.
"""

from __future__ import annotations

import json
import os
import shutil
import time
from contextlib import ExitStack, suppress
from pathlib import Path
from types import TracebackType
from typing import Self

from zeroseal.errors import ZeroSealError, environment_error
from zeroseal.images.locks import open_locked
from zeroseal.images.output_folder import OutputFolder, sweep_unfinished
from zeroseal.machines.definition import read_definition
from zeroseal.progress import Progress, Step, quiet

LIST_FILE = ".batch"
_POLL_SECONDS = 0.1


class Batch:
    """A batch of new machines of a yard; batches of one yard come one after the other.

    Raises:
        UnfinishedError: the yard cannot be written to.
    """

    def __init__(self, yard: Path, progress: Progress = quiet) -> None:
        self._yard = yard
        self._folders: dict[str, OutputFolder] = {}
        self._stack = ExitStack()
        self._made_yard = not yard.exists()
        try:
            yard.mkdir(parents=True, exist_ok=True)
            while (descriptor := open_locked(yard / LIST_FILE)) is None:
                progress(Step("waiting for another batch", 0, 0))
                time.sleep(_POLL_SECONDS)
        except OSError as error:
            raise environment_error(error, yard, "writing to") from error
        self._descriptor = descriptor
        _take_back(yard, descriptor)
        sweep_unfinished(yard)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._stack.close()
        if error is not None:
            _take_back(self._yard, self._descriptor)
        (self._yard / LIST_FILE).unlink(missing_ok=True)
        os.close(self._descriptor)
        if error is not None and self._made_yard:
            with suppress(OSError):
                self._yard.rmdir()  # others may have put something there

    def add(self, name: str) -> Path:
        """Gives a hidden folder to fill for a new machine.

        Raises:
            OutputExistsError: there is a machine of that name.
        """
        folder = self._stack.enter_context(OutputFolder(self._yard / name))
        self._folders[name] = folder
        return folder.path

    def commit(self) -> None:
        """Gives all machines their names.

        Raises:
            OutputExistsError: one name was taken in the meantime; none is given then.
            UnfinishedError: the host failed us.
        """
        uuids = [read_definition(folder.path).uuid for folder in self._folders.values()]
        names = list(self._folders)
        try:
            text = json.dumps(dict(zip(names, uuids, strict=True))).encode()
            os.pwrite(self._descriptor, text, 0)
            os.fsync(self._descriptor)
            for folder in self._folders.values():
                folder.commit()
            os.ftruncate(self._descriptor, 0)
        except OSError as error:
            raise environment_error(error, self._yard, "writing to") from error


def take_back_unfinished(yard: Path) -> None:
    """Removes the machines of a batch whose command is no more."""
    path = yard / LIST_FILE
    try:
        if not path.exists() or (descriptor := open_locked(path)) is None:
            return
    except OSError:
        return
    try:
        _take_back(yard, descriptor)
        path.unlink(missing_ok=True)
    finally:
        os.close(descriptor)


def _take_back(yard: Path, descriptor: int) -> None:
    raw = os.pread(descriptor, os.fstat(descriptor).st_size, 0)
    if not raw:
        return
    try:
        listed = {str(name): str(value) for name, value in json.loads(raw).items()}
    except (ValueError, AttributeError):
        listed = {}  # it was killed while it wrote the list: nothing has its name yet
    for name, machine_uuid in listed.items():
        folder = yard / name
        with suppress(ZeroSealError):
            if folder.parent == yard and read_definition(folder).uuid == machine_uuid:
                shutil.rmtree(folder, ignore_errors=True)
    os.ftruncate(descriptor, 0)
