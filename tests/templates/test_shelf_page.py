"""The shelf as pages: read by a real browser, on a wide and on a narrow screen."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.oracles import need
from tests.templates.conftest import add, make, sealed_file
from zeroseal.machines.yard import Yard
from zeroseal.templates.shelf.entry import Template
from zeroseal.templates.shelf.shelf import Shelf

EVIL = "<script>console.error('ran')</script>‮\x1b[31m\"'"
BROWSER = (
    "chromium", "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage",
    "--enable-logging=stderr", "--disable-background-networking", "--virtual-time-budget=2000",
)  # fmt: skip
MEASURE = (
    "<script>document.title = document.documentElement.scrollWidth + ' ' + innerWidth</script>"
)


class Links(HTMLParser):
    """What a page points at."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.found: list[str] = []
        self.tags: set[str] = set()
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.add(tag)
        self.found += [value for name, value in attrs if name in ("href", "src") and value]


def browse(page: Path, *words: str) -> tuple[str, str]:
    """(the page as the browser understood it, what its console said)."""
    import subprocess

    need("chromium")
    done = subprocess.run(
        [*BROWSER, *words, "--dump-dom", page.as_uri()],
        capture_output=True, text=True, timeout=120, check=True,
    )  # fmt: skip
    return done.stdout, "\n".join(re.findall(r".*CONSOLE.*", done.stderr))


@pytest.fixture
def pages(
    template: Template, shelf: Shelf, demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> Path:
    make(template, Yard(tmp_path / "yard"), "north", "south", shelf=shelf)
    add(shelf, sealed_file(demo_disk, tmp_path / "two.qcow2", now=1_999_999_999), version="2")
    shelf.change(shelf.get("gangway@2"), notes=EVIL)
    done = zeroseal("shelf", "page", "--to", tmp_path / "pages", "--shelf", shelf.folder)
    assert done.status == 0, done.err
    return tmp_path / "pages"


def test_every_link_leads_somewhere_and_nothing_is_a_script(pages: Path) -> None:
    files = sorted(pages.rglob("*.html"))
    assert [path.relative_to(pages).as_posix() for path in files] == [
        "gangway/2.html", "gangway/2026-11.html", "index.html",
    ]  # fmt: skip
    for path in files:
        text = path.read_text()
        links = Links(text)
        assert "script" not in links.tags
        for link in links.found:
            assert link == "data:," or (path.parent / link).resolve().is_file(), link
        assert not re.search("[\x00-\x09\x0b-\x1f‮]", text)
    text = (pages / "gangway/2026-11.html").read_text()
    for word in ("north", "Machine ID", "systemd writes a new one", "SSH host keys", "deep: "):
        assert word in text
    assert "Changed since gangway@2026-11" in (pages / "gangway/2.html").read_text()


@pytest.mark.parametrize("width", [1280, 500])
def test_a_browser_shows_it_without_an_error_and_without_scrolling_sideways(
    pages: Path, width: int
) -> None:
    for path in sorted(pages.rglob("*.html")):
        measured = path.with_name(f"measured-{path.name}")
        measured.write_text(path.read_text() + MEASURE)
        shown, said = browse(measured, f"--window-size={width},800")
        assert said == ""
        match = re.search(r"<title>(\d+) (\d+)</title>", shown)
        assert match
        assert int(match[1]) <= int(match[2]) == width, path
        measured.unlink()


def test_a_folder_is_replaced_only_where_it_was_written_here(
    pages: Path, shelf: Shelf, tmp_path: Path, zeroseal: Command
) -> None:
    words = ("shelf", "page", "--shelf", shelf.folder, "--to")
    (pages / "index.html").write_text("old")
    assert zeroseal(*words, pages).status == 0
    assert "gangway@2" in (pages / "index.html").read_text()
    other = tmp_path / "other"
    other.mkdir()
    (other / "mine.txt").write_text("mine")
    refused = zeroseal(*words, other)
    assert refused.status == 4
    assert "did not write" in refused.err
    assert [path.name for path in other.iterdir()] == ["mine.txt"]
    empty = zeroseal("shelf", "page", "--shelf", tmp_path / "none", "--to", tmp_path / "new")
    assert empty.status == 0
    assert "There is no template" in (tmp_path / "new/index.html").read_text()


def test_a_signature_is_shown_as_verified_only_with_its_key(
    shelf: Shelf, demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    import subprocess

    for name in ("ops", "other"):
        key = str(tmp_path / name)
        subprocess.run(
            ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key, "-C", name], check=True
        )
    sealed = tmp_path / "signed.qcow2"
    own = ("--shelf", shelf.folder)
    done = zeroseal("seal", demo_disk, "-o", sealed, "--sign", tmp_path / "ops")
    assert done.status == 0, done.err
    assert zeroseal("shelf", "add", sealed, "--name", "g", "--version", "1", *own).status == 0
    for key, word in (("", "not verified here"), ("ops", "signed by ops"), ("other", "no trusted")):
        trusted = ("--trusted", tmp_path / f"{key}.pub") if key else ()
        to = tmp_path / f"pages{key}"
        assert zeroseal("shelf", "page", "--to", to, *own, *trusted).status == 0
        assert word in (to / "g/1.html").read_text()
