"""Which identity values do several images share?"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import UsageError
from zeroseal.guests.identity_value import IdentityValue, Severity
from zeroseal.images.detect import opened_image
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.messages import sealing as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.inspection import Inspection


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
class Comparison:
    """What several images share.

    Attributes:
        images: in the order given.
        values: the identity values of each.
        shared: values that two or more have, the worst first.
    """

    images: tuple[Path, ...]
    values: tuple[tuple[IdentityValue, ...], ...]
    shared: tuple[SharedValue, ...]

    @property
    def worst(self) -> Severity:
        """The worst that is shared; ``BY_DESIGN`` where nothing else is."""
        return max((item.value.severity for item in self.shared), default=Severity.BY_DESIGN)

    @property
    def are_unique(self) -> bool:
        """Whether nothing is shared but what clones share by design."""
        return all(item.value.by_design for item in self.shared)


def compare_images(
    paths: list[Path], progress: Progress = quiet, reach: Reach = OWN_FOLDER
) -> Comparison:
    """Compares the identity values of at least two images; nothing is written.

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
    values = []
    for number, path in enumerate(paths):
        progress(Step("reading identities", number, len(paths), "images"))
        with opened_image(path, reach=reach) as image:
            values.append(tuple(read_values(Inspection.read(image))))
    owners: dict[IdentityValue, list[int]] = {}
    for number, found in enumerate(values):
        for value in found:
            owners.setdefault(value, []).append(number)
    shared = [
        SharedValue(value, tuple(images)) for value, images in owners.items() if len(images) > 1
    ]
    shared.sort(key=lambda item: -item.value.severity)
    return Comparison(tuple(paths), tuple(values), tuple(shared))


def read_values(inspection: Inspection) -> list[IdentityValue]:
    """All identity values of a disk, each once, in a fixed order."""
    found = [*inspection.system.identity_values(), *_volume_ids(inspection)]
    return list(dict.fromkeys(found))


def _volume_ids(inspection: Inspection) -> Iterator[IdentityValue]:
    if inspection.disk.disk_uuid:
        yield IdentityValue("disk GUID", inspection.disk.disk_uuid)
    for volume in inspection.disk.volumes:
        if volume.content.uuid:
            yield IdentityValue("volume UUID", volume.content.uuid)
