"""What a sealed guest can be told: what decides whether a clone becomes what is wanted."""

from __future__ import annotations

from dataclasses import dataclass

CLOUD_INIT, PLANTED, NOTHING = "cloud-init", "first-boot script", ""
WINDOWS_SET_UP, WINDOWS_REGISTRY = "Windows set-up", "Windows registry"


@dataclass(frozen=True)
class Abilities:
    """What a guest takes.

    Attributes:
        seeded_by: what takes a seed medium: ``cloud-init``, ``first-boot script``, or nothing; of
            a Windows what it is told by, ``Windows set-up`` or ``Windows registry``.
        network: the network service whose files can be written; empty for none that is known.
        makes_host_keys: whether SSH host keys regrow without a seed (or are not needed).
        fallback_loader: whether firmware that knows nothing finds a loader on the EFI partition.
    """

    seeded_by: str = NOTHING
    network: str = ""
    makes_host_keys: bool = True
    fallback_loader: bool = False

    @property
    def is_windows(self) -> bool:
        """Whether it is a Windows, which takes no seed medium."""
        return self.seeded_by in (WINDOWS_SET_UP, WINDOWS_REGISTRY)
