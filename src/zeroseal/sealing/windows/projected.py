"""What a clone will find in a Windows once a plan is carried out."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.sealing.projected_guest import ProjectedGuest
from zeroseal.traces.windows.context import WindowsContext


@dataclass(frozen=True)
class ProjectedWindows(ProjectedGuest[WindowsContext]):
    """See ``ProjectedGuest``."""
