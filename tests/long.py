"""What takes long runs whole with ``ZEROSEAL_LONG=1``; otherwise a smaller part of it, or none."""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping
from typing import Any

import pytest

IS_LONG = bool(os.environ.get("ZEROSEAL_LONG"))
only_long = pytest.mark.skipif(not IS_LONG, reason="takes minutes: ZEROSEAL_LONG=1 runs it")


def some_of(cases: Mapping[str, Any], always: Collection[str]) -> list[Any]:
    """Parameters of a test by name; those that are not among ``always`` belong to long runs."""
    return [
        pytest.param(*(case if isinstance(case, list) else [case]), id=name,
                     marks=() if name in always else only_long)
        for name, case in cases.items()
    ]  # fmt: skip
