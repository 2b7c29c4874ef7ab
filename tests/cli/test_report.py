"""``zeroseal report``: its numbers judged by a plain look at the bytes, its files by readers."""

from __future__ import annotations

import json
import struct
from html.parser import HTMLParser
from pathlib import Path

from tests.conftest import Command
from tests.oracles import to_raw

PIECE = 64 << 10
CELLS = 256


class Page(HTMLParser):
    """Collects a page's text, and whatever it would fetch from elsewhere."""

    def __init__(self) -> None:
        super().__init__()
        self.text = ""
        self.fetched: list[str] = []
        self.open: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "rect"):
            self.open.append(tag)
        self.fetched += [str(value) for name, value in attrs if name in ("src", "href")]

    def handle_endtag(self, tag: str) -> None:
        if tag != "rect":
            assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        self.text += data


def content_of(raw: bytes) -> int:
    """How much of a disk holds content, looked at in the report's own pieces."""
    part, count = -(-len(raw) // CELLS), 0
    position = 0
    while position < len(raw):
        end = min(len(raw), (position // part + 1) * part, (position // PIECE + 1) * PIECE)
        if raw[position:end].strip(b"\0"):
            count += end - position
        position = end
    return count


def test_a_report_before_and_after_is_right_and_stands_by_itself(
    tmp_path: Path, demo_disk: Path, zeroseal: Command
) -> None:
    sealed = tmp_path / "gate <sealed>.qcow2"
    assert zeroseal("seal", demo_disk, "-o", sealed, "--quiet").status == 0
    png, page = tmp_path / "r.png", tmp_path / "r.html"
    answer = zeroseal(
        "report", sealed, "--against", demo_disk, "--png", png, "--html", page, "--json"
    )
    assert answer.status == 0, answer.err
    before, after = json.loads(answer.out)["disks"]
    assert (before["verdict"], after["verdict"]) == ("UNSEALED", "SEALED")
    assert before["findings"] > 30
    assert (after["findings"], after["leftBytes"]) == (0, 0)
    assert before["leftBytes"] > 60_000
    raw = to_raw(sealed, tmp_path / "s.raw").read_bytes()
    assert abs(after["storedBytes"] - content_of(raw)) <= 16 * PIECE
    header = png.read_bytes()[:24]
    assert header[:8] == b"\x89PNG\r\n\x1a\n"
    assert struct.unpack(">II", header[16:24]) == (1280, 620)
    parsed = Page()
    parsed.feed(page.read_text())
    assert parsed.open == []
    assert parsed.fetched == []
    for text in (
        "gate <sealed>.qcow2: SEALED",
        "Human accounts",
        "The catalogue finds nothing on it.",
    ):
        assert text in parsed.text
    assert "ada.brine" not in page.read_text()


def test_a_report_overwrites_nothing_and_is_shown_without_a_file(
    tmp_path: Path, demo_disk: Path, zeroseal: Command
) -> None:
    nowhere = zeroseal("report", demo_disk)
    assert (nowhere.status, "UNSEALED" in nowhere.out) == (0, True)
    (tmp_path / "r.png").write_text("mine")
    taken = zeroseal("report", demo_disk, "--png", tmp_path / "r.png")
    assert taken.status == 4
    assert (tmp_path / "r.png").read_text() == "mine"
    (tmp_path / "no.img").write_bytes(b"no disk")
    assert zeroseal("report", tmp_path / "no.img", "--png", tmp_path / "x.png").status == 3
    assert not (tmp_path / "x.png").exists()
