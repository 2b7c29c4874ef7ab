"""Which identity values do several images share, and which secrets that no catalogue knows?"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
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
    if len(paths) < 2:
        raise UsageError(messages.TWO_IMAGES_REQUIRED)
    resolved = [path.resolve() for path in paths]
    for number, path in enumerate(resolved):
        if path in resolved[:number]:
            raise UsageError(messages.GIVEN_TWICE.format(paths=paths[number]))
    values, files, others = [], _Files(), _Files()
    for number, path in enumerate(paths):
        progress(Step("reading identities", number, len(paths), "images"))
        with opened_image(path, reach=policy.reach) as image:
            inspection = Inspection.read(image)
            found = [*read_values(inspection), *outside.get(path, ())]
            values.append(tuple(dict.fromkeys(found)))
            files.add_suspects(inspection, policy, number)
            for place in _iter_nobodys(inspection) if every_file else ():
                others.add(inspection, place, "no package's", number)
    owners: dict[IdentityValue, list[int]] = {}
    for number, own in enumerate(values):
        for value in own:
            owners.setdefault(value, []).append(number)
    shared = [
        SharedValue(value, tuple(images)) for value, images in owners.items() if len(images) > 1
    ]
    shared.sort(key=lambda item: -item.value.severity)
    suspects = files.shared()
    known = {item.path for item in suspects}
    same = tuple(item for item in others.shared() if item.path not in known)
    return Comparison(tuple(paths), tuple(values), tuple(shared), suspects, same)


def find_shared_files(paths: list[Path], policy: Policy) -> tuple[SharedFile, ...]:
    """Secrets, and files that look like identity, that two or more images have the same."""
    files = _Files()
    for number, path in enumerate(paths):
        with opened_image(path, reach=policy.reach) as image:
            files.add_suspects(Inspection.read(image), policy, number)
    return files.shared()


class _Files:
    """Files by their content, and who has them."""

    def __init__(self) -> None:
        self._found: dict[bytes, tuple[str, str, list[int]]] = {}

    def add(self, inspection: Inspection, path: str, what: str, number: int) -> None:
        """Notes a file of the image with that number."""
        content = inspection.guest.read_file(path, _LONGEST)
        _path, _what, images = self._found.setdefault(blake3(content).digest(), (path, what, []))
        if number not in images:
            images.append(number)

    def add_suspects(self, inspection: Inspection, policy: Policy, number: int) -> None:
        """Notes what looks like a secret or like identity."""
        for path, what in _iter_suspects(inspection, policy):
            self.add(inspection, path, what, number)

    def shared(self) -> tuple[SharedFile, ...]:
        """Those that two or more images have, by path."""
        found = [SharedFile(path, what, tuple(images)) for path, what, images in
                 self._found.values() if len(images) > 1]  # fmt: skip
        return tuple(sorted(found, key=lambda item: item.path))


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
