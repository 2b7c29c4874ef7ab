"""Which identity values do several images share, and which secrets that no catalogue knows?"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType

from blake3 import blake3

from zeroseal.errors import UsageError
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.identity_value import IdentityValue, Severity
from zeroseal.guests.linux.file_claims import FileClaims
from zeroseal.images.detect import opened_image
from zeroseal.messages import sealing as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.judge import find_what_stays
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy
from zeroseal.sealing.what_stays import SECRET_KINDS
from zeroseal.volumes.lvm.identity import list_ids

_ROOTS = ("/etc", "/var/lib", "/var/spool", "/opt", "/usr/local", "/root", "/srv", "/home")
_LEAST_BYTES, _LONGEST = 16, 64 << 20


def letter_of(number: int) -> str:
    """What an image is called in a matrix: A to Z, then AA and so on, as columns of a sheet."""
    rest, letter = divmod(number, 26)
    return (letter_of(rest - 1) if rest else "") + chr(ord("A") + letter)


@dataclass(frozen=True)
class SharedValue:
    """A value and the images that have it, by position."""

    value: IdentityValue
    images: tuple[int, ...]


@dataclass(frozen=True)
class SharedFile:
    """A file with the same content on several images, by position; ``what`` it looks like."""

    path: str
    what: str
    images: tuple[int, ...]


@dataclass(frozen=True)
class DigestedFile:
    """A file of one image; ``what`` it looks like."""

    digest: bytes
    path: str
    what: str


@dataclass(frozen=True)
class Side:
    """What is compared of one image.

    Attributes:
        values: identity values, each once.
        suspects: secrets, and files that look like identity.
        others: all files that no package owns, where that was asked.
    """

    values: tuple[IdentityValue, ...]
    suspects: tuple[DigestedFile, ...]
    others: tuple[DigestedFile, ...] = ()


@dataclass(frozen=True)
class Comparison:
    """What several images share.

    Attributes:
        images: in the order given.
        values: the identity values of each.
        shared: values that two or more have, the worst first.
        files: secrets and files that look like identity, which no package shipped.
        same_files: all other files of nobody's that are the same, where that was asked.
    """

    images: tuple[Path, ...]
    values: tuple[tuple[IdentityValue, ...], ...]
    shared: tuple[SharedValue, ...]
    files: tuple[SharedFile, ...] = ()
    same_files: tuple[SharedFile, ...] = ()

    @property
    def worst(self) -> Severity:
        """The worst that is shared; ``BY_DESIGN`` where nothing else is."""
        return max((item.value.severity for item in self.shared), default=Severity.BY_DESIGN)

    @property
    def are_unique(self) -> bool:
        """Whether nothing is shared but what clones share by design."""
        return all(item.value.by_design for item in self.shared) and not self.files


def compare_images(
    paths: list[Path],
    progress: Progress = quiet,
    policy: Policy = DEFAULT_POLICY,
    every_file: bool = False,
    outside: Mapping[Path, tuple[IdentityValue, ...]] = MappingProxyType({}),
) -> Comparison:
    """Compares the identity values and secrets of at least two images; nothing is written.

    Args:
        paths: the images.
        progress: told of each.
        policy: what may stay, and what images are.
        every_file: whether all files that no package owns are compared too.
        outside: by image, what identifies its machine outside of the disk.

    Raises:
        UsageError: fewer than two images, or one of them twice.
        ImageError, RefusedError: one cannot be read.
    """
    check_paths(paths)
    sides = []
    for number, path in enumerate(paths):
        progress(Step("reading identities", number, len(paths), "images"))
        sides.append(read_side(path, policy, every_file))
    return compare_sides(paths, sides, outside)


def check_paths(paths: list[Path]) -> None:
    """Raises UsageError where there are fewer than two images, or one of them is there twice."""
    if len(paths) < 2:
        raise UsageError(messages.TWO_IMAGES_REQUIRED)
    seen: set[Path] = set()
    for path in paths:
        if path.resolve() in seen:
            raise UsageError(messages.GIVEN_TWICE.format(paths=path))
        seen.add(path.resolve())


def compare_sides(
    paths: list[Path],
    sides: list[Side],
    outside: Mapping[Path, tuple[IdentityValue, ...]] = MappingProxyType({}),
) -> Comparison:
    """Compares what was read of images, wherever that was done; as ``compare_images``."""
    values = tuple(
        tuple(dict.fromkeys((*side.values, *outside.get(path, ()))))
        for path, side in zip(paths, sides, strict=True)
    )
    owners: dict[IdentityValue, list[int]] = {}
    for number, own in enumerate(values):
        for value in own:
            owners.setdefault(value, []).append(number)
    shared = [
        SharedValue(value, tuple(images)) for value, images in owners.items() if len(images) > 1
    ]
    shared.sort(key=lambda item: -item.value.severity)
    suspects = _shared([side.suspects for side in sides])
    known = {item.path for item in suspects}
    others = _shared([side.others for side in sides])
    same = tuple(item for item in others if item.path not in known)
    return Comparison(tuple(paths), values, tuple(shared), suspects, same)


def read_side(path: Path, policy: Policy = DEFAULT_POLICY, every_file: bool = False) -> Side:
    """Reads of an image what is compared; contents of files leave only digests.

    Raises:
        ImageError, RefusedError: it cannot be read.
    """
    with opened_image(path, reach=policy.reach) as image:
        inspection = Inspection.read(image)
        nobodys = _iter_nobodys(inspection) if every_file else ()
        return Side(
            values=tuple(read_values(inspection)),
            suspects=_digested(inspection, _iter_suspects(inspection, policy)),
            others=_digested(inspection, ((place, "no package's") for place in nobodys)),
        )


def find_shared_files(paths: list[Path], policy: Policy) -> tuple[SharedFile, ...]:
    """Secrets, and files that look like identity, that two or more images have the same."""
    sides = []
    for path in paths:
        with opened_image(path, reach=policy.reach) as image:
            inspection = Inspection.read(image)
            sides.append(_digested(inspection, _iter_suspects(inspection, policy)))
    return _shared(sides)


def _digested(inspection: Inspection, files: Iterable[tuple[str, str]]) -> tuple[DigestedFile, ...]:
    return tuple(
        DigestedFile(blake3(inspection.guest.read_file(path, _LONGEST)).digest(), path, what)
        for path, what in files
    )


def _shared(sides: list[tuple[DigestedFile, ...]]) -> tuple[SharedFile, ...]:
    """The files whose content two or more images have, by path."""
    found: dict[bytes, tuple[DigestedFile, list[int]]] = {}
    for number, files in enumerate(sides):
        for file in files:
            _first, images = found.setdefault(file.digest, (file, []))
            if number not in images:
                images.append(number)
    shared = [
        SharedFile(file.path, file.what, tuple(images))
        for file, images in found.values()
        if len(images) > 1
    ]
    return tuple(sorted(shared, key=lambda item: item.path))


def _iter_suspects(inspection: Inspection, policy: Policy) -> Iterator[tuple[str, str]]:
    """Yields (path, what it looks like) of secrets, and of files that look like identity."""
    stays = find_what_stays(inspection, inspection.fit_policy(policy))
    for secret in stays.secrets:
        if inspection.guest.is_file(secret.path):  # and no attribute of one
            yield secret.path, SECRET_KINDS[secret.kind]
    for file in stays.unclaimed:
        yield file.path, f"it {', and '.join(file.reasons)}"


def _iter_nobodys(inspection: Inspection) -> Iterator[str]:
    """Yields files that no package owns; none where no package database lists files."""
    guest, claims = inspection.guest, FileClaims(inspection.guest)
    for root in _ROOTS if claims.is_known else ():
        for path, facts in guest.walk(root) if guest.is_folder(root) else ():
            is_some = facts.kind is Kind.FILE and _LEAST_BYTES <= facts.size_bytes <= _LONGEST
            if is_some and claims.is_nobodys(path):
                yield path


def read_values(inspection: Inspection) -> list[IdentityValue]:
    """All identity values of a disk, each once, in a fixed order."""
    found = [*inspection.system.identity_values(), *_volume_ids(inspection)]
    return list(dict.fromkeys(found))


def _volume_ids(inspection: Inspection) -> Iterator[IdentityValue]:
    disk = inspection.disk
    if disk.disk_uuid:
        yield IdentityValue("disk GUID", disk.disk_uuid)
    for volume in disk.volumes:
        if volume.part_uuid and disk.table == "GPT":
            yield IdentityValue("partition GUID", volume.part_uuid)
        if volume.content.uuid:
            yield IdentityValue("volume UUID", volume.content.uuid)
    for one in list_ids(disk.physical_volumes):
        yield IdentityValue("LVM identifier", one.text)
