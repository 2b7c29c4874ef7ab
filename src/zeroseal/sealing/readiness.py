"""Is a machine fit to be sealed? Blockers stop a seal; advice does not."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.blocks.sizes import size_text
from zeroseal.filesystems.driver import Recovery
from zeroseal.images.image import Image
from zeroseal.messages import sealing as messages
from zeroseal.sealing.house_rules import Requirements
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.remark import CONSEQUENCES, Remark
from zeroseal.sealing.what_stays import NOTHING_LOOKED_FOR, SECRET_KINDS, WhatStays
from zeroseal.sentences import capitalised, counted, some_of
from zeroseal.traces.finding import Finding

_NEARLY_FULL = 0.95


@dataclass(frozen=True)
class Readiness:
    """Sentences for the administrator.

    Attributes:
        advice: what a seal does not look into or leaves as it is; it goes into the record.
        hints: what is worth knowing of the guest and its machine.
        consequences: what the policy leads to; they go into the record too.
        stays: what else stays and may be identity or a secret.
    """

    blockers: tuple[str, ...]
    advice: tuple[str, ...]
    hints: tuple[str, ...] = ()
    consequences: tuple[str, ...] = ()
    stays: WhatStays = NOTHING_LOOKED_FOR


def assess(inspection: Inspection, findings: list[Finding], policy: Policy) -> Readiness:
    """Judges a machine by what is on its disk, and by its definition where that is known.

    Args:
        inspection: the image, and what is on its disk.
        findings: all that was found, treated or not.
        policy: what is to be treated; house rules may make a blocker of advice, and the other way.
    """
    treated = [finding for finding in findings if policy.treats(finding.trace)]
    handled = {item.place for item in treated}
    image, judge = inspection.get_image(), inspection.judge
    blockers = [
        (f"The guest mounts {reason}, which cannot be read here: its traces would stay.")
        for reason in inspection.unread
    ]
    blockers += find_unmet(inspection, policy.requirements)
    hints: list[str] = []
    consequences: list[str] = []
    projected = judge.project(inspection, treated, policy)
    stays = judge.find_what_stays(projected, handled)
    remarks = [
        *judge.find_remarks(projected, handled),
        *_weaknesses(inspection),
        *_unread_loaders(inspection, policy),
        *_describe_what_stays(stays),
    ]
    for remark in remarks:
        if remark.code in policy.ignored_remarks:
            continue
        if policy.is_blocker(remark.code):
            blockers.append(remark.text)
        else:
            (consequences if remark.code in CONSEQUENCES else hints).append(remark.text)
    if policy.machine:
        blockers += policy.machine.blockers
        hints += policy.machine.hints
    advice = [_describe_recovery(recovery) for recovery in inspection.recovered]
    advice += inspection.disk.notes
    advice += [
        (f"{reason} is not examined: its contents, such as the loader's random seed, stay.")
        for reason in inspection.boot_unread
    ]
    advice += [
        (f"{volume.name} ({volume.content.kind}) is not mounted by the guest and is not changed.")
        for volume in inspection.unmounted
        if not any(volume.name in reason for reason in inspection.boot_unread)
    ]
    advice += [
        f"{capitalised(place)} is not mounted by the guest and is not changed."
        for place in inspection.opened.subvolumes_apart
    ]
    advice += image.remarks
    advice += _boot_gap(image, inspection)
    if image.snapshots:
        count = len(image.snapshots)
        kept = "an internal snapshot" if count == 1 else f"{count} internal snapshots"
        advice.append(messages.IMAGE_KEEPS_SNAPSHOTS.format(kept=kept))
    if image.has_parent:
        advice.append(messages.IMAGE_HAS_BACKING_FILE)
    advice += _full_volumes(inspection)
    if policy.is_strict and not stays.is_empty:
        blockers.append(messages.STRICT_SEAL.format(counts=stays.counts))
    return Readiness(tuple(blockers), tuple(advice), tuple(hints), tuple(consequences), stays)


def _unread_loaders(inspection: Inspection, policy: Policy) -> Iterator[Remark]:
    """A volume of boot loaders that cannot be read, where clones start by what lies on it."""
    hardware = (policy.machine.hardware if policy.machine else None) or {}
    if hardware.get("firmware") == "uefi" or policy.plants_fallback_loader:
        for reason in inspection.boot_unread:
            yield Remark("no-fallback-loader", messages.LOADERS_NOT_READ.format(reason=reason))


def _describe_what_stays(stays: WhatStays) -> Iterator[Remark]:
    if stays.unclaimed:
        paths = some_of([one.path for one in stays.unclaimed])
        count = counted(len(stays.unclaimed), "file")
        yield Remark("unclaimed-files", messages.UNCLAIMED_FILES.format(count=count, paths=paths))
    for kind, title in SECRET_KINDS.items():
        files = [one.path for one in stays.secrets if one.kind == kind]
        if files:
            text = messages.SECRETS_STAY.format(what=capitalised(title), paths=some_of(files))
            yield Remark(kind, text)
    for covered in stays.covered:
        yield Remark("covered-files", covered.sentence)


def _weaknesses(inspection: Inspection) -> Iterator[Remark]:
    """What file systems say against a seal though they are sound."""
    for mount in inspection.guest.volume_mounts:
        for weakness in mount.driver.find_weaknesses(mount.tree, mount.volume.name):
            yield Remark(weakness.code, weakness.text)


def _describe_recovery(recovery: Recovery) -> str:
    done = [
        counted(count, name)
        for count, name in (
            (recovery.transactions, "transaction"),
            (recovery.blocks, "block"),
            (recovery.orphans, "orphaned inode"),
        )
        if count
    ]
    text = f" ({', '.join(done)})" if done else ""
    where = capitalised(recovery.where)
    return (
        f"{where} was not shut down cleanly. Its journal was recovered, as the "
        f"guest would do on its next start{text}; data that programs had not yet "
        "written is lost."
    )


def _boot_gap(image: Image, inspection: Inspection) -> list[str]:
    """On an MBR disk, whatever lies before the first partition is taken for a boot loader."""
    offset, length = inspection.disk.boot_gap
    if not length or not any(image.read(offset, length)):
        return []
    return [
        (
            "The area before the first partition is assumed to be a boot loader and is "
            f"not changed ({size_text(length)})."
        )
    ]


def _full_volumes(inspection: Inspection) -> list[str]:
    found = []
    for mount in inspection.guest.volume_mounts:
        if "linux" not in mount.driver.holds_root_of:
            continue
        used = mount.driver.used_share(mount.tree)
        if used > _NEARLY_FULL:
            found.append(messages.FILE_SYSTEM_FULL.format(path=mount.path, used=used))
    return found


def find_unmet(inspection: Inspection, required: Requirements) -> Iterator[str]:
    """Sentences about what the rules require and the guest lacks; each stops a seal."""
    system = inspection.system
    if required.packages:
        installed = system.installed()
        for name in required.packages:
            if name not in installed:
                yield messages.RULES_REQUIRE_PACKAGE.format(name=name)
    for service in required.services:
        if not system.is_enabled(service):
            yield messages.RULES_REQUIRE_SERVICE.format(service=service)
    for pattern in required.absent:
        found = inspection.guest.glob(pattern)
        if found:
            yield messages.RULES_FORBID_PATH.format(paths=some_of(found))
    yield from inspection.judge.find_unmet(inspection, required)
