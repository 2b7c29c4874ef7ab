"""Survey, seal and check of a root file system that is no disk.

The same catalogue, plan and guard as for a disk. Edits are made in a table first and judged there;
then they become a new tar archive, or are carried out on the folder.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, cast

from zeroseal.blocks.digest import DiskDigest, digest_store
from zeroseal.blocks.search import Searcher
from zeroseal.errors import DamagedError, NotProvenError, UsageError, environment_error
from zeroseal.filesystems.plain.folder import FolderSource
from zeroseal.filesystems.plain.tar import TarSource
from zeroseal.filesystems.plain.tree import PlainTree
from zeroseal.filesystems.tree import Kind
from zeroseal.images.facts import STRIP_CELLS
from zeroseal.images.output import OutputFile
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.apply import apply_plan
from zeroseal.sealing.check import CheckResult, Level, Verdict
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.house_rules import NO_RULES, HouseRules
from zeroseal.sealing.plan import Plan, check_allowed
from zeroseal.sealing.record import RecordExtras, build_record, find_record, record_path
from zeroseal.sealing.residue import Residue, not_allowed
from zeroseal.sealing.seal import PlannedSeal, plan_opened
from zeroseal.sealing.searched_value import ValueSet
from zeroseal.sealing.some_of import some_of
from zeroseal.sealing.survey import Survey
from zeroseal.sealing.tree_source import FileStore, TreeImage, inspect_tree, open_source
from zeroseal.sealing.values import collect_values
from zeroseal.sealing.verify import Proof

if TYPE_CHECKING:
    from zeroseal.sealing.signing import RecordSigner


@dataclass(frozen=True)
class TreeResult:
    """A finished seal of a tree.

    Attributes:
        output: the new archive, or the folder itself.
        record: the file beside a new archive; None for a folder.
    """

    planned: PlannedSeal
    output: Path
    record: Path | None
    proof: Proof


def survey_tree(path: Path, choices: SealChoices, progress: Progress = quiet) -> Survey:
    """Surveys a folder or a tar archive; nothing is written.

    Raises:
        ImageError, RefusedError: it cannot be read or handled.
    """
    source = open_source(path)
    try:
        inspection = inspect_tree(source.tree)
        choices = inspection.settle(choices)
        planned = plan_opened(TreeImage(path), inspection, choices, progress)
        return Survey(
            image=planned.source,
            disk=inspection.disk,
            stored=(0,) * STRIP_CELLS,
            system=inspection.facts,
            mounts=(("/", "all files"),),
            findings=(*planned.plan.treated, *planned.plan.skipped),
            readiness=planned.plan.readiness,
            guard=planned.plan.guard,
            choices=choices,
        )
    finally:
        source.close()


def plan_tree(path: Path, choices: SealChoices, progress: Progress = quiet) -> PlannedSeal:
    """Plans the seal of a folder or a tar archive; writes nothing."""
    source = open_source(path)
    try:
        inspection = inspect_tree(source.tree)
        return plan_opened(TreeImage(path), inspection, inspection.settle(choices), progress)
    finally:
        source.close()


def seal_tree(
    path: Path,
    output: Path | None,
    choices: SealChoices,
    now: int,
    progress: Progress = quiet,
    signer: RecordSigner | None = None,
) -> TreeResult:
    """Seals a folder or a tar archive.

    Args:
        path: what is sealed; an archive never changes.
        output: the new tar archive; None to change the folder itself.
        choices: what to treat and to keep.
        now: the one moment that everything changed is given, seconds since 1970.
        progress: told of each stage.
        signer: who signs the record; None for nobody.

    Raises:
        ImageError: it cannot be read.
        RefusedError: a blocker, a lock-out, or an output that exists.
        UnfinishedError: no space, or a proof that did not hold.
    """
    source = open_source(path, now)
    try:
        if output is None and not isinstance(source, FolderSource):
            raise UsageError("only a folder is sealed in place: name a new archive with -o OUT.tar")
        inspection = inspect_tree(source.tree)
        choices = inspection.settle(choices)
        planned = plan_opened(TreeImage(path), inspection, choices, progress)
        check_allowed(planned.plan)
        values = collect_values(inspection, choices) if choices.search_values else ValueSet((), ())
        apply_plan(planned.plan, inspection, progress, now)
        proof = _prove(source.tree, planned.plan, values, progress)
        if output is None:
            assert isinstance(source, FolderSource)  # checked above
            progress(Step("changing the folder", 0, 0))
            source.carry_out(source.tree.changes)
            _check_nothing_left(FolderSource(path, now).tree, planned.plan)
            return TreeResult(planned, path, None, proof)
        _write_archive(source, output, planned, proof, now, progress, signer)
        return TreeResult(planned, output, record_path(output), proof)
    finally:
        source.close()


def check_tree(path: Path, progress: Progress = quiet, rules: HouseRules = NO_RULES) -> CheckResult:
    """Checks a folder or a tar archive; nothing is written.

    Raises:
        ImageError: it cannot be read.
    """
    try:
        record = find_record(path) if path.is_file() else None
    except DamagedError as error:
        return CheckResult(
            path, Verdict.UNKNOWN, Level.FULL, error.message, error=error, is_tree=True
        )
    if record and digest_file(path, progress).root != record.root:
        reason = "the archive was changed after it was sealed"
        return CheckResult(
            path, Verdict.BROKEN_SEAL, Level.FULL, reason, record=record, is_tree=True
        )
    source = open_source(path)
    try:
        inspection = inspect_tree(source.tree)
        choices = inspection.settle(SealChoices(rules=rules))
        if record:
            choices = SealChoices(
                retained_accounts=record.retained_accounts,
                keep_root_login=record.keep_root_login,
                rules=rules,
            )
        skipped = record.skipped if record else ()
        found = inspection.find_all(choices, progress)
        findings = tuple(item for item in found if item.trace.id not in skipped)
    finally:
        source.close()
    if findings:
        traces = len({item.trace.id for item in findings})
        reason = f"{len(findings)} findings of {traces} traces are in it"
        return CheckResult(
            path, Verdict.UNSEALED, Level.FULL, reason, findings, record, is_tree=True
        )
    if record is None:
        reason = "no trace was found, but there is no seal record to compare it with"
        return CheckResult(path, Verdict.CLEAN, Level.FULL, reason, is_tree=True)
    if not record.is_complete:
        reason = f"it was sealed in part only: {', '.join(skipped)} were left on purpose"
        return CheckResult(
            path, Verdict.UNSEALED, Level.FULL, reason, (), record, skipped=skipped, is_tree=True
        )
    reason = "no trace was found, and the archive is byte for byte what the seal record describes"
    return CheckResult(
        path, Verdict.SEALED, Level.FULL, reason, record=record, skipped=skipped, is_tree=True
    )


def digest_file(path: Path, progress: Progress = quiet) -> DiskDigest:
    """The digest of an archive, made as that of a disk."""
    store = FileStore(path)
    try:
        return digest_store(store, "reading the archive", progress)
    finally:
        store.close()


def _write_archive(
    source: FolderSource | TarSource,
    output: Path,
    planned: PlannedSeal,
    proof: Proof,
    now: int,
    progress: Progress,
    signer: RecordSigner | None,
) -> None:
    """Writes the archive and its record; nothing has its name before both were read back."""
    with OutputFile(output) as target, OutputFile(record_path(output)) as record:
        progress(Step("writing", 0, 0))
        writer = TarSource.writer_for(source.tree)
        try:
            with target.file.path.open("wb") as file:
                writer(cast(BinaryIO, file), output.name)
        except OSError as error:
            raise environment_error(error, output, "writing") from error
        again = TarSource(target.file.path, now)
        try:
            _check_nothing_left(again.tree, planned.plan)
        finally:
            again.close()
        digest = digest_file(target.file.path, progress)
        plan, system = planned.plan, planned.system
        extras = RecordExtras(signer)
        text = build_record(output.name, digest, plan, system, planned.source, proof, now, extras)
        record.file.write(0, text)
        target.commit()
        record.commit()


def _check_nothing_left(tree: PlainTree, plan: Plan) -> None:
    """Raises NotProvenError where the catalogue still finds what was treated."""
    found = inspect_tree(tree).find_all(plan.choices)
    left = [finding.place for finding in found if plan.choices.treats(finding.trace)]
    if left:
        raise NotProvenError(
            f"the result still holds {len(left)} findings ({some_of(left)}): please report this "
            "with the output of --debug",
            got=len(left),
        )


def _prove(tree: PlainTree, plan: Plan, values: ValueSet, progress: Progress) -> Proof:
    """The catalogue finds nothing again, and no file's content holds a removed value."""
    _check_nothing_left(tree, plan)
    residue = _search(tree, values, progress)
    stands_for_itself = [item for item in residue if not item.label.startswith("account name")]
    left_over = not_allowed(tuple(stands_for_itself), plan.choices.rules)
    if left_over and not plan.choices.keeps_something and not plan.choices.allow_residue:
        named = some_of([f"{item.label} in {item.place}" for item in left_over])
        raise NotProvenError(
            f"values that were to be removed are still in the files ({named}): nothing was "
            "written; remove them first, or accept them with --allow-residue",
            got=len(left_over),
        )
    level = "deep" if plan.choices.search_values else "full"
    return Proof((), level, values.count, values.not_searched, residue)


def _search(tree: PlainTree, values: ValueSet, progress: Progress) -> tuple[Residue, ...]:
    """Looks into every file for the values."""
    if not values.values:
        return ()
    searcher = Searcher(values.needles)
    found: dict[tuple[str, str], int] = {}
    pending = [("", tree.root)]
    while pending:
        path, folder = pending.pop()
        progress(Step("searching values", 0, 0, detail=path))
        for entry in tree.list_folder(folder):
            place = f"{path}/{entry.name.decode('utf-8', 'surrogateescape')}"
            if entry.kind is Kind.FOLDER:
                pending.append((place, entry.node))
            elif entry.kind is Kind.FILE:
                content = tree.read_file(entry.node)
                window = content.ljust(-(-len(content) // 4) * 4 + 4, b"\0")
                for _offset, number in searcher.find(window, len(content)):
                    if values.values[number].is_told:
                        continue
                    key = values.values[number].label, place
                    found[key] = found.get(key, 0) + 1
    return tuple(Residue(label, place, 0, count) for (label, place), count in found.items())
