"""Zero Seal as a library: survey, plan, seal, check and compare disk images from a program.

Everything takes paths and plain values, returns frozen dataclasses, and writes nothing to a
terminal. Every error that is raised on purpose is a ``ZeroSealError``: its ``message`` is a
sentence, its ``code`` is stable, ``facts`` has the details. Long work reports to ``progress``, a
callable that takes one ``Step``; raising from it ends the work with nothing written::

    from pathlib import Path
    from zeroseal import api

    policy = api.make_policy(api.SealOptions(retained_accounts=("ops",)))
    if api.survey(Path("gate.qcow2"), policy).is_ready:
        sealed = api.seal(Path("gate.qcow2"), api.NewFile(Path("sealed.qcow2")), policy)
        print(sealed.output.path, sealed.record)

The command line is made of these functions. What a function needs is imported when it is called.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from zeroseal.errors import ZeroSealError
from zeroseal.progress import Progress, Step, quiet

if TYPE_CHECKING:
    from zeroseal.sealing.check import CheckResult
    from zeroseal.sealing.compare import Comparison
    from zeroseal.sealing.job import PlannedSeal, SealResult, Target
    from zeroseal.sealing.policy import MachineKnowledge, Policy, SealOptions
    from zeroseal.sealing.signing import RecordSigner, TrustedKey
    from zeroseal.sealing.survey import DataSurvey, Survey
    from zeroseal.sealing.targets.in_place import InPlace
    from zeroseal.sealing.targets.new_file import NewFile
    from zeroseal.sealing.targets.rehearsal import Rehearsal, Rehearsed
    from zeroseal.sealing.targets.tree import SealedTree
    from zeroseal.sealing.verdict import Level, Verdict

__all__ = [
    "CheckResult",
    "Comparison",
    "DataSurvey",
    "InPlace",
    "Level",
    "NewFile",
    "PlannedSeal",
    "Policy",
    "Progress",
    "RecordSigner",
    "Rehearsal",
    "Rehearsed",
    "SealOptions",
    "SealResult",
    "SealedTree",
    "Step",
    "Survey",
    "TrustedKey",
    "Verdict",
    "ZeroSealError",
    "check",
    "check_tree",
    "compare",
    "make_policy",
    "plan",
    "plan_tree",
    "quiet",
    "read_signer",
    "read_trusted",
    "seal",
    "survey",
    "survey_tree",
]

_PLACES = {
    "CheckResult": "sealing.check",
    "Comparison": "sealing.compare",
    "DataSurvey": "sealing.survey",
    "InPlace": "sealing.targets.in_place",
    "Level": "sealing.verdict",
    "NewFile": "sealing.targets.new_file",
    "PlannedSeal": "sealing.job",
    "Policy": "sealing.policy",
    "RecordSigner": "sealing.signing",
    "Rehearsal": "sealing.targets.rehearsal",
    "Rehearsed": "sealing.targets.rehearsal",
    "SealOptions": "sealing.policy",
    "SealResult": "sealing.job",
    "SealedTree": "sealing.targets.tree",
    "Survey": "sealing.survey",
    "TrustedKey": "sealing.signing",
    "Verdict": "sealing.verdict",
}

ResultT = TypeVar("ResultT")


def __getattr__(name: str) -> Any:
    """Loads a type of the library on its first use."""
    if name in _PLACES:
        return getattr(import_module(f"zeroseal.{_PLACES[name]}"), name)
    raise AttributeError(f"{__name__}.{name}")


def make_policy(
    options: SealOptions | None = None,
    rules: Sequence[Path] = (),
    *,
    machine: MachineKnowledge | None = None,
    source_format: str = "",
    follow: Sequence[Path] = (),
) -> Policy:
    """What is treated, kept and allowed.

    Args:
        options: what you choose for this image; None for the defaults.
        rules: files of house rules; a later one goes over those before it.
        machine: what is known of the machine that the disk belongs to.
        source_format: the format of images whose names and first bytes differ; empty to detect it.
        follow: folders whose files an image may use as backing files, extents and data files.

    Raises:
        MissingError, UsageError: a file of rules cannot be read or is wrong, a trace is not known,
            or options contradict each other.
    """
    from zeroseal.images.reach import Reach
    from zeroseal.sealing.house_rules import read_house_rules
    from zeroseal.sealing.policy import resolve

    read = read_house_rules(list(rules))
    return resolve(options, read, machine, Reach(source_format, tuple(follow)))


def survey(
    image: Path, policy: Policy | None = None, *, snapshot: str = "", progress: Progress = quiet
) -> Survey | DataSurvey:
    """Reads what is on an image and whether it is ready to be sealed; writes nothing.

    Args:
        image: a disk image, an OVA or OVF, or a block device.
        policy: the choices of the seal to judge it for; None for the defaults.
        snapshot: the name of an internal snapshot of a qcow2 image; empty for its present state.
        progress: called as the work goes on.

    Returns:
        A ``Survey`` of the guest; a ``DataSurvey`` of an image that has only NTFS volumes without
        a system.

    Raises:
        ImageError, RefusedError: the image cannot be read, or is not supported.
    """
    from zeroseal.sealing.survey import survey_any

    return survey_any(image, policy or make_policy(), progress, snapshot)


def survey_tree(root: Path, policy: Policy | None = None, *, progress: Progress = quiet) -> Survey:
    """The same for a folder or a tar archive with a root file system.

    Raises:
        ImageError, RefusedError: it cannot be read, or is not supported.
    """
    from zeroseal.sealing.survey import survey_tree as survey_root

    return survey_root(root, policy or make_policy(), progress)


def plan(
    image: Path, policy: Policy | None = None, *, snapshot: str = "", progress: Progress = quiet
) -> PlannedSeal:
    """What a seal would do, exactly as it would be carried out; writes nothing.

    Raises:
        ImageError, RefusedError: the image cannot be read, or is not supported. Blockers and
            lock-outs are not raised: ``planned.plan`` has them.
    """
    from zeroseal.sealing.job import plan_image

    return plan_image(image, policy or make_policy(), progress, snapshot)


def plan_tree(
    root: Path, policy: Policy | None = None, *, progress: Progress = quiet
) -> PlannedSeal:
    """The same for a folder or a tar archive with a root file system."""
    from zeroseal.sealing.targets.tree import plan_tree as plan_root

    return plan_root(root, policy or make_policy(), progress)


def seal(
    image: Path,
    target: Target[ResultT],
    policy: Policy | None = None,
    *,
    now: int | None = None,
    signer: RecordSigner | None = None,
    progress: Progress = quiet,
) -> ResultT:
    """Seals an image; the result is proven before it is written, or nothing is.

    Args:
        image: the source, which changes only where ``target`` says so.
        target: where the result goes: ``NewFile(path)``, ``InPlace()``, ``SealedTree(path)`` for a
            folder or archive, or ``Rehearsal()``, which writes nothing and says what would stop it.
        policy: what to treat and to keep; None for the defaults.
        now: the moment that everything changed is given, seconds since 1970; None for this one.
        signer: who signs the seal record, from ``read_signer``.
        progress: called as the work goes on.

    Returns:
        A ``SealResult``; a ``Rehearsed`` for a rehearsal.

    Raises:
        ImageError: the source cannot be read, or is not supported.
        RefusedError: a blocker, a lock-out, or a target that is refused.
        UnfinishedError: no space, or a proof that did not hold. Nothing is left behind.
    """
    from zeroseal.sealing.job import SealRequest
    from zeroseal.sealing.job import seal as carry_out

    moment = int(time.time()) if now is None else now
    return carry_out(SealRequest(image, target, policy or make_policy(), moment, signer), progress)


def check(
    image: Path,
    level: Level | None = None,
    policy: Policy | None = None,
    *,
    original: Path | None = None,
    trusted: Sequence[TrustedKey] = (),
    with_file: bool = False,
    progress: Progress = quiet,
) -> CheckResult:
    """Whether an image is sealed; writes nothing.

    Args:
        image: a disk image, an OVA or OVF, or a block device.
        level: ``Level.QUICK`` compares with the record only, ``FULL`` looks for traces too (the
            default), ``DEEP`` searches the bytes too.
        policy: the site's: its own traces and texts, and what may stay.
        original: for ``Level.DEEP``, the unsealed image whose values are searched for.
        trusted: keys from ``read_trusted``; where given, only a record that one signed counts.
        with_file: whether to tell too that this is the very file that was sealed.
        progress: called as the work goes on.

    Raises:
        ImageError: the container itself cannot be read. A disk that cannot be judged is a result:
            ``Verdict.UNKNOWN`` with its ``error``.
    """
    from dataclasses import replace

    from zeroseal.sealing.check import check_image, compare_file
    from zeroseal.sealing.verdict import Level

    policy = policy or make_policy()
    found = check_image(image, level or Level.FULL, progress, original, policy)
    if with_file:
        found = replace(found, file_answer=compare_file(found, progress))
    return _gated(_trusting(found, trusted), policy)


def check_tree(
    root: Path,
    policy: Policy | None = None,
    *,
    trusted: Sequence[TrustedKey] = (),
    progress: Progress = quiet,
) -> CheckResult:
    """The same for a folder or a tar archive with a root file system.

    Raises:
        ImageError: it cannot be read.
    """
    from zeroseal.sealing.check import check_tree as check_root

    policy = policy or make_policy()
    return _gated(_trusting(check_root(root, progress, policy), trusted), policy)


def compare(
    images: Sequence[Path],
    *,
    policy: Policy | None = None,
    every_file: bool = False,
    progress: Progress = quiet,
) -> Comparison:
    """Which identity values and secrets at least two images share; writes nothing.

    Of an image with its machine file beside it, what identifies the machine outside of the disk is
    compared too.

    Args:
        images: disk images.
        policy: the site's: what may be the same, and what images are.
        every_file: whether all files that no package owns are compared too.
        progress: called as the work goes on.

    Raises:
        UsageError: fewer than two images, or one of them twice.
        ImageError, RefusedError: one cannot be read.
    """
    from zeroseal.machines.outside_values import values_beside
    from zeroseal.sealing.compare import compare_images

    outside = {image: values_beside(image) for image in images}
    return compare_images(list(images), progress, policy or make_policy(), every_file, outside)


def read_signer(key: Path, passphrase: bytes = b"") -> RecordSigner:
    """Who signs seal records: a private Ed25519 key (OpenSSH or PEM).

    Raises:
        MissingError, UsageError: it cannot be read or opened.
    """
    from zeroseal.sealing.signing import read_signer as read

    return read(key, lambda: passphrase)


def read_trusted(keys: Sequence[Path]) -> tuple[TrustedKey, ...]:
    """The public keys of whoever may sign seal records.

    Raises:
        MissingError, UsageError: a file cannot be read, or has no such key.
    """
    from zeroseal.sealing.signing import read_trusted as read

    return read(list(keys))


def _trusting(found: CheckResult, trusted: Sequence[TrustedKey]) -> CheckResult:
    if not trusted:
        return found
    from zeroseal.sealing.trust import require_signature

    return require_signature(found, tuple(trusted))


def _gated(found: CheckResult, policy: Policy) -> CheckResult:
    """The result with what the policy's gate says of it."""
    if policy.gate.is_empty:
        return found
    from dataclasses import replace

    from zeroseal.sealing.gate import judge_gate

    keys = read_trusted([Path(name) for name in policy.gate.signed_by])
    return replace(found, gate=judge_gate(policy.gate, found, keys, int(time.time())))
