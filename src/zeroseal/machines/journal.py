"""The journal of a build: what was done, how long it took, and what came of it.

It lies beside the machine as ``build-journal.json``, written again after every phase, so that it is
there whatever ends the build. The record of a seal names it by its digest.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from zeroseal.documents import build_json
from zeroseal.errors import ZeroSealError
from zeroseal.guests.linux.packages import read_packages, versions_of
from zeroseal.images.detect import opened_image
from zeroseal.images.output import replace_small_file
from zeroseal.machines.hosts.console import CONSOLE_LOG, last_console_lines
from zeroseal.machines.tasks import TaskReport
from zeroseal.sealing.inspection import Inspection

JOURNAL_FILE = "build-journal.json"
_VERSION = 1
_CONSOLE_LINES = 6


@dataclass
class BuildJournal:
    """A journal that is being written.

    Attributes:
        folder: of the machine.
        machine, sheet, host: their names; ``sheet_digest`` is of what the sheet asked for.
        began_at: seconds since 1970.
        stages: what an installer said that it did, each with the seconds since its start.
        packages_before, packages_after: versions by name; None where nobody knows.
        result: how it ended, a sentence; empty while it goes on.
    """

    folder: Path
    machine: str
    sheet: str
    sheet_digest: str
    host: str
    began_at: int
    phases: list[dict[str, object]] = field(default_factory=list)
    stages: tuple[tuple[str, int], ...] = ()
    tasks: tuple[TaskReport, ...] = ()
    packages_before: dict[str, str] | None = None
    packages_after: dict[str, str] | None = None
    result: str = ""
    _start: float = field(default_factory=time.monotonic)

    @contextmanager
    def phase(self, name: str) -> Iterator[None]:
        """Keeps how long a phase took and what the console ended with, however it ends."""
        began = time.monotonic()
        try:
            yield
        finally:
            self.phases.append(
                {
                    "name": name,
                    "beganAfterSeconds": int(began - self._start),
                    "seconds": int(time.monotonic() - began),
                    "console": last_console_lines(self.folder / CONSOLE_LOG, _CONSOLE_LINES),
                }
            )
            self.write()

    def write(self) -> None:
        """Writes it into the machine's folder.

        Raises:
            UnfinishedError: no space.
        """
        if not self.folder.is_dir():
            return
        document = {
            "version": _VERSION,
            "machine": self.machine,
            "host": self.host,
            "sheet": self.sheet,
            "sheetDigest": self.sheet_digest,
            "beganAt": datetime.fromtimestamp(self.began_at, UTC).isoformat(),
            "seconds": int(time.monotonic() - self._start),
            "result": self.result or None,
            "phases": self.phases,
            "installerStages": [
                {"name": name, "beganAfterSeconds": second} for name, second in self.stages
            ],
            "tasks": [
                {"name": task.name, "runs": task.runs, "seconds": task.seconds}
                for task in self.tasks
            ],
            "packagesBefore": self.packages_before,
            "packagesAfter": self.packages_after,
        }
        content = build_json(document, indent=1)
        replace_small_file(self.folder / JOURNAL_FILE, content, mode=0o600)


def packages_on(disk: Path) -> dict[str, str] | None:
    """The versions of the packages on a disk, by name; None where nobody knows."""
    try:
        return read_package_versions(disk)
    except ZeroSealError:  # an empty disk, or none that we read
        return None


def read_package_versions(disk: Path) -> dict[str, str]:
    """The versions of the packages on a disk, by name.

    Raises:
        ImageError, RefusedError: it cannot be read.
    """
    with opened_image(disk) as image:
        return versions_of(read_packages(Inspection.read(image).guest))


def journal_digest(folder: Path) -> str:
    """The SHA-256 of the journal of the machine of this folder; empty where it has none."""
    try:
        return hashlib.sha256((folder / JOURNAL_FILE).read_bytes()).hexdigest()
    except OSError:
        return ""
