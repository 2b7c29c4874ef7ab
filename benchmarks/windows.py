"""A Windows: survey, seal with a new identifier and check, against copying and reading its disk.

Usage: ``PYTHONPATH=. python benchmarks/windows.py [FILES] [KEYS]``. The machine is the made-up
desk, with 20,000 more files and 40,000 more keys unless told otherwise.
"""

from __future__ import annotations

import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from scripts.desk_machine import NOW, files, fill

from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.images.host_file import HostFile
from zeroseal.images.raw import RawImage
from zeroseal.sealing.check import check_image
from zeroseal.sealing.job import SealRequest, seal
from zeroseal.sealing.policy import SealOptions, resolve
from zeroseal.sealing.survey import survey_image
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.sealing.verdict import Level

_SOFTWARE = "Windows/System32/config/SOFTWARE"
_FOLDERS, _VALUES = 200, 4


def make(path: Path, more_files: int, more_keys: int) -> None:
    """One volume on the whole disk."""
    with path.open("wb") as file:
        file.truncate((128 << 20) + more_files * 12288)
    subprocess.run(["mkntfs", "-F", "-Q", "-q", path], check=True, stderr=subprocess.DEVNULL)
    dice, content = random.Random(1), files()
    hive = HiveEditor(content[_SOFTWARE], NOW)
    top = hive.add_key(hive.root, "Classes")
    for number in range(more_keys // 100):
        above = hive.add_key(top, f"class {number}")
        for inner in range(100):
            key = hive.add_key(above, f"member {inner}")
            for value in range(_VALUES):
                data = f"text {dice.randrange(10**9)}".encode("utf-16-le") * 3
                hive.set_value(key, f"value {value}", 1, data)
    content[_SOFTWARE] = hive.build()
    for number in range(more_files):
        folder = f"Windows/WinSxS/part {number % _FOLDERS}"
        content[f"{folder}/file {number}.dll"] = b"MZ" + dice.randbytes(5000)
    editor = NtfsEditor(RawImage(HostFile(path, writable=True)), NOW)
    fill(editor, content)
    editor.finish()


def took(action: Callable[[], object]) -> float:
    """Seconds of one run."""
    began = time.perf_counter()
    action()
    return time.perf_counter() - began


def main(words: list[str]) -> None:
    """Makes the disk, prints the ratios."""
    more_files, more_keys = (int(word) for word in (words + ["20000", "40000"][len(words) :]))
    with tempfile.TemporaryDirectory() as name:
        disk, sealed = Path(name) / "desk.raw", Path(name) / "sealed.raw"
        make(disk, more_files, more_keys)
        policy = resolve(SealOptions(reissue_sid=True))
        copy = took(lambda: subprocess.run(["cp", disk, f"{name}/copy"], check=True))
        read = took(lambda: subprocess.run(["sha256sum", disk], check=True, capture_output=True))
        survey = took(lambda: survey_image(disk, policy))
        sealing = took(lambda: seal(SealRequest(disk, NewFile(sealed), policy, NOW)))
        check = took(lambda: check_image(sealed, Level.FULL))
        print(f"survey / sha256sum of the disk   {survey / read:6.2f}")
        print(f"seal / sha256sum of the disk     {sealing / read:6.2f}")
        print(f"check / sha256sum of the disk    {check / read:6.2f}")
        print(f"seal / cp                        {sealing / copy:6.2f}")


if __name__ == "__main__":
    main(sys.argv[1:])
