"""Locks that hypervisors honour, against a real QEMU in both directions."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.oracles import need, run
from zeroseal.errors import InUseError
from zeroseal.images.detect import open_image
from zeroseal.images.in_place import InPlaceChange

pytestmark = pytest.mark.skipif(sys.platform != "linux", reason="such locks are Linux's own")


@contextmanager
def machine_on(path: Path, format_name: str, options: str = "") -> Iterator[subprocess.Popen[str]]:
    """A real machine that has the image open and never begins to run."""
    need("qemu-system-x86_64")
    drive = f"file={path},format={format_name},if=virtio{options}"
    machine = subprocess.Popen(
        ["qemu-system-x86_64", "-display", "none", "-S", "-monitor", "stdio", "-drive", drive],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        time.sleep(1.5)
        yield machine
    finally:
        machine.kill()
        machine.communicate()


@pytest.fixture(params=["raw", "qcow2"])
def image(request: pytest.FixtureRequest, tmp_path: Path) -> tuple[Path, str]:
    path = tmp_path / f"disk.{request.param}"
    run("qemu-img", "create", "-q", "-f", request.param, path, "4M")
    return path, request.param


def test_an_image_in_a_running_machine_is_refused(
    image: tuple[Path, str], zeroseal: Command
) -> None:
    with machine_on(*image):
        for opener in (open_image, InPlaceChange):
            with pytest.raises(InUseError, match="open in another program"):
                opener(image[0])
        answer = zeroseal("survey", image[0])
        assert (answer.status, answer.err.count("\n")) == (4, 1)
    open_image(image[0]).close()


def test_a_machine_does_not_start_on_an_image_that_we_read(image: tuple[Path, str]) -> None:
    opened = open_image(image[0])
    with machine_on(*image) as machine:
        assert machine.poll() == 1
        assert machine.stderr
        assert "lock" in machine.stderr.read()
    opened.close()
    with machine_on(*image) as machine:
        assert machine.poll() is None


def test_readers_stand_beside_each_other_and_writers_stand_alone(image: tuple[Path, str]) -> None:
    one, other = open_image(image[0]), open_image(image[0])
    with machine_on(*image, options=",snapshot=on") as machine:
        assert machine.poll() is None
    with pytest.raises(InUseError):
        InPlaceChange(image[0])
    one.close()
    other.close()
    writer = InPlaceChange(image[0])
    with pytest.raises(InUseError):
        open_image(image[0])
    writer.close()
    open_image(image[0]).close()


def test_a_template_under_running_linked_clones_can_be_read(tmp_path: Path) -> None:
    base, top = tmp_path / "base.qcow2", tmp_path / "top.qcow2"
    run("qemu-img", "create", "-q", "-f", "qcow2", base, "4M")
    run("qemu-img", "create", "-q", "-f", "qcow2", "-b", "base.qcow2", "-F", "qcow2", top)
    with machine_on(top, "qcow2"):
        open_image(base).close()
        with pytest.raises(InUseError):
            open_image(top)
        with pytest.raises(InUseError):
            InPlaceChange(base)
