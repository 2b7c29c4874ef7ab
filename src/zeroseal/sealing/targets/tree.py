"""A root file system that is no disk: the folder itself, or a new archive of the tree.

The same catalogue, plan and guard as for a disk. Edits are made in a table first and judged there;
then they become a new tar archive, or are carried out on the folder.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, cast

from zeroseal.blocks.digest import DiskDigest
from zeroseal.blocks.search import Searcher
from zeroseal.errors import NotProvenError, UsageError, environment_error
from zeroseal.filesystems.plain.folder import FolderSource
from zeroseal.filesystems.plain.tar import TarSource
from zeroseal.filesystems.plain.tree import PlainTree
from zeroseal.filesystems.tree import Kind
from zeroseal.images.facts import facts_of
from zeroseal.images.output import OutputFile
from zeroseal.messages import sealing as messages
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.job import (
    AppliedSeal,
    Bench,
    PlannedSeal,
    SealRequest,
    SealResult,
    Target,
    plan_inspected,
)
from zeroseal.sealing.plan import Plan
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.proof import Proof
from zeroseal.sealing.record import record_path
from zeroseal.sealing.residue import Residue, not_allowed
from zeroseal.sealing.searched_value import ValueSet
from zeroseal.sealing.tree_image import (
    TreeImage,
    digest_file,
    inspect_tree,
    inspected_tree,
    open_source,
)
from zeroseal.sentences import some_of


@dataclass(frozen=True)
class SealedTree(Target[SealResult]):
    """A folder or a tar archive; an archive never changes.

    Attributes:
        archive: the new tar archive; None to change the folder itself.
    """

    archive: Path | None = None

    @contextmanager
    def open(self, request: SealRequest[SealResult]) -> Iterator[Bench[SealResult]]:
        """Opens the tree.

        Raises:
            UsageError: an archive is to be changed itself.
        """
        source = open_source(request.source, request.now)
        try:
            if self.archive is None and not isinstance(source, FolderSource):
                raise UsageError(messages.ARCHIVE_NOT_SEALED_IN_PLACE)
            yield _TreeBench(self.archive, request.source, source)
        finally:
            source.close()


def plan_tree(path: Path, policy: Policy, progress: Progress = quiet) -> PlannedSeal:
    """Plans the seal of a folder or a tar archive; writes nothing."""
    with inspected_tree(path) as inspection:
        return plan_inspected(inspection, inspection.fit_policy(policy), progress)


class _TreeBench(Bench[SealResult]):
    def __init__(self, archive: Path | None, path: Path, source: FolderSource | TarSource) -> None:
        self._archive, self._path, self._source = archive, path, source

    def inspect(self, policy: Policy) -> Inspection:
        del policy  # there is no journal to recover
        return inspect_tree(self._source.tree, TreeImage(self._path))

    def deliver(self, applied: AppliedSeal) -> SealResult:
        plan, now, source = applied.planned.plan, applied.request.now, self._source
        proof = _prove(source.tree, plan, applied.values, applied.progress)
        if self._archive is not None:
            return self._write_archive(self._archive, applied, proof)
        assert isinstance(source, FolderSource)  # checked when it was opened
        applied.progress(Step("changing the folder", 0, 0))
        source.carry_out(source.tree.changes)
        _check_nothing_left(FolderSource(self._path, now).tree, plan)
        facts = facts_of(TreeImage(self._path))
        return SealResult(applied.planned, facts, record=None, digest=None, proof=proof)

    def _write_archive(self, path: Path, applied: AppliedSeal, proof: Proof) -> SealResult:
        """Writes the archive and its record; nothing has its name before both were read back."""
        progress, request = applied.progress, applied.request
        with OutputFile(path) as target, OutputFile(record_path(path)) as record:
            progress(Step("writing", 0, 0))
            writer = TarSource.writer_for(self._source.tree)
            try:
                with target.file.path.open("wb") as file:
                    writer(cast(BinaryIO, file), path.name)
            except OSError as error:
                raise environment_error(error, path, "writing") from error
            again = TarSource(target.file.path, request.now)
            try:
                _check_nothing_left(again.tree, applied.planned.plan)
            finally:
                again.close()
            digest: DiskDigest = digest_file(target.file.path, progress)
            text = applied.build_record(path.name, digest, proof, request.lineage)
            record.file.write(0, text)
            target.commit()
            record.commit()
        facts = facts_of(TreeImage(path))
        return SealResult(applied.planned, facts, record_path(path), digest, proof)


def _check_nothing_left(tree: PlainTree, plan: Plan) -> None:
    """Raises NotProvenError where the catalogue still finds what was treated."""
    found = inspect_tree(tree).find_all(plan.policy)
    left = [finding.place for finding in found if plan.policy.treats(finding.trace)]
    if left:
        raise NotProvenError(
            messages.TREE_RESULT_HAS_FINDINGS.format(count=len(left), traces=some_of(left)),
            got=len(left),
        )


def _prove(tree: PlainTree, plan: Plan, values: ValueSet, progress: Progress) -> Proof:
    """The catalogue finds nothing again, and no file's content holds a removed value."""
    _check_nothing_left(tree, plan)
    residue = _search(tree, values, progress)
    stands_for_itself = [item for item in residue if not item.label.startswith("account name")]
    left_over = not_allowed(tuple(stands_for_itself), plan.policy)
    if left_over and not plan.policy.keeps_something and not plan.policy.accepts_residue:
        named = some_of([f"{item.label} in {item.place}" for item in left_over])
        raise NotProvenError(
            messages.RESIDUE_IN_FILES.format(named=named),
            got=len(left_over),
        )
    level = "deep" if plan.policy.searches_values else "full"
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
                for _offset, number in searcher.find(content):
                    if values.values[number].is_told:
                        continue
                    key = values.values[number].label, place
                    found[key] = found.get(key, 0) + 1
    return tuple(Residue(label, place, 0, count) for (label, place), count in found.items())
