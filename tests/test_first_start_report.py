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
    said = (
        b"== chkdsk == \r\nWindows has scanned the file system and found no problems.\r\n"
        b"== errors == \r\nEvent[0]:\r\n  Log Name: System\r\n  Source: Service Control Manager\r\n"
        b"  User Name: ada.brine\r\nEvent[1]:\r\n  Source: Service Control Manager\r\n"
        b"== services that did not start == \r\n  STATE : 1  STOPPED \r\n"
    )
    disk = make_windows_disk(tmp_path / "purser.raw", extra={"first-start.txt": said})
    sealed, yard = tmp_path / "sealed.raw", tmp_path / "yard"
    assert zeroseal("seal", disk, "-o", sealed, "--reissue-sid", "--allow-residue").status == 0
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
    assert "- chkdsk: no problems (1)" in text
    assert "- errors: Service Control Manager (2)" in text
    assert "- services that did not start: STOPPED (1)" in text
    assert "ada.brine" not in text
    assert "Please answer" in text
    wrong = subprocess.run([*command[:2], str(disk), str(disk)], capture_output=True, check=False)
    assert (wrong.returncode, b"no seal record" in wrong.stderr) == (2, True)
