"""What a command loads: the code that it uses, and no large package that it does not."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

HEAVY = {
    "bcrypt", "cryptography", "hyperscan", "jinja2", "matplotlib", "msgspec", "numpy",
    "paramiko", "pycdlib", "qemu", "rich", "sqlite3", "yaml",
}  # fmt: skip
RUN = """
import io, json, os, sys
from zeroseal.cli.main import main
status = main(sys.argv[1:], io.StringIO(), sys.stderr, os.environ)
print(json.dumps([status, list(sys.modules)]))
"""


def modules_of(*words: str | Path) -> set[str]:
    """All that is loaded when a command has ended well."""
    done = subprocess.run(
        [sys.executable, "-c", RUN, *map(str, words)], capture_output=True, text=True, check=True
    )
    status, names = json.loads(done.stdout.splitlines()[-1])
    assert status == 0, done.stderr
    return set(names)


@pytest.mark.parametrize(
    ("words", "may_be_there", "most"),
    [
        (["--help"], set(), 50),
        (["traces"], {"rich", "msgspec"}, 94),
        (["shelf", "list", "--shelf", "SHELF"], {"rich", "msgspec", "sqlite3"}, 114),
    ],
    ids=lambda value: value[0] if isinstance(value, list) else "",
)
def test_a_small_command_loads_little(
    tmp_path: Path, words: list[str], may_be_there: set[str], most: int
) -> None:
    loaded = modules_of(*(tmp_path if word == "SHELF" else word for word in words))
    assert loaded & HEAVY <= may_be_there
    assert sum(name.startswith("zeroseal") for name in loaded) < most


def test_a_survey_loads_what_its_disk_needs(demo_disk: Path) -> None:
    """A Linux on ext in a qcow2: no Windows, no other container, nothing that changes a disk."""
    loaded = modules_of("survey", demo_disk)
    assert loaded & HEAVY <= {"msgspec", "numpy", "rich", "yaml"}
    not_needed = (
        "zeroseal.guests.windows", "zeroseal.traces.windows", "zeroseal.sealing.windows",
        "zeroseal.images.ova.", "zeroseal.images.vmdk.read", "zeroseal.images.vhdx.read",
        "zeroseal.images.create", "zeroseal.images.convert", "zeroseal.filesystems.ext.edit",
        "zeroseal.filesystems.xfs.read", "zeroseal.filesystems.ntfs.read", "zeroseal.sealing.job",
        "zeroseal.filesystems.plain.tree", "zeroseal.templates", "zeroseal.demo",
    )  # fmt: skip
    assert [name for name in sorted(loaded) if name.startswith(not_needed)] == []
