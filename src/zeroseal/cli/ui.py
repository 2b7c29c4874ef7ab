"""Where a command's results, progress and errors go."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, TextIO

from zeroseal.blocks.sizes import size_text
from zeroseal.errors import RefusedError, ResidueError, ZeroSealError
from zeroseal.messages import cli as messages
from zeroseal.progress import Step
from zeroseal.sentences import clean

if TYPE_CHECKING:
    from rich.console import Console

_QUIET_SECONDS = 1.0
_REDRAW_SECONDS = 0.1
_STAGE_CELLS, _BAR_CELLS = 19, 8
_SHARE_TO_TELL = 0.03  # before that, how long the rest takes would be a guess
_MIN_WIDTH, _MAX_WIDTH = 80, 120


class Ui:
    """Results on stdout, everything else on stderr; JSON or text; quiet or not."""

    def __init__(
        self,
        stdout: TextIO,
        stderr: TextIO,
        environ: Mapping[str, str],
        as_json: bool = False,
        quiet: bool = False,
    ) -> None:
        self.as_json = as_json
        self.quiet = quiet
        self._stdout = stdout
        self._stderr = stderr
        self.environ = environ
        self._console: Console | None = None
        self._stage = ""
        self._stage_began = 0.0
        self._drawn_at = 0.0
        self._is_drawn = False

    @property
    def console(self) -> Console:
        """The console that results are printed on, 80 to 120 columns wide."""
        if self._console is None:
            from rich.console import Console

            self._console = Console(
                file=self._stdout,
                width=max(_MIN_WIDTH, min(_MAX_WIDTH, self._width())),
                highlight=False,
                no_color=bool(self.environ.get("NO_COLOR")),
                emoji=False,
                markup=False,
            )
        return self._console

    @property
    def draws(self) -> bool:
        """Whether progress is drawn on a terminal."""
        return not self.quiet and self._stderr.isatty()

    def _width(self) -> int:
        import shutil

        width = self.environ.get("COLUMNS", "")
        return int(width) if width.isdigit() else shutil.get_terminal_size((100, 24)).columns

    def show_json(self, value: Mapping[str, object]) -> None:
        """Prints a value as JSON."""
        print(json.dumps(value, indent=2, ensure_ascii=True), file=self._stdout)

    def show_text(self, text: str) -> None:
        """Prints a text as it is."""
        print(text, end="", file=self._stdout)

    def show_json_line(self, value: Mapping[str, object]) -> None:
        """Prints a value as one line of JSON, at once."""
        print(json.dumps(value, ensure_ascii=True), file=self._stdout, flush=True)

    def show(
        self, to_json: Callable[[], Mapping[str, object]], draw: Callable[[Console], None]
    ) -> None:
        """Prints a result as JSON or as text; the other form is not made."""
        self.end_progress()
        if self.as_json:
            self.show_json(to_json())
        else:
            draw(self.console)

    def tell(self, sentence: str) -> None:
        """Prints a sentence that is not a result on stderr, wrapped at words on a terminal."""
        text = f"zeroseal: {clean(sentence)}"
        if self._stderr.isatty():
            import textwrap

            text = textwrap.fill(
                text, self._width(), subsequent_indent="  ",
                break_long_words=False, break_on_hyphens=False,
            )  # fmt: skip
        print(text, file=self._stderr)

    def tell_line(self, line: str) -> None:
        """Passes on a line of a guest, on stderr."""
        print(clean(line), file=self._stderr)

    def ask(self, yes: bool, what: str, name: str) -> None:
        """Wants a name to be typed once more before something goes for good.

        Raises:
            RefusedError: it was not typed.
        """
        if yes:
            return
        if not sys.stdin.isatty():
            raise RefusedError(messages.CONFIRM_WITH_YES.format(what=what))
        self.tell(f"{what} Type {name} to go on:")
        if sys.stdin.readline().strip() != name:
            raise RefusedError(messages.WRONG_NAME_TYPED)

    def show_error(self, error: ZeroSealError) -> None:
        """Reports what went wrong: one sentence, and with ``--json`` an object too."""
        self.tell(error.message)
        output = error.facts.get("output")
        if isinstance(output, str) and output:
            print("  its output ended with:", file=self._stderr)
            for line in output.splitlines():
                print(f"    {clean(line)}", file=self._stderr)
        for place in error.places if isinstance(error, ResidueError) else ():
            print(f"    {clean(place)}", file=self._stderr)
        if self.as_json:
            from zeroseal.reports.as_json import error_to_json

            self.show_json(error_to_json(error))

    def progress(self, step: Step) -> None:
        """Draws a line on a terminal; elsewhere names each stage that takes over a second."""
        if self.quiet:
            return
        now = time.monotonic()
        if step.stage != self._stage:
            self.end_progress()
            self._stage, self._stage_began, self._drawn_at = step.stage, now, 0.0
        if now - self._stage_began < _QUIET_SECONDS:
            return
        if not self._stderr.isatty():
            if not self._drawn_at:
                detail = f": {step.detail}" if step.detail else ""
                self.tell(f"{step.stage}{detail} ...")
                self._drawn_at = now
            return
        if now - self._drawn_at >= _REDRAW_SECONDS:
            self._drawn_at, self._is_drawn = now, True
            width = self._width() - 1
            elapsed = now - self._stage_began
            line = _draw(step, elapsed, width) if step.total else _draw_elapsed(step, elapsed)
            self._stderr.write("\r" + line[:width] + "\x1b[K")
            self._stderr.flush()

    def end_progress(self) -> None:
        """Takes the progress line away."""
        if self._is_drawn:
            self._stderr.write("\r\x1b[K")
            self._stderr.flush()
            self._is_drawn = False


def _draw_elapsed(step: Step, seconds: float) -> str:
    """A stage whose end is not known: how long it takes already, and what is going on."""
    return f"{step.stage:<{_STAGE_CELLS}} {_clock(seconds):>6}  {clean(step.detail)}"


def _draw(step: Step, seconds: float, width: int) -> str:
    """A stage whose end is known: how much is done, how fast, and how long the rest will take.

    Where there is too little room for all of it, the bar is left out.
    """
    share = min(1.0, step.done / step.total) if step.total else 0.0
    full = round(share * _BAR_CELLS)
    bar = f"[{'=' * full + ' ' * (_BAR_CELLS - full)}] "
    done, total, unit = f"{step.done:,}", f"{step.total:,}", f" {step.unit}"
    if step.unit == "bytes":
        done, total = size_text(step.done), size_text(step.total)
        unit = f", {size_text(int(step.done / max(seconds, 0.001)))}/s"
    left = f", {_clock(seconds / share - seconds)} left" if share > _SHARE_TO_TELL else ""
    numbers = f"{share:4.0%}  {done} of {total}{unit}{left}"
    name = f"{step.stage:<{_STAGE_CELLS}} "
    return name + (bar if len(name + bar + numbers) <= width else "") + numbers


def _clock(seconds: float) -> str:
    """Minutes and seconds, with hours where there are any."""
    whole = round(seconds)
    hours = f"{whole // 3600}:" if whole >= 3600 else ""
    minutes = whole // 60 % 60
    return f"{hours}{minutes:02}:{whole % 60:02}" if hours else f"{minutes}:{whole % 60:02}"
