"""What is this disk, what identity is on it, is it fit to be sealed?"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Store
from zeroseal.guests.facts import SystemFacts
from zeroseal.guests.windows.identity import WindowsFacts
from zeroseal.guests.windows.volumes import NtfsFacts, read_ntfs_facts
from zeroseal.images.detect import open_image
from zeroseal.images.image import Image
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.guard import Guard
from zeroseal.sealing.lockout import guard
from zeroseal.sealing.readiness import Readiness, assess
from zeroseal.sealing.subject import Subject
from zeroseal.traces.changes import RegistryChange, ReissueSid
from zeroseal.traces.finding import Finding
from zeroseal.traces.model import Trace
from zeroseal.volumes.disk import Disk

STRIP_CELLS = 72
TREE_FORMATS = ("folder", "tar")


@dataclass(frozen=True)
class ImageFacts:
    """The container of a disk.

    Attributes:
        variant: what kind of the format it is; may be empty.
        size_bytes: of the virtual disk; ``file_bytes`` the length of the container's files, and
            ``allocated_bytes`` what they take of the host's disk.
        extents: the container's other files, where it has several.
        chain: the backing files beneath it.
        snapshots: the names of those it keeps inside.
        remarks: what else is to be known of it, sentences.
    """

    path: Path
    format_name: str
    variant: str
    size_bytes: int
    file_bytes: int
    allocated_bytes: int
    extents: tuple[Path, ...]
    chain: tuple[Path, ...]
    snapshots: tuple[str, ...]
    remarks: tuple[str, ...]

    @property
    def is_tree(self) -> bool:
        """Whether it is no disk but a root file system by itself."""
        return self.format_name in TREE_FORMATS

    @property
    def other_files(self) -> tuple[Path, ...]:
        """What must come along when the image is copied."""
        return self.extents + self.chain


@dataclass(frozen=True)
class Survey:
    """What was found on a disk.

    Attributes:
        stored: how many bytes the image stores of each of ``STRIP_CELLS`` equal parts of the disk.
        mounts: (path, volume name) of the guest's file systems.
        findings: in the order of the catalogue.
        guard: what a seal with these choices would lead to.
        choices: what was asked for.
        windows, ntfs: more of a Windows, and of its volumes of NTFS.
    """

    image: ImageFacts
    disk: Disk
    stored: tuple[int, ...]
    system: SystemFacts
    mounts: tuple[tuple[str, str], ...]
    findings: tuple[Finding, ...]
    readiness: Readiness
    guard: Guard
    choices: SealChoices
    windows: WindowsFacts | None = None
    ntfs: tuple[NtfsFacts, ...] = ()

    @property
    def is_ready(self) -> bool:
        """Whether nothing stops a seal with these choices."""
        return not self.readiness.blockers and not self.guard.lock_outs


def survey_image(
    path: Path, choices: SealChoices, progress: Progress = quiet, snapshot: str = ""
) -> Survey:
    """Surveys an image, or one of its snapshots; nothing is written.

    Raises:
        ImageError, RefusedError: the image cannot be read or handled.
    """
    recover = choices.recover_journal
    with opened(path, snapshot, choices.rules.reach) as image, recoverable(image, recover) as store:
        subject = Subject.read(store, recover=recover)
        choices = subject.settle(choices)
        findings = subject.find_all(choices, progress)
        return Survey(
            image=facts_of(image),
            disk=subject.disk,
            stored=stored_by_part(image),
            system=subject.facts,
            mounts=tuple((m.path, m.volume.name) for m in subject.opened.guest.mounts),
            findings=tuple(findings),
            readiness=assess(image, subject, findings, choices),
            guard=guard(
                subject,
                [finding for finding in findings if choices.treats(finding.trace)],
                choices,
            ),
            choices=choices,
            windows=subject.windows,
            ntfs=read_ntfs_volumes(subject.disk) if subject.windows else (),
        )


def read_ntfs_volumes(disk: Disk) -> tuple[NtfsFacts, ...]:
    """The facts of a disk's volumes of NTFS."""
    return tuple(read_ntfs_facts(item) for item in disk.volumes if item.content.kind == "ntfs")


def stored_by_part(image: Image) -> tuple[int, ...]:
    """How many bytes are stored of each of ``STRIP_CELLS`` equal parts of a disk."""
    part = max(1, -(-image.size_bytes // STRIP_CELLS))
    stored = [0] * STRIP_CELLS
    for extent in image.iter_extents(0, image.size_bytes):
        position, end = extent.offset_bytes, extent.offset_bytes + extent.length
        while position < end and not extent.is_zero:
            stop = min(end, (position // part + 1) * part)
            stored[position // part] += stop - position
            position = stop
    return tuple(stored)


@contextmanager
def opened(path: Path, snapshot: str = "", reach: Reach = OWN_FOLDER) -> Iterator[Image]:
    """Opens an image, or one of its snapshots, for reading and closes it again."""
    image = open_image(path, snapshot, reach)
    try:
        yield image
    finally:
        image.close()


@contextmanager
def recoverable(image: Image, recover: bool) -> Iterator[Store]:
    """An image, or a layer over it where its file systems are to be recovered in appearance."""
    if not recover:
        yield image
        return
    staged = StagedStore(image)
    try:
        yield staged
    finally:
        staged.close()


def read_image_facts(path: Path, reach: Reach = OWN_FOLDER) -> ImageFacts:
    """The facts of an image file.

    Raises:
        ImageError, RefusedError: it cannot be opened.
    """
    with opened(path, reach=reach) as image:
        return facts_of(image)


def facts_of(image: Image) -> ImageFacts:
    """The facts of an opened image."""
    return ImageFacts(
        path=image.path,
        format_name=image.format_name,
        size_bytes=image.size_bytes,
        variant=image.variant,
        file_bytes=sum(file.size_bytes for file in image.files),
        allocated_bytes=sum(file.allocated_bytes for file in image.files),
        extents=tuple(file.path for file in image.files[1:]),
        chain=tuple(image.chain[1:]),
        snapshots=tuple(image.snapshots),
        remarks=tuple(image.remarks),
    )


@dataclass(frozen=True)
class TraceSummary:
    """The findings of one trace, counted."""

    trace: Trace
    findings: tuple[Finding, ...]

    @property
    def has_size(self) -> bool:
        """Whether it is files or parts of a volume, and not places of a registry only."""
        return any(
            not isinstance(item.change, RegistryChange | ReissueSid) for item in self.findings
        )

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
