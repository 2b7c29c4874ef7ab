"""A disk without a guest, but with NTFS on it: what can be told of it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import NoGuestError
from zeroseal.filesystems.driver import VolumeState
from zeroseal.filesystems.drivers import VolumeTrees, read_disk
from zeroseal.images.detect import opened_image
from zeroseal.images.facts import ImageFacts, facts_of, stored_by_part
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.inspection import iter_states
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.survey import Survey, survey_image
from zeroseal.sentences import capitalised
from zeroseal.volumes.disk import Disk


@dataclass(frozen=True)
class DataSurvey:
    """What was found on a disk with volumes of NTFS and no system.

    Attributes:
        stored: as in ``Survey``.
    """

    image: ImageFacts
    disk: Disk
    stored: tuple[int, ...]
    volumes: tuple[VolumeState, ...]

    @property
    def blockers(self) -> list[str]:
        """What stands against a seal, sentences."""
        messages = ["No operating system that can be sealed is on it."]
        for facts in self.volumes:
            if facts.against_changing:
                messages.append(f"{facts.volume}: {facts.against_changing}.")
        return [capitalised(sentence) for sentence in messages]


def survey_any(
    path: Path, policy: Policy, progress: Progress = quiet, snapshot: str = ""
) -> Survey | DataSurvey:
    """Surveys an image whether or not a guest is on it; nothing is written.

    Raises:
        ImageError, RefusedError: it cannot be read, or holds nothing that is known.
    """
    try:
        return survey_image(path, policy, progress, snapshot)
    except NoGuestError:
        with opened_image(path, snapshot, policy.reach) as image:
            disk = read_disk(image)
            volumes = tuple(iter_states(disk, VolumeTrees()))
            if not volumes:
                raise
            return DataSurvey(facts_of(image), disk, stored_by_part(image), volumes)
