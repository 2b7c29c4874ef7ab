"""Progress, sizes and interruption: what a terminal, a pipe and a quiet run are shown."""

from __future__ import annotations

import io
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from zeroseal.blocks.sizes import size_text
from zeroseal.blocks.workers import watched
from zeroseal.cli import main as main_module
from zeroseal.cli import ui as ui_module
from zeroseal.cli.main import main
from zeroseal.cli.ui import Ui
from zeroseal.progress import Step


class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


class Clock:
    """A clock that goes on by half a second each time somebody looks."""

    def __init__(self) -> None:
        self.now = 100.0

    def monotonic(self) -> float:
        self.now += 0.5
        return self.now


@pytest.fixture(autouse=True)
def clock(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ui_module, "time", Clock())


def steps() -> list[Step]:
    return [Step("writing", done << 20, 16 << 20) for done in range(0, 17, 2)]


def test_a_terminal_gets_a_bar_that_is_taken_away_again() -> None:
    err = Terminal()
    ui = Ui(io.StringIO(), err, {})
    for step in steps():
        ui.progress(step)
    ui.progress(Step("checking", 1, 3, "volumes"))
    ui.end_progress()
    drawn = err.getvalue()
    assert "writing             [===" in drawn
    assert "16.0 MiB of 16.0 MiB, " in drawn
    assert "MiB/s" in drawn
    assert re.search(r"75%  12.0 MiB of 16.0 MiB, \d\S* MiB/s, 0:0\d left", drawn)
    assert drawn.endswith("\r\x1b[K")


def test_a_stage_that_only_waits_shows_how_long_and_ends_with_its_work() -> None:
    seen: list[Step] = []

    def work() -> str:
        time.sleep(0.35)
        return "done"

    assert watched(work, seen.append, "flushing") == "done"
    assert len(seen) >= 2
    assert set(seen) == {Step("flushing", 0, 0)}
    with pytest.raises(ValueError, match="no"):
        watched(lambda: int("no"), seen.append, "flushing")


def test_a_pipe_gets_one_plain_line_a_stage() -> None:
    err = io.StringIO()
    ui = Ui(io.StringIO(), err, {})
    for step in steps():
        ui.progress(step)
    assert err.getvalue() == "zeroseal: writing ...\n"


def test_a_stage_of_less_than_a_second_is_not_shown() -> None:
    err = io.StringIO()
    Ui(io.StringIO(), err, {}).progress(Step("short", 0, 1))
    assert err.getvalue() == ""


def test_a_quiet_run_shows_nothing() -> None:
    err = Terminal()
    ui = Ui(io.StringIO(), err, {}, quiet=True)
    for step in steps():
        ui.progress(step)
    assert err.getvalue() == ""


@pytest.mark.parametrize(
    ("count", "text"),
    [
        (0, "0 B"),
        (1023, "1023 B"),
        (1024, "1.0 KiB"),
        (1536, "1.5 KiB"),
        (150 << 20, "150 MiB"),
        (1 << 30, "1.0 GiB"),
        (5 << 40, "5.0 TiB"),
        (3 << 60, "3072 PiB"),
    ],
)
def test_sizes_read_as_people_say_them(count: int, text: str) -> None:
    assert size_text(count) == text


@pytest.mark.parametrize(
    ("environ", "width"),
    [
        ({"COLUMNS": "40"}, 80),
        ({"COLUMNS": "100"}, 100),
        ({"COLUMNS": "400"}, 120),
        ({"COLUMNS": "x"}, None),
    ],
)
def test_output_is_80_to_120_columns_wide(environ: dict[str, str], width: int | None) -> None:
    found = Ui(io.StringIO(), io.StringIO(), environ).console.width
    assert found == width if width else 80 <= found <= 120


def test_no_color_is_honoured(demo_disk: Path) -> None:
    for environ, coloured in (
        ({"FORCE_COLOR": "1"}, True),
        ({"FORCE_COLOR": "1", "NO_COLOR": "1"}, False),
    ):
        done = subprocess.run(
            [sys.executable, "-m", "zeroseal", "check", str(demo_disk)],
            capture_output=True, text=True, check=False,
            env={key: value for key, value in os.environ.items() if "COLOR" not in key} | environ,
        )  # fmt: skip
        assert ("\x1b[38" in done.stdout or "\x1b[33" in done.stdout) == coloured


def test_an_interrupt_is_one_sentence_and_130(monkeypatch: pytest.MonkeyPatch) -> None:
    class Interrupted:
        @staticmethod
        def run(*_args: object) -> int:
            raise KeyboardInterrupt

    real = main_module._load
    monkeypatch.setattr(
        main_module,
        "_load",
        lambda name: (
            real(name) if sys._getframe(1).f_code.co_name == "build_parser" else Interrupted
        ),
    )
    out, err = io.StringIO(), io.StringIO()
    assert main(["traces"], out, err, {}) == 130
    assert (
        err.getvalue() == "zeroseal: interrupted: nothing was lost, and nothing was left behind\n"
    )


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM])
def test_the_installed_command_ends_with_130_on_signals(
    tmp_path: Path, demo_disk: Path, how: signal.Signals
) -> None:
    code = (
        "import os, signal, sys\n"
        "from zeroseal.sealing.targets import new_file as target\n"
        "real = target.read_back\n"
        f"target.read_back = lambda *a: (os.kill(os.getpid(), {int(how)}), real(*a))\n"
        "sys.argv[1:] = sys.argv[2:]\n"
        "from zeroseal.cli.main import entry_point\n"
        "entry_point()"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, "-", "seal", str(demo_disk), "-o", "o.qcow2"],
        cwd=tmp_path, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 130
    assert done.stderr.endswith(
        "zeroseal: interrupted: nothing was lost, and nothing was left behind\n"
    )
    assert list(tmp_path.iterdir()) == []


def test_python_m_zeroseal_is_the_command() -> None:
    words = [sys.executable, "-m", "zeroseal", "--version"]
    done = subprocess.run(words, capture_output=True, text=True, check=True)
    assert done.stdout.startswith("zeroseal 0.")
