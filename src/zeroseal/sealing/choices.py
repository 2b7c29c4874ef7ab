"""What the administrator chose for a seal."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.errors import UsageError
from zeroseal.traces.load import get_trace
from zeroseal.traces.model import FAMILIES, Trace


@dataclass(frozen=True)
class SealChoices:
    """Choices of one seal; the defaults remove everything the catalogue knows.

    Attributes:
        only: trace ids or families to treat; empty for all.
        skip: trace ids or families to leave alone.
        retained_accounts: human accounts that stay.
        keep_root_login: whether root's password and login keys stay.
        plant_first_boot: whether a small unit of ours makes new host keys on the first boot.
        expect_seed: whether the administrator vouches that every clone gets a seed.
        search_values: whether the result's bytes are searched for the values that are removed.
        allow_residue: whether a value that is found there does not stop the seal.
    """

    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    retained_accounts: tuple[str, ...] = ()
    keep_root_login: bool = False
    plant_first_boot: bool = False
    expect_seed: bool = False
    search_values: bool = True
    allow_residue: bool = False

    def __post_init__(self) -> None:
        for name in (*self.only, *self.skip):
            if name not in FAMILIES:
                get_trace(name)  # raises UsageError for a name that is none
        both = [name for name in self.only if name in self.skip]
        if both:
            raise UsageError(f"{both[0]} is named by --only and by --skip: choose one")

    @property
    def keeps_something(self) -> bool:
        """Whether something stays on purpose in which removed values may be named."""
        return bool(self.only or self.skip or self.retained_accounts or self.keep_root_login)

    def treats(self, trace: Trace) -> bool:
        """Whether a trace is to be treated."""
        names = (trace.id, trace.family)
        chosen = not self.only or any(name in self.only for name in names)
        return chosen and not any(name in self.skip for name in names)
