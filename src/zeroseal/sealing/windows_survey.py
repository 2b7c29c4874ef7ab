"""A disk without a guest that can be sealed, but with NTFS on it: what can be told of it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import NoGuestError
from zeroseal.guests.windows import NtfsFacts, WindowsFacts, find_windows, read_ntfs_facts
from zeroseal.guests.windows_identity import FirstStart
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.survey import (
    ImageFacts,
    Survey,
    facts_of,
    opened,
    stored_by_part,
    survey_image,
)
from zeroseal.volumes.disk import Disk, read_disk

NOT_YET = "a Windows guest is looked at, but not sealed: this version seals Linux guests"


@dataclass(frozen=True)
class WindowsSurvey:
    """What was found on a disk with volumes of NTFS.

    Attributes:
        stored: as in ``Survey``.
        windows: the system; None where the disk holds data only.
    """

    image: ImageFacts
    disk: Disk
    stored: tuple[int, ...]
    windows: WindowsFacts | None
    volumes: tuple[NtfsFacts, ...]

    @property
    def blockers(self) -> list[str]:
        """What stands against a seal, sentences."""
        told = [NOT_YET if self.windows else "no operating system that can be sealed is on it"]
        told += self._of_the_system()
        for facts in self.volumes:
            if facts.against_changing:
                told.append(f"{facts.volume}: {facts.against_changing}")
        return [f"{sentence[0].upper()}{sentence[1:]}." for sentence in told]

    def _of_the_system(self) -> list[str]:
        if self.windows is None:
            return []
        identity, told = self.windows.identity, []
        if identity.domain:
            told.append(
                f"it has joined the domain {identity.domain}: leave it in the guest first, clones "
                "would share its account there"
            )
        if identity.pending:
            told.append(
                f"it has work to do ({', '.join(identity.pending)}): restart it until none is left"
            )
        if identity.first_start in (FirstStart.PLAIN, FirstStart.BETWEEN):
            told.append(identity.first_start.value)
        return told


def survey_any(
    path: Path, choices: SealChoices, progress: Progress = quiet, snapshot: str = ""
) -> Survey | WindowsSurvey:
    """Surveys an image whatever guest is on it; nothing is written.

    Raises:
        ImageError, RefusedError: it cannot be read, or holds nothing that is known.
    """
    try:
        return survey_image(path, choices, progress, snapshot)
    except NoGuestError:
        with opened(path, snapshot) as image:
            disk = read_disk(image)
            volumes = [v for v in disk.volumes if v.content.kind == "ntfs"]
            if not volumes:
                raise
            return WindowsSurvey(
                image=facts_of(image),
                disk=disk,
                stored=stored_by_part(image),
                windows=find_windows(disk),
                volumes=tuple(read_ntfs_facts(volume) for volume in volumes),
            )
