"""What is installed on a template, kept beside its disk as ``contents.json``.

The seal record of the disk names the digest of the list, so that it cannot be exchanged; where an
older record names none, the disk is read.
"""

from __future__ import annotations

from pathlib import Path

from zeroseal.errors import DamagedError
from zeroseal.guests.components import Contents, build_contents, parse_contents
from zeroseal.images.output import replace_small_file
from zeroseal.messages import templates as messages
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.contents import read_contents
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.record import SealRecord, find_record
from zeroseal.templates.shelf.entry import Template

CONTENTS_FILE = "contents.json"


def keep_contents(folder: Path, disk: Path, progress: Progress = quiet) -> None:
    """Writes the list of a template's folder, where it is the one that its record names.

    Another version of this program may have read the same disk in another way.
    """
    contents, record = read_contents(disk, progress=progress), find_record(disk)
    if record and record.contents and record.contents.digest != contents.digest:
        return
    path = folder / CONTENTS_FILE
    replace_small_file(path, build_contents(contents))
    path.chmod(0o444)


def contents_of(template: Template, progress: Progress = quiet) -> Contents:
    """What is installed on a template, from its list, else from its disk.

    Raises:
        DamagedError: there is a list that is not the one of the template's record.
        ImageError, RefusedError: there is none, and the disk cannot be read.
    """
    contents, problem = _read_list(template, find_record(template.disk))
    if problem:
        raise DamagedError(
            messages.CONTENTS_DAMAGED.format(title=template.entry.title, problem=problem)
        )
    if contents is None:
        return read_contents(template.disk, Policy(reach=template.reach), progress=progress)
    return contents


def problem_of(template: Template, record: SealRecord) -> str:
    """What is wrong with the list of a template, half a sentence; empty where nothing is."""
    return _read_list(template, record)[1]


def _read_list(template: Template, record: SealRecord | None) -> tuple[Contents | None, str]:
    """(the list, what is wrong with it)."""
    path = template.folder / CONTENTS_FILE
    if record is None or record.contents is None or not path.is_file():
        return None, ""
    try:
        found = parse_contents(path.read_bytes())
    except (OSError, ValueError, RecursionError) as error:
        return None, f"its list of contents {path} cannot be read ({error})"
    if found.digest != record.contents.digest:
        return None, f"its list of contents {path} is not the one that its seal record names"
    return found, ""
