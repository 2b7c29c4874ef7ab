"""What all tests share."""

from __future__ import annotations

import fcntl
import io
import json
import os
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import jsonschema
import pytest
from hypothesis import HealthCheck, settings

from tests import disks
from tests.oracles import need
from zeroseal.cli import ui
from zeroseal.cli.cmd_schema import read_schema
from zeroseal.cli.main import main
from zeroseal.demo.scenario import SHEET, lay_out
from zeroseal.machines.build import BuildWish, build_machine
from zeroseal.machines.hosts.host import Run
from zeroseal.machines.hosts.simulated import SimulatedHost
from zeroseal.machines.sheet.load import load_sheet
from zeroseal.machines.yard import Yard, YardMachine

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


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The slowest files first: the others fill the workers' time beside them."""
    # the second worker begins with what needs no Debian: that is being made meanwhile
    slow = ("test_real_machines", "test_in_place", "test_docs", "test_real_guest")
    items.sort(
        key=lambda item: next((n for n, s in enumerate(slow) if s in item.nodeid), len(slow))
    )


class Answer(NamedTuple):
    """What a command line answered."""

    status: int
    out: str
    err: str


Command = Callable[..., Answer]


def build(sheet: Path, yard: Yard, now: int = DEMO_TIME) -> YardMachine:
    """Builds the machine of a sheet."""
    return build_machine(load_sheet(sheet), yard, BuildWish(now)).machine


def start(yard: Yard, name: str, now: int) -> Run:
    """Starts a machine on the simulated host."""
    return SimulatedHost(yard, now).start(yard.get(name), is_bound=False)


def stop(yard: Yard, name: str, now: int) -> Run:
    """Stops a machine on the simulated host."""
    return SimulatedHost(yard, now).stop(yard.get(name))


def check_schema(text: str) -> None:
    """Holds what a command printed as JSON against its schema."""
    value = json.loads(text)
    if "$schema" not in value:
        schema = json.loads(read_schema(value["schema"].removeprefix("zeroseal.")))
        jsonschema.validate(value, schema)


@pytest.fixture
def zeroseal(monkeypatch: pytest.MonkeyPatch) -> Command:
    """Runs a command line in this process, as the installed command does.

    Progress is shown after a minute only: how long a stage takes depends on what else runs.
    """
    monkeypatch.setattr(ui, "_QUIET_SECONDS", 60.0)

    def run_command(*words: str | Path) -> Answer:
        out, err = io.StringIO(), io.StringIO()
        status = main([str(word) for word in words], out, err, {"COLUMNS": "120"})
        if "--json" in words:
            check_schema(out.getvalue())
        return Answer(status, out.getvalue(), err.getvalue())

    return run_command


@pytest.fixture(scope="session")
def demo_disk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The used disk of the demo's reference machine; never changed by a test."""
    folder = tmp_path_factory.mktemp("demo")
    lay_out(folder)
    disk = build(folder / SHEET, Yard(folder / "yard")).disk
    disk.chmod(0o444)
    return disk


@pytest.fixture(scope="session")
def debian(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A used disk of a real, bootable Debian 12, made once for all workers.

    It is made by ``tests/lab/make-debian-disk.sh`` (root, loop devices, a package mirror);
    ``ZEROSEAL_DEBIAN_DISK`` names one that is there already.
    """
    given = os.environ.get("ZEROSEAL_DEBIAN_DISK")
    return Path(given) if given else _make_debian(tmp_path_factory, "ext4")


@pytest.fixture(scope="session")
def debian_on_xfs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same system with its root on XFS over LVM; ``ZEROSEAL_DEBIAN_XFS_DISK`` names one."""
    given = os.environ.get("ZEROSEAL_DEBIAN_XFS_DISK")
    return Path(given) if given else _make_debian(tmp_path_factory, "lvm-xfs")


@pytest.fixture(scope="session")
def debian_on_btrfs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same system on btrfs, with snapshots; ``ZEROSEAL_DEBIAN_BTRFS_DISK`` names one."""
    given = os.environ.get("ZEROSEAL_DEBIAN_BTRFS_DISK")
    return Path(given) if given else _make_debian(tmp_path_factory, "btrfs", SNAPSHOT="1")


def _make_debian(factory: pytest.TempPathFactory, layout: str, **more: str) -> Path:
    if os.geteuid() != 0:
        pytest.skip("needs root to make the disk")
    need("mmdebstrap", "sgdisk", "mkfs.vfat", "losetup")
    base = factory.getbasetemp()
    shared = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    path, script = shared / f"{layout}.qcow2", Path(__file__).parent / "lab/make-debian-disk.sh"
    with (shared / "debian.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)  # the other workers wait for the one that makes it
        if not path.exists():
            words = ["bash", str(script), str(path), layout]
            cache = os.environ | {"CACHE": str(shared)} | more
            done = subprocess.run(words, stdout=subprocess.DEVNULL, env=cache, check=False)
            if done.returncode:
                path.unlink(missing_ok=True)
                if not os.environ.get("CI"):
                    pytest.skip("could not make the disk: no package mirror?")
            assert done.returncode == 0
    return path


@pytest.fixture(scope="session")
def windows_data(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Data that Windows wrote, fetched once; ``ZEROSEAL_WINDOWS_DATA`` names a folder of it.

    It is brought by ``tests/lab/fetch-windows-data.sh``, from source packages on the mirror.
    """
    given = os.environ.get("ZEROSEAL_WINDOWS_DATA")
    if given:
        return Path(given)
    base = tmp_path_factory.getbasetemp()
    shared = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    script = Path(__file__).parent / "lab/fetch-windows-data.sh"
    with (shared / "windows-data.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        words = ["bash", str(script), str(shared / "windows-data")]
        done = subprocess.run(words, stdout=subprocess.DEVNULL, check=False)
    if done.returncode and not os.environ.get("CI"):
        pytest.skip("could not fetch the data: no package mirror?")
    assert done.returncode == 0
    return shared / "windows-data"


@pytest.fixture
def bare_guest(tmp_path: Path) -> Path:
    """A volume with a guest that nothing seeds."""
    return disks.make_guest_volume(tmp_path, disks.BARE_GUEST)
