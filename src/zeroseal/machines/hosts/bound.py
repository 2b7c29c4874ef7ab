"""Programs that end with this process, however it ends."""

from __future__ import annotations

import shutil


def bound_words(words: list[str]) -> list[str]:
    """The same command, which the kernel ends should this process be killed."""
    keeper = shutil.which("setpriv")
    return [keeper, "--pdeathsig", "KILL", *words] if keeper else words
