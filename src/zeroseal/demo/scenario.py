"""The full example on the disk that ships with the tool; nothing outside its folder is touched."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from zeroseal.errors import RefusedError
from zeroseal.guests.open import opener_for_editing
from zeroseal.images.host_file import HostFile, environment_error
from zeroseal.images.qcow2.write import WritableQcow2
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.check import CheckResult, Level, check_image
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.record import record_path
from zeroseal.sealing.seal import OutputSpec, SealResult, seal_image
from zeroseal.sealing.subject import Subject
from zeroseal.sealing.survey import Survey, survey_image

USED_DISK = "gangway.qcow2"
SEALED_DISK = "gangway.sealed.qcow2"
CHANGED_DISK = "gangway.changed.qcow2"
CHANGED_FILE = "/opt/gate/gate.conf"
_NEW_CONTENT = b"pier = 4\nopens = 05:40\ncloses = 23:10\n"
_MINUTE = 60


@dataclass(frozen=True)
class DemoStory:
    """What happened, step by step.

    Attributes:
        before: the check of the used disk.
        sealed: the check of the sealed disk.
        broken: the check of its copy after one file was changed.
    """

    folder: Path
    survey: Survey
    before: CheckResult
    result: SealResult
    sealed: CheckResult
    broken: CheckResult


def run_demo(folder: Path, now: int, progress: Progress = quiet) -> DemoStory:
    """Surveys, seals and checks the demo disk in ``folder``, then breaks a copy's seal.

    Args:
        folder: made if it is not there; must be empty.
        now: the moment of the seal, seconds since 1970; the change comes a minute later.
        progress: told of each stage.

    Raises:
        RefusedError: the folder holds something.
        UnfinishedError: it cannot be written to.
    """
    _prepare(folder)
    used, sealed, changed = (folder / name for name in (USED_DISK, SEALED_DISK, CHANGED_DISK))
    survey = survey_image(used, SealChoices(), progress)
    before = check_image(used, Level.FULL, progress)
    result = seal_image(used, OutputSpec(sealed), SealChoices(), now, progress)
    after = check_image(sealed, Level.FULL, progress)
    shutil.copy(sealed, changed)
    shutil.copy(record_path(sealed), record_path(changed))
    change_one_file(changed, now + _MINUTE)
    broken = check_image(changed, Level.FULL, progress)
    return DemoStory(folder, survey, before, result, after, broken)


def change_one_file(path: Path, now: int) -> None:
    """Changes one file inside an image in place, as somebody who means no harm might."""
    image = WritableQcow2(HostFile(path, writable=True))
    try:
        guest = Subject.read(image, opener_for_editing(now)).opened.guest
        guest.replace_content(CHANGED_FILE, _NEW_CONTENT)
        guest.finish()
        image.flush()
    finally:
        image.close()


def _prepare(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()):
            raise RefusedError(
                f"{folder} holds something already: name an empty or a new folder with --to"
            )
        disk = resources.files("zeroseal.demo") / USED_DISK
        (folder / USED_DISK).write_bytes(disk.read_bytes())
    except OSError as error:
        raise environment_error(error, folder, "writing") from error
