#!/usr/bin/env python3
"""Makes the disk of the Windows lab machine: ``make_windows_disk.py DIR DATA [--resealed]``.

DATA is what ``fetch-windows-data.sh`` brought. Needs ntfs-3g, /dev/fuse, gdisk, dosfstools, mtools,
and the project with its tests on the path; run it from the checkout.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[2]))

from tests.windows_lab import MANY, make_lab

if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("data", type=Path)
    parser.add_argument("--components", type=int, default=MANY, help="files of the component store")
    parser.add_argument("--resealed", action="store_true", help="as its own pass leaves a machine")
    words = parser.parse_args()
    lab = make_lab(words.folder, words.data, components=words.components, resealed=words.resealed)
    print(lab.disk)
