"""Which judge is for which guest system."""

from __future__ import annotations

from typing import Any

from zeroseal.guests.linux.system import LinuxSystem
from zeroseal.guests.system import GuestSystem
from zeroseal.sealing.judge import Judge


def judge_of(system: GuestSystem) -> Judge[Any]:
    """The judge for a guest's system."""
    if isinstance(system, LinuxSystem):
        from zeroseal.sealing.linux.judge import LinuxJudge

        return LinuxJudge(system)
    from zeroseal.guests.windows.system import WindowsSystem
    from zeroseal.sealing.windows.judge import WindowsJudge

    assert isinstance(system, WindowsSystem)  # there are these two
    return WindowsJudge(system)
