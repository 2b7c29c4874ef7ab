"""A seal that is done but for its output: on the staged disk, with all residue listed at once.

``draft_rules`` turns what is left into house rules to choose from: each place may be allowed,
become a trace of the site, or its value be searched no more.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from zeroseal.blocks.pipeline import search_store
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import CachedStore
from zeroseal.documents import toml_value
from zeroseal.images.detect import open_image
from zeroseal.images.image import Image
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.job import AppliedSeal, Bench, PlannedSeal, SealRequest, Target
from zeroseal.sealing.place_finder import NAMES_SUFFIX
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.proof import Proof, left_over_of, prove
from zeroseal.sealing.residue import Residue


@dataclass(frozen=True)
class Rehearsed:
    """What a seal would do, and how it would end.

    Attributes:
        left_over: what would stop it: values in places that nothing treats and nobody allowed.
    """

    planned: PlannedSeal
    proof: Proof
    left_over: tuple[Residue, ...]

    @property
    def would_seal(self) -> bool:
        """Whether the seal would end well."""
        return not self.left_over


@dataclass(frozen=True)
class Rehearsal(Target[Rehearsed]):
    """Nowhere: the staged layer is proven and thrown away.

    Attributes:
        snapshot: the name of the source's snapshot; empty for its present state.
    """

    snapshot: str = ""

    @contextmanager
    def open(self, request: SealRequest[Rehearsed]) -> Iterator[Bench[Rehearsed]]:
        """Opens the source."""
        image = open_image(request.source, self.snapshot, request.policy.reach)
        staged = StagedStore(CachedStore(image))
        try:
            yield _RehearsalBench(image, staged)
        finally:
            staged.close()
            image.close()


class _RehearsalBench(Bench[Rehearsed]):
    def __init__(self, image: Image, staged: StagedStore) -> None:
        self._image, self._staged = image, staged

    def inspect(self, policy: Policy) -> Inspection:
        return Inspection.read(self._staged, policy.recovers_journal, self._image)

    def deliver(self, applied: AppliedSeal) -> Rehearsed:
        with applied.checking(self._staged) as check:
            hits = search_store(self._staged, applied.needles, check.follow)
            proof = prove(check.wait(), applied.values, hits)
        return Rehearsed(applied.planned, proof, left_over_of(proof, applied.planned.plan))


def draft_rules(rehearsal: Rehearsed) -> str:
    """House rules in which each place that is left is a choice, in comments; ready to be edited."""
    return "\n".join(_iter_draft(rehearsal)) + "\n"


def _iter_draft(rehearsal: Rehearsed) -> Iterator[str]:
    found = rehearsal.left_over
    source = rehearsal.planned.source.path
    yield f"# House rules, drafted from a rehearsal of {source}."
    yield "# Each place that would stop the seal is listed up to three times: remove the '#' from"
    yield "# the line of your choice."
    yield "version = 1"
    yield ""
    yield "[allow]"
    yield "# 1. It may stay:"
    yield "residue = ["
    for place in dict.fromkeys(item.place for item in found):
        labels = ", ".join(dict.fromkeys(item.label for item in found if item.place == place))
        yield f"  # {toml_value(place)},  # {labels}"
    yield "]"
    yield ""
    yield "[search]"
    yield "# 2. It is not searched for at all:"
    yield "leave-out = ["
    for label in dict.fromkeys(item.label for item in found):
        yield f"  # {toml_value(label)},"
    yield "]"
    paths = dict.fromkeys(item.place for item in found if item.place.startswith("/"))
    for number, place in enumerate(paths, 1):
        path = place.partition(", inside")[0].removesuffix(NAMES_SUFFIX)
        yield ""
        yield "# 3. Every seal treats it, as a trace of your site (treatment: remove or empty):"
        yield "# [[trace]]"
        yield f'# id = "leftovers.site-{number}"'
        yield f'# title = "Of this site ({number})"'
        yield '# why = "it names the machine that was sealed"'
        yield '# guest = "linux"'
        yield f"# paths = [{toml_value(path)}]"
        yield '# treatment = "remove"'
        yield '# regrowth = { by = "what creates it again, or that it is not needed" }'
