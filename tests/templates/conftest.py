"""What the tests of shelf and clones share: a sealed disk, a shelf with it, and clones of it."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import DEMO_TIME
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.job import SealRequest, seal
from zeroseal.sealing.policy import DEFAULT_POLICY
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.templates.clone import CloneBatch, CloneSource, make_clones
from zeroseal.templates.clone_sheet.load import row_of, wish_of
from zeroseal.templates.shelf.entry import Template
from zeroseal.templates.shelf.intake import NewTemplate, take_in
from zeroseal.templates.shelf.shelf import Shelf

KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGFkYWFkYWFkYWFkYWFkYWFkYWFkYWFkYWFkYWFkYWFk ops"


def sealed_file(disk: Path, path: Path, now: int = DEMO_TIME + 100) -> Path:
    """Another ``now`` makes another disk: it stands in what was changed."""
    seal(SealRequest(disk, NewFile(path), DEFAULT_POLICY, now))
    return path


@pytest.fixture(scope="session")
def sealed(demo_disk: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    return sealed_file(demo_disk, tmp_path_factory.mktemp("sealed") / "sealed.qcow2")


@pytest.fixture
def shelf(tmp_path: Path) -> Shelf:
    return Shelf(tmp_path / "shelf")


@pytest.fixture
def template(shelf: Shelf, sealed: Path) -> Template:
    return add(shelf, sealed, "gangway", "2026-11", "ticket gate")


def add(
    shelf: Shelf, image: Path, name: str = "gangway", version: str = "1", notes: str = ""
) -> Template:
    return take_in(shelf, image, NewTemplate(name, version, notes), DEMO_TIME + 200)


def make(
    template: Template,
    yard: Yard,
    *names: str,
    key: str = KEY,
    user: str = "ops",
    progress: Progress = quiet,
    shelf: Shelf | None = None,
    grow_last: bool = False,
    format_name: str = "",
    **settings: object,
) -> list[YardMachine]:
    users = [{"name": user, "public_keys": [key] if key else []}]
    rows = [row_of({"name": name, "users": users} | settings) for name in names]
    source = CloneSource(template.disk, template.entry.title, template)
    wishes = tuple(wish_of(row, Path()) for row in rows)
    batch = CloneBatch(
        source, wishes, DEMO_TIME + 250, format_name=format_name, grow_last=grow_last
    )
    return [made.machine for made in make_clones(batch, yard, shelf, progress)]
