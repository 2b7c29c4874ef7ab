"""What is installed below ``share/``: manual pages and completion, in real shells."""

import os
import subprocess
import sys
from pathlib import Path

import pytest
from scripts.make_man_pages import SCRIPTS, SHARE, files

from tests.conftest import Command
from tests.oracles import need

BASH = """
cd "$1"; source "$2"; shift 2
COMP_WORDS=("$@"); COMP_CWORD=$(($# - 1)); COMP_LINE="$*"; COMP_POINT=${#COMP_LINE}; COMP_TYPE=9
_python_argcomplete zeroseal; printf '%s\\n' "${COMPREPLY[@]}"
"""


def completed(shell: str, folder: Path, *words: str) -> set[str]:
    """What a shell offers for the last word, in a folder."""
    environ = os.environ | {"PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}
    if shell == "bash":
        script = SHARE / "bash-completion/completions/zeroseal"
        given = ["bash", "-c", BASH, "bash", str(folder), str(script), *words]
    else:
        script = SHARE / "fish/vendor_completions.d/zeroseal.fish"
        given = ["fish", "-c", f"cd {folder}; source {script}; complete -C '{' '.join(words)}'"]
    done = subprocess.run(given, capture_output=True, text=True, env=environ, timeout=60)
    return {line.partition("\t")[0].strip() for line in done.stdout.split("\n") if line.strip()}


def test_the_files_are_what_the_parsers_make() -> None:
    for path, text in files().items():
        assert (SHARE / path).read_text() == text, f"run scripts/make_man_pages.py: {path}"
    assert len(list(SHARE.rglob("*.1"))) == sum(path.endswith(".1") for path in files())


def test_the_manual_pages_are_sound() -> None:
    pages = sorted(SHARE.glob("man/man1/*.1"))
    need("mandoc")
    found = subprocess.run(
        ["mandoc", "-T", "lint", *map(str, pages)], capture_output=True, text=True
    )
    bad = [line for line in found.stdout.split("\n") if line and "missing date" not in line]
    assert [line for line in bad if "STYLE" not in line] == []
    seal = subprocess.run(
        ["mandoc", "-T", "utf8", str(SHARE / "man/man1/zeroseal-seal.1")],
        capture_output=True,
        text=True,
    ).stdout
    assert "zeroseal-seal - write a sealed copy of an image" in " ".join(seal.split())


@pytest.mark.parametrize("shell", ["bash", "fish"])
def test_a_shell_completes_commands_options_and_names(
    shell: str, tmp_path: Path, zeroseal: Command
) -> None:
    need(shell)
    for name in ("north", "south"):
        (tmp_path / "yard" / name).mkdir(parents=True)
        (tmp_path / "yard" / name / "machine.toml").touch()
    entry = tmp_path / "shelf/gangway/2026-11/entry.json"
    entry.parent.mkdir(parents=True)
    entry.touch()
    assert {"survey", "seal"} <= completed(shell, tmp_path, "zeroseal", "s")
    assert "--rehearse" in completed(shell, tmp_path, "zeroseal", "seal", "--re")
    assert completed(shell, tmp_path, "zeroseal", "seal", "--skip", "keys.ssh-h") == {
        "keys.ssh-host"
    }
    assert completed(shell, tmp_path, "zeroseal", "yard", "start", "") >= {"north", "south"}
    found = completed(shell, tmp_path, "zeroseal", "shelf", "show", "gang")
    assert found == {"gangway", "gangway@2026-11"}
    assert "gangway" in completed(shell, tmp_path, "zeroseal", "clone", "gangw")
    assert "vhdx" in completed(shell, tmp_path, "zeroseal", "export", "--format", "vh")
    assert zeroseal("completion", shell).out == (SHARE / SCRIPTS[shell]).read_text() + "\n"


def test_zsh_reads_its_script() -> None:
    script = SHARE / SCRIPTS["zsh"]
    need("zsh")
    subprocess.run(["zsh", "-n", str(script)], check=True)
    assert script.read_text().startswith("#compdef zeroseal")
