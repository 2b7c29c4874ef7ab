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

_PREPARE = (
    "zeroseal demo --to all --quiet && mv all/gangway.toml all/tideline-4.qcow2 . && "
    "mv all/purser-ref.qcow2 . && "
    "cp all/yard/gangway-ref/disk.qcow2 gangway.qcow2 && cp all/gangway.sealed.qcow2* . && "
    "mkdir yard && mv all/yard/by-accident yard/"
)

# a password that no catalogue knows
_RELAY = (
    '--set \'use.files=[{path="/etc/ferry/relay.conf", text="password = not-a-real-password-31"}]\''
)

# name of the picture: the commands that it shows, in a folder with the demo's files
SHOTS: dict[str, str] = {
    "build": "zeroseal build gangway.toml; sed -i 's/^cpus/cpu/' gangway.toml; "
    "zeroseal build gangway.toml",
    "survey": "zeroseal survey gangway.qcow2",
    "seal": "zeroseal seal gangway.qcow2 -o new.qcow2",
    "export": "zeroseal export gangway.sealed.qcow2 --format vhdx -o gangway.vhdx; "
    "zeroseal export gangway.sealed.qcow2 --format ova -o gangway.ova --disk-size 64M; "
    "tar tvf gangway.ova; zeroseal export gangway.qcow2 --format raw --compress -o x",
    "check": "zeroseal check gangway.qcow2 | head -16; "
    "zeroseal check gangway.sealed.qcow2 --deep --against gangway.qcow2; "
    "zeroseal check yard/by-accident/disk.qcow2",
    "shelf": "cd all; zeroseal shelf list; zeroseal shelf show gangway; "
    "zeroseal shelf remove gangway@2026-11 --yes",
    "clone": "cd all; zeroseal clone gangway --name east --to pier --linked --disk-size 64M; "
    "zeroseal check yard/ledger-one/disk.qcow2 --as ledgers.csv; "
    "zeroseal clone ledger --sheet ledgers.csv --to yard; sed -i s/192.0.2.1,/192.0.9.1,/ *.csv; "
    "zeroseal clone ledger --sheet ledgers.csv --to pier",
    "compare": "zeroseal compare all/yard/gangway-*h/disk.qcow2 | head -1; "
    "zeroseal compare gangway.qcow2 all/yard/gangway-ref/disk.qcow2 all/yard/gangway-north/*.qcow2",
    "many": "mkdir pier out; cp gangway.qcow2 pier/north.qcow2; "
    "cp tideline-4.qcow2 pier/south.qcow2; "
    "head -c 90000 gangway.qcow2 > pier/west.qcow2; zeroseal survey pier; "
    "zeroseal seal pier --to out; zeroseal check out pier --stop-at-first --junit answers.xml; "
    "printf 'version = 1\\n[gate]\\nproof = \"deep\"\\nsealed-within-days = 30\\n' > gate.toml; "
    "zeroseal check out --gate gate.toml --state state.json; "
    "zeroseal check out --gate gate.toml --state state.json --changed",
    "yard": "cp -r all/yard/gangway-ref yard/; "
    "zeroseal yard snapshot gangway-ref before-tide --purpose 'a way back'; "
    "zeroseal yard start gangway-ref; zeroseal yard list; zeroseal yard stop gangway-ref; "
    "zeroseal yard show gangway-ref; zeroseal yard remove gangway-ref < /dev/null; "
    "zeroseal yard show nobody",
    "renew": "zeroseal build gangway.toml --quiet > built; "
    "zeroseal renew gangway-ref --template gangway "
    '--set \'simulated.answers=[{run="gate", output=["nothing more to do"], '
    'installs={gate="4.2"}}]\'; zeroseal shelf list; zeroseal yard show gangway-ref',
    "trial": "zeroseal trial gangway.sealed.qcow2 --host simulated --sheet gangway.toml; "
    "zeroseal trial gangway.qcow2 --host simulated",
    "learn": f"zeroseal build gangway.toml --yard y --quiet {_RELAY} "
    "> built; cp y/gangway-ref/disk.qcow2 pier.qcow2; "
    "zeroseal learn pier.qcow2 --host simulated --draft-rules rules.toml; tail -9 rules.toml; "
    "zeroseal survey pier.qcow2 --unclaimed | tail -18",
    "traces": "zeroseal traces | head -1; zeroseal traces --family wire; "
    "zeroseal traces --on gangway.qcow2 --family keys --family people --family disk",
    "windows": "zeroseal seal purser-ref.qcow2 --dry-run --reissue-sid | head -59",
    "demo": "zeroseal demo",
    "contents": "zeroseal contents gangway.qcow2 --every --cyclonedx gangway.cdx.json; "
    "head -14 gangway.cdx.json; cd all; zeroseal contents gangway; "
    "zeroseal shelf diff gangway@2026-10 gangway@2026-11 | head -12",
}


# pictures that a command draws: the command, to which the picture's name is added
# pictures that are taken while the last command runs: after so many seconds of it
WHILE: dict[str, float] = {}
DRAWN = {
    "report": "zeroseal report gangway.sealed.qcow2 --against gangway.qcow2 --quiet --png",
    "shelf-page": "zeroseal shelf page --shelf all/shelf --to pages --quiet; sh -c 'chromium "
    "--headless=new --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 "
    "--screenshot=$0 pages/gangway/2026-11.html 2>/dev/null'",
}


def draw(name: str, folder: Path) -> None:
    """Lets the tool draw the picture itself."""
    subprocess.run(_PREPARE, shell=True, cwd=folder, check=True, stdout=subprocess.DEVNULL)
    picture = PICTURES / f"{name}.png"
    picture.unlink(missing_ok=True)
    subprocess.run(f"{DRAWN[name]} {picture}", shell=True, cwd=folder, check=True)


def take(name: str, folder: Path) -> None:
    """Runs one command in a terminal and takes its picture."""
    shown = SHOTS[name]
    subprocess.run(_PREPARE, shell=True, cwd=folder, check=True, stdout=subprocess.DEVNULL)
    lines = [f"printf '$ %s\\n' {shlex.quote(part)}; {part}\n" for part in shown.split("; ")]
    end = f"touch {folder}/.done\n"
    lines.insert(len(lines) - (name in WHILE), end)
    text = "".join(lines)
    (folder / ".show").write_text(f"export TERM=xterm-256color\n{text}sleep 60\n")
    terminal = subprocess.Popen(
        ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "8", "-geometry", "182x61+0+0",
         "-bg", "#10151a", "-fg", "#d8dee6", "+sb", "-e", "bash", ".show"],
        cwd=folder, env=os.environ | {"DISPLAY": DISPLAY},
    )  # fmt: skip
    try:
        for _ in range(600):
            if (folder / ".done").exists():
                break
            time.sleep(0.1)
        time.sleep(WHILE.get(name, 0.5))
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
        for name in sys.argv[1:] or (*SHOTS, *DRAWN):
            with tempfile.TemporaryDirectory() as folder:
                (draw if name in DRAWN else take)(name, Path(folder))
            print(f"docs/screenshots/{name}.png")
    finally:
        screen.kill()
        screen.wait()


if __name__ == "__main__":
    main()
