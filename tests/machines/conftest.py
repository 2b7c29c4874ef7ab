"""What the tests of machines share: the demo's sheet and an empty yard."""

from __future__ import annotations

from pathlib import Path

import pytest

from zeroseal.demo.scenario import SHEET, lay_out
from zeroseal.machines.yard import Yard


@pytest.fixture
def sheet(tmp_path: Path) -> Path:
    """The demo's build sheet, with its base disk beside it."""
    lay_out(tmp_path / "sheet")
    return tmp_path / "sheet" / SHEET


@pytest.fixture
def yard(tmp_path: Path) -> Yard:
    """A yard without machines."""
    return Yard(tmp_path / "yard")
