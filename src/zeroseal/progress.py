"""How long work tells what it is doing: an optional callable that takes one small value."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


class Step(NamedTuple):
    """Where a piece of work stands.

    ``done`` and ``total`` count in ``unit``; ``total`` is 0 while it is not known. ``detail`` is a
    line of what is going on, such as the last of a console.
    """

    stage: str
    done: int
    total: int
    unit: str = "bytes"
    detail: str = ""


Progress = Callable[[Step], None]


def quiet(_step: Step) -> None:
    """The progress callback for work that nobody watches."""
