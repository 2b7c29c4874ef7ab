"""The report for somebody with a real Windows: made here from a simulated start."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from scripts.desk_machine import SID

from tests.conftest import Command
from tests.windows import make_windows_disk

SCRIPT = Path(__file__).parent.parent / "scripts/first_start_report.py"


def test_the_report_says_what_is_there_again_and_names_no_secret(
    tmp_path: Path, zeroseal: Command
) -> None:
    disk = make_windows_disk(tmp_path / "purser.raw")
    sealed, yard = tmp_path / "sealed.raw", tmp_path / "yard"
    assert zeroseal("seal", disk, "-o", sealed, "--reissue-sid").status == 0
    words = ("--name", "first", "--to", yard, "--reissue-sid")
    assert zeroseal("clone", sealed, *words).status == 0
    for action in ("start", "stop"):
        assert zeroseal("yard", action, "first", "--yard", yard).status == 0
    command = [sys.executable, str(SCRIPT), str(sealed), str(yard / "first/disk.raw")]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    text = done.stdout
    assert text.startswith("# First start of Windows 11 Pro, build 22631")
    rows = [line for line in text.splitlines() if line.startswith("| ")]
    assert any("security identifier" in row and row.endswith("| new |") for row in rows)
    assert any("`keys.windows-ssh-host` | yes" in row for row in rows)
    assert any("`leftovers.memory-dumps` | no" in row for row in rows)
    assert "- partition 2: closed and clean" in text
    assert SID not in text
    assert "Please answer" in text
    wrong = subprocess.run([*command[:2], str(disk), str(disk)], capture_output=True, check=False)
    assert (wrong.returncode, b"no seal record" in wrong.stderr) == (2, True)
