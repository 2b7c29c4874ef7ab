"""What all tests share."""

from __future__ import annotations

import io
import os
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import pytest
from hypothesis import HealthCheck, settings

from tests import disks
from zeroseal.cli.main import main
from zeroseal.demo.scenario import SHEET, lay_out
from zeroseal.machines.build import build_machine
from zeroseal.machines.yard import Yard

DEMO_TIME = 1_793_000_000

settings.register_profile(
    "ci",
    derandomize=True,
    deadline=None,
    max_examples=40,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
)
settings.register_profile("long", parent=settings.get_profile("ci"), max_examples=2000)
settings.load_profile(os.environ.get("ZEROSEAL_TEST_PROFILE", "ci"))


class Answer(NamedTuple):
    """What a command line answered."""

    status: int
    out: str
    err: str


Command = Callable[..., Answer]


@pytest.fixture
def zeroseal() -> Command:
    """Runs a command line in this process, as the installed command does."""

    def run_command(*words: str | Path) -> Answer:
        out, err = io.StringIO(), io.StringIO()
        status = main([str(word) for word in words], out, err, {"COLUMNS": "120"})
        return Answer(status, out.getvalue(), err.getvalue())

    return run_command


@pytest.fixture(scope="session")
def demo_disk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The used disk of the demo's reference machine; never changed by a test."""
    folder = tmp_path_factory.mktemp("demo")
    lay_out(folder)
    disk = build_machine(folder / SHEET, Yard(folder / "yard"), DEMO_TIME).disk
    disk.chmod(0o444)
    return disk


@pytest.fixture
def bare_guest(tmp_path: Path) -> Path:
    """A volume with a guest that nothing seeds."""
    return disks.make_guest_volume(tmp_path, disks.BARE_GUEST)
