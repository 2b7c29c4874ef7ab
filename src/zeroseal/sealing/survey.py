"""What is this disk, what identity is on it, is it fit to be sealed?"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import NoGuestError
from zeroseal.filesystems.driver import VolumeState
from zeroseal.filesystems.drivers import VolumeTrees, read_disk
from zeroseal.guests.system import GuestSystem, SystemFacts
from zeroseal.images.detect import opened_image
from zeroseal.images.facts import ImageFacts, facts_of, stored_by_part
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.inspection import Inspection, iter_states, recoverable
from zeroseal.sealing.judge import Guard, guard
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy
from zeroseal.sealing.readiness import Readiness, assess
from zeroseal.sentences import capitalised
from zeroseal.traces.finding import Finding
from zeroseal.volumes.disk import Disk


@dataclass(frozen=True)
class Survey:
    """What was found on a disk.

    Attributes:
        stored: how many bytes the image stores of each of ``STRIP_CELLS`` equal parts of the disk.
        mounts: (path, volume name) of the guest's file systems.
        findings: in the order of the catalogue.
        guard: what a seal with this policy would lead to.
        policy: what was asked for.
        guest_system: what runs there, and ``volume_states`` what its volumes say of themselves.
    """

    image: ImageFacts
    disk: Disk
    stored: tuple[int, ...]
    system: SystemFacts
    mounts: tuple[tuple[str, str], ...]
    findings: tuple[Finding, ...]
    readiness: Readiness
    guard: Guard
    policy: Policy
    guest_system: GuestSystem
    volume_states: tuple[VolumeState, ...] = ()

    @property
    def is_ready(self) -> bool:
        """Whether nothing stops a seal with this policy."""
        return not self.readiness.blockers and not self.guard.lock_outs


def survey_image(
    path: Path, policy: Policy = DEFAULT_POLICY, progress: Progress = quiet, snapshot: str = ""
) -> Survey:
    """Surveys an image, or one of its snapshots; nothing is written.

    Raises:
        ImageError, RefusedError: the image cannot be read or handled.
    """
    recover = policy.recovers_journal
    with (
        opened_image(path, snapshot, policy.reach) as image,
        recoverable(image, recover) as store,
    ):
        return survey_inspected(Inspection.read(store, recover, image), policy, progress)


def survey_tree(path: Path, policy: Policy = DEFAULT_POLICY, progress: Progress = quiet) -> Survey:
    """Surveys a folder or a tar archive; nothing is written.

    Raises:
        ImageError, RefusedError: it cannot be read or handled.
    """
    from zeroseal.sealing.tree_image import inspected_tree  # of no use to a disk

    with inspected_tree(path) as inspection:
        return survey_inspected(inspection, policy, progress)


def survey_inspected(inspection: Inspection, policy: Policy, progress: Progress) -> Survey:
    """The survey of what was inspected."""
    policy = inspection.fit_policy(policy)
    findings = inspection.find_all(policy, progress)
    treated = [finding for finding in findings if policy.treats(finding.trace)]
    image = inspection.get_image()
    return Survey(
        image=facts_of(image),
        disk=inspection.disk,
        stored=stored_by_part(image),
        system=inspection.facts,
        mounts=tuple((m.path, m.source) for m in inspection.guest.mounts),
        findings=tuple(findings),
        readiness=assess(inspection, findings, policy),
        guard=guard(inspection, treated, policy),
        policy=policy,
        guest_system=inspection.system,
        volume_states=inspection.volume_states(),
    )


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
        messages = ["The disk has no operating system that can be sealed."]
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
