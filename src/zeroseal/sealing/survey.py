"""What is this disk, what identity is on it, is it fit to be sealed?"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from zeroseal.guests.facts import SystemFacts
from zeroseal.images.detect import open_image
from zeroseal.images.image import Image
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.lockout import Guard, guard
from zeroseal.sealing.readiness import Readiness, assess
from zeroseal.sealing.subject import Subject
from zeroseal.traces.finding import Finding
from zeroseal.traces.model import Trace
from zeroseal.volumes.disk import Disk


@dataclass(frozen=True)
class ImageFacts:
    """The container of a disk.

    Attributes:
        size_bytes: of the virtual disk; ``file_bytes`` the container's length, and
            ``allocated_bytes`` what it takes of the host's disk.
        chain: the backing files beneath it.
    """

    path: Path
    format_name: str
    size_bytes: int
    file_bytes: int
    allocated_bytes: int
    chain: tuple[Path, ...]
    snapshot_count: int


@dataclass(frozen=True)
class Survey:
    """What was found on a disk.

    Attributes:
        mounts: (path, volume name) of the guest's file systems.
        findings: in the order of the catalogue.
        guard: what a seal with these choices would lead to.
    """

    image: ImageFacts
    disk: Disk
    system: SystemFacts
    mounts: tuple[tuple[str, str], ...]
    findings: tuple[Finding, ...]
    readiness: Readiness
    guard: Guard

    @property
    def is_ready(self) -> bool:
        """Whether nothing stops a seal with these choices."""
        return not self.readiness.blockers and not self.guard.lock_outs


def survey_image(path: Path, choices: SealChoices, progress: Progress = quiet) -> Survey:
    """Surveys an image; nothing is written.

    Raises:
        ImageError, RefusedError: the image cannot be read or handled.
    """
    with opened(path) as image:
        subject = Subject.read(image)
        findings = subject.find_all(choices, progress)
        return Survey(
            image=facts_of(image),
            disk=subject.disk,
            system=subject.facts,
            mounts=tuple((m.path, m.volume.name) for m in subject.opened.guest.mounts),
            findings=tuple(findings),
            readiness=assess(image, subject),
            guard=guard(
                subject.context(choices),
                [finding for finding in findings if choices.treats(finding.trace)],
                choices,
            ),
        )


@contextmanager
def opened(path: Path) -> Iterator[Image]:
    """Opens an image for reading and closes it again."""
    image = open_image(path)
    try:
        yield image
    finally:
        image.close()


def read_image_facts(path: Path) -> ImageFacts:
    """The facts of an image file.

    Raises:
        ImageError, RefusedError: it cannot be opened.
    """
    with opened(path) as image:
        return facts_of(image)


def facts_of(image: Image) -> ImageFacts:
    """The facts of an opened image."""
    return ImageFacts(
        path=image.path,
        format_name=image.format_name,
        size_bytes=image.size_bytes,
        file_bytes=image.file.size_bytes,
        allocated_bytes=image.file.allocated_bytes,
        chain=tuple(image.chain[1:]),
        snapshot_count=image.snapshot_count,
    )


@dataclass(frozen=True)
class TraceSummary:
    """The findings of one trace, counted."""

    trace: Trace
    findings: tuple[Finding, ...]

    @property
    def size_bytes(self) -> int:
        """How much it is."""
        return sum(finding.size_bytes for finding in self.findings)


def by_trace(findings: tuple[Finding, ...] | list[Finding]) -> list[TraceSummary]:
    """Groups findings by trace, in their order."""
    groups: dict[str, list[Finding]] = {}
    for finding in findings:
        groups.setdefault(finding.trace.id, []).append(finding)
    return [TraceSummary(group[0].trace, tuple(group)) for group in groups.values()]
