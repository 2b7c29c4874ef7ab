"""What is written down is still true: generated pages, links, the README's commands."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest

from tests.long import only_long
from tests.messages.test_messages import IDIOM
from zeroseal.cli.main import COMMANDS
from zeroseal.sealing.remark import CODES

ROOT = Path(__file__).resolve().parent.parent
PAGES = sorted([ROOT / "README.md", *(ROOT / "docs").glob("*.md")])
CATALOGUE = sorted((ROOT / "src/zeroseal/traces/catalogue").glob("*.toml"))
WORDS = [*PAGES, ROOT / "CHANGELOG.md", ROOT / "benchmarks/README.md", *CATALOGUE]
# what it prints is for programs or shells, not to be looked at
LONG_PAGES = {"prove-it", "reference-machines", "seal-linux", "seal-windows", "when-it-refuses"}
NOT_SHOWN = {"schema", "completion", "config"}


def test_generated_pages_are_current(tmp_path: Path) -> None:
    words = [sys.executable, "-m", "scripts.make_docs", "--to", str(tmp_path)]
    subprocess.run(words, cwd=ROOT, check=True, stdout=subprocess.DEVNULL)
    assert len(list(tmp_path.iterdir())) >= 7
    for page in tmp_path.iterdir():
        current = (ROOT / "docs" / page.name).read_text()
        assert current == page.read_text(), f"run python -m scripts.make_docs: {page.name} is stale"


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)", page.read_text()):
        if not target.startswith("http"):
            assert (page.parent / target).exists(), f"{page.name} links to {target}"


@pytest.mark.parametrize("page", WORDS, ids=lambda page: page.name)
def test_pages_and_reasons_read_plainly(page: Path) -> None:
    text = " ".join(page.read_text().split())
    found = [text[max(0, at.start() - 40) : at.end() + 20] for at in IDIOM.finditer(text)]
    assert found == []


def test_the_site_builds_without_a_warning(tmp_path: Path) -> None:
    words = [sys.executable, "-m", "mkdocs", "build", "--strict", "-d", str(tmp_path / "site")]
    done = subprocess.run(words, cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert "WARNING" not in done.stderr
    made = {path.stem for path in (tmp_path / "site").glob("*.html")}
    assert made >= {page.stem for page in (ROOT / "docs").glob("*.md")}


@pytest.mark.parametrize("page", ["architecture", "add-a-file-system", "add-a-trace"])
def test_files_that_a_page_names_are_there(page: str) -> None:
    text = (ROOT / "docs" / f"{page}.md").read_text()
    every = [path.as_posix() for path in ROOT.rglob("*") if path.suffix in (".py", ".sh", ".toml")]
    for name in re.findall(r"`([\w/]+\.(?:py|sh|toml))`", text):
        if "NAME" not in name and "FAMILY" not in name:
            assert any(path.endswith(f"/{name}") for path in every), name


def test_every_command_has_a_screenshot_that_the_readme_shows() -> None:
    readme = (ROOT / "README.md").read_text()
    for command in set(COMMANDS) - NOT_SHOWN:
        picture = f"docs/screenshots/{command}.png"
        assert (ROOT / picture).is_file()
        assert picture in readme
    assert len(list((ROOT / "docs/screenshots").iterdir())) < 20


@pytest.mark.parametrize(
    "page",
    [
        pytest.param(page, marks=only_long if page.stem in LONG_PAGES else ())
        for page in PAGES
        if re.search(r"^\$ ", page.read_text(), re.MULTILINE)
    ],
    ids=lambda page: page.name,
)
def test_the_commands_of_a_page_work(tmp_path: Path, page: Path) -> None:
    """Runs every command of a page as it stands there, in order, in an empty folder."""
    for line in re.findall(r"^\$ (.*)", page.read_text(), re.MULTILINE):
        words = line.replace("zeroseal", f"{sys.executable} -m zeroseal", 1)
        done = subprocess.run(
            words, shell=True, cwd=tmp_path, capture_output=True, text=True, check=False
        )
        named = re.search(r"# ends with (\d)", line)
        expected = int(named[1]) if named else 0
        assert done.returncode == expected, f"{line}\n{done.stdout}\n{done.stderr}"


def test_ci_runs_the_two_commands_of_the_readme() -> None:
    commands = re.findall(r"^python3 -m venv .*", (ROOT / "README.md").read_text(), re.MULTILINE)
    assert len(commands) == 2
    lines = (ROOT / ".ci/run").read_text().splitlines()
    assert [line for line in lines if line in commands] == commands
    assert lines[-1] == commands[-1]


def test_every_remark_has_its_line_in_the_house_rules() -> None:
    page = (ROOT / "docs/house-rules.md").read_text()
    missing = [code for code, what in CODES.items() if f"- `{code}`: {what}\n" not in page]
    assert missing == []


def test_an_auditor_verifies_a_signature_by_the_page_alone(demo_disk: Path, tmp_path: Path) -> None:
    from zeroseal import api

    for name in ("ops", "other"):
        words = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / name)]
        subprocess.run(words, check=True)
    signer = api.read_signer(tmp_path / "ops")
    api.seal(demo_disk, api.NewFile(tmp_path / "sealed.qcow2"), signer=signer)
    page = (ROOT / "docs/audit.md").read_text()
    (script,) = re.findall(r"```python\n(.*?)```", page, re.DOTALL)
    words = [sys.executable, "-c", script]
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert "zerosealDiskTree1" in done.stdout
    (tmp_path / "other.pub").rename(tmp_path / "ops.pub")
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert "InvalidSignature" in done.stderr
