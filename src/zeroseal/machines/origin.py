"""Where a machine's disk comes from: a verified base disk, or an empty one to install on."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path

from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, MissingError, UsageError
from zeroseal.images.convert import write_disk
from zeroseal.images.copying import copy_image_file
from zeroseal.images.create import ContainerSpec
from zeroseal.images.detect import opened_image
from zeroseal.images.facts import read_image_facts
from zeroseal.images.host_file import hash_file
from zeroseal.images.output import OutputFile
from zeroseal.images.qcow2.write import WritableQcow2
from zeroseal.images.reach import Reach
from zeroseal.machines.sheet.load import LoadedSheet
from zeroseal.machines.sheet.model import Origin
from zeroseal.messages import machines as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.volumes.grow import grow_disk

MEBIBYTE = 1 << 20
DEFAULT_DISK_MIB = 20 << 10  # of a disk that is installed on, where the sheet says nothing
_KINDS = {64: "sha256", 128: "sha512"}
_COREUTILS = re.compile(r"^([0-9a-fA-F]{64}|[0-9a-fA-F]{128}) [ *](.+)$")
_BSD = re.compile(r"^SHA(?:256|512) \((.+)\) = ([0-9a-fA-F]{64}|[0-9a-fA-F]{128})$")


def make_first_disk(loaded: LoadedSheet, folder: Path, progress: Progress = quiet) -> str:
    """Makes a machine's boot disk in a folder and returns its file name.

    Raises:
        MissingError, DamagedError: the base disk is not there, or is another one.
        UsageError: it needs other files too, or is larger than the sheet wants the disk.
        UnfinishedError: no space.
    """
    sheet = loaded.sheet
    wanted_bytes = (sheet.machine.disk_mib or 0) * MEBIBYTE
    if not sheet.origin.base_disk:
        make_empty_disk(folder / "disk.qcow2", wanted_bytes or DEFAULT_DISK_MIB * MEBIBYTE)
        return "disk.qcow2"
    base = loaded.file(sheet.origin.base_disk, "origin.base_disk")
    verify_checksum(base, expected_checksum(loaded), progress)
    reach = Reach(sheet.origin.base_format)
    facts = read_image_facts(base, reach)
    if facts.other_files:
        raise UsageError(messages.BASE_DISK_NEEDS_OTHER_FILES_TOO.format(base=base))
    progress(Step("copying the base disk", 0, 0))
    if not wanted_bytes or wanted_bytes == facts.size_bytes:
        name = f"disk.{facts.format_name}"
        copy_image_file(base, folder / name)
        (folder / name).chmod(0o644)
        return name
    with opened_image(base, reach=reach) as image:
        _write_grown(image, folder / "disk.qcow2", wanted_bytes, progress)
    return "disk.qcow2"


def make_empty_disk(target: Path, size_bytes: int) -> None:
    """Makes an empty disk (qcow2)."""
    with OutputFile(target) as output:
        WritableQcow2.create(output.file, size_bytes).flush()
        output.commit()


def expected_checksum(loaded: LoadedSheet) -> str:
    """The checksum that a sheet names: in hexadecimal, SHA-256 or SHA-512 by its length.

    Raises:
        MissingError: the file with checksums is not there.
        UsageError: it has no line for the base disk.
    """
    origin = loaded.sheet.origin
    if not origin.checksums:
        return origin.sha256 or origin.sha512
    path = loaded.file(origin.checksums, "origin.checksums")
    name = Path(origin.base_disk).name
    for line in path.read_text("utf-8", "replace").splitlines():
        if (match := _COREUTILS.match(line)) and Path(match[2]).name == name:
            return match[1].lower()
        if (match := _BSD.match(line)) and Path(match[1]).name == name:
            return match[2].lower()
    raise UsageError(messages.CHECKSUM_LINE_MISSING.format(path=path, name=name))


def verify_checksum(base: Path, expected: str, progress: Progress = quiet) -> None:
    """Reads a file and compares its SHA-256 or SHA-512, by the length of what is expected.

    Raises:
        MissingError: it is not there.
        DamagedError: it has another checksum.
    """
    if not base.is_file():
        raise MissingError(messages.BASE_DISK_NOT_FOUND.format(base=base))
    kind = _KINDS[len(expected)]
    got = hash_file(base, hashlib.new(kind), "verifying the base disk", progress)
    if got != expected:
        raise DamagedError(
            messages.NOT_DISK_THAT_SHEET_NAMES.format(base=base, kind=kind.upper(), actual=got),
            expected=expected,
            got=got,
        )


def check_media(loaded: LoadedSheet, progress: Progress = quiet) -> list[Path]:
    """The media that a sheet attaches for the build, verified where it gives a checksum.

    Raises:
        MissingError, DamagedError: one is not there, or is another one.
    """
    origin: Origin = loaded.sheet.origin
    paths = []
    for medium in [origin.install, *origin.media]:
        if medium is None:
            continue
        path = loaded.file(medium.path, "origin")
        if medium.sha256:
            verify_checksum(path, medium.sha256, progress)
        paths.append(path.resolve())
    return paths


def _write_grown(image: Store, target: Path, size_bytes: int, progress: Progress) -> None:
    grown, _moved = grow_disk(image, size_bytes)
    with OutputFile(target) as output:
        write_disk(grown, output.file, ContainerSpec("qcow2"), target.name, progress)
        output.commit()
