"""Takes the pictures of docs/screenshots: every command on the demo's disk, in a real terminal.

Needs Xvfb, xterm, ImageMagick's ``import`` and the DejaVu fonts. Run from the checkout with the
tool installed: ``python scripts/make_screenshots.py [COMMAND ...]``.
"""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PICTURES = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
DISPLAY = ":97"
SIZE = "1280x800"

# name of the picture: the command line that it shows, and those that must have run before
SHOTS: dict[str, tuple[str, list[str]]] = {
    "survey": ("zeroseal survey gangway.qcow2", []),
    "seal": ("zeroseal seal gangway.qcow2 -o gangway.sealed.qcow2", []),
    "check": (
        "zeroseal check gangway.qcow2 | head -20; zeroseal check gangway.sealed.qcow2; "
        "zeroseal check gangway.changed.qcow2",
        ["zeroseal demo --to . --quiet"],
    ),
    "traces": ("zeroseal traces", []),
    "trace": ("zeroseal traces keys.ssh-host", []),
    "demo": ("zeroseal demo", []),
    "lock-out": (
        "zeroseal seal gangway.qcow2 --dry-run --skip keys.ssh-host; "
        "zeroseal seal gangway.qcow2 -o new.qcow2 --retain-account bob; "
        "zeroseal seal gangway.qcow2 -o gangway.qcow2",
        [],
    ),
}


def take(name: str, folder: Path) -> None:
    """Runs one command in a terminal and takes its picture."""
    shown, before = SHOTS[name]
    demo = Path(__file__).resolve().parent.parent / "src/zeroseal/demo/gangway.qcow2"
    for command in before:
        subprocess.run(command, shell=True, cwd=folder, check=True, stdout=subprocess.DEVNULL)
    if name != "demo" and not (folder / demo.name).exists():
        (folder / demo.name).write_bytes(demo.read_bytes())
    lines = "".join(f"printf '$ %s\\n' {shlex.quote(part)}; {part}\n" for part in shown.split("; "))
    (folder / ".show").write_text(f"export TERM=xterm-256color\n{lines}touch .done\nsleep 60\n")
    terminal = subprocess.Popen(
        ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "9", "-geometry", "158x53+0+0",
         "-bg", "#10151a", "-fg", "#d8dee6", "+sb", "-e", "bash", ".show"],
        cwd=folder, env=os.environ | {"DISPLAY": DISPLAY},
    )  # fmt: skip
    try:
        for _ in range(200):
            if (folder / ".done").exists():
                break
            time.sleep(0.1)
        time.sleep(0.5)
        picture = PICTURES / f"{name}.png"
        words = ["import", "-display", DISPLAY, "-window", "root", "-strip", str(picture)]
        subprocess.run(words, check=True)
    finally:
        terminal.kill()
        terminal.wait()


def main() -> None:
    """Takes all pictures, or those named."""
    PICTURES.mkdir(parents=True, exist_ok=True)
    screen = subprocess.Popen(
        ["Xvfb", DISPLAY, "-screen", "0", f"{SIZE}x24"], stderr=subprocess.DEVNULL
    )
    try:
        time.sleep(1)
        for name in sys.argv[1:] or SHOTS:
            with tempfile.TemporaryDirectory() as folder:
                take(name, Path(folder))
            print(f"docs/screenshots/{name}.png")
    finally:
        screen.kill()
        screen.wait()


if __name__ == "__main__":
    main()
