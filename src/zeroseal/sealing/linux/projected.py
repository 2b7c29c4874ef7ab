"""What a clone will find in a Linux once a plan is carried out."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from zeroseal.guests.linux.cloud_init import CloudInit, read_cloud_init
from zeroseal.guests.linux.services import Services
from zeroseal.sealing.projected_guest import ProjectedGuest
from zeroseal.traces.linux.context import LinuxContext


@dataclass(frozen=True)
class ProjectedLinux(ProjectedGuest[LinuxContext]):
    """See ``ProjectedGuest``."""

    @property
    def services(self) -> Services:
        """What its boot starts."""
        return self.context.services

    @cached_property
    def cloud_init(self) -> CloudInit:
        """What cloud-init will do on a clone."""
        return read_cloud_init(self.guest, self.services, self.gone)
