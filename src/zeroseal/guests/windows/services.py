"""Services of a Windows: which there are, and whether its start starts them."""

from __future__ import annotations

from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.paths import Registry

AUTOMATIC, ON_DEMAND, DISABLED = 2, 3, 4


class WindowsServices:
    """The services that the registry of a guest lists."""

    def __init__(self, registry: Registry) -> None:
        self._registry = registry

    def start_of(self, name: str) -> int | None:
        """How a service starts (0 to 4); None where there is none."""
        for _found, value in self._registry.values(f"SYSTEM\\CSn\\Services\\{name}", "Start"):
            number = value_types.typed(value)
            if isinstance(number, int):
                return number
        return None

    def is_installed(self, name: str) -> bool:
        r"""Whether there is such a service, with a program, that is not disabled.

        A key alone says nothing: every client of Windows 10 has ``Services\NTDS`` without values.
        """
        pattern = f"SYSTEM\\CSn\\Services\\{name}"
        has_program = any(
            value_types.typed(value)
            for _found, value in self._registry.values(pattern, "ImagePath")
        )
        return has_program and self.is_there(name)

    def is_there(self, name: str) -> bool:
        """Whether there is such a service that is not disabled."""
        start = self.start_of(name)
        return start is not None and start < DISABLED

    def is_enabled(self, name: str) -> bool:
        """Whether the system starts it by itself."""
        start = self.start_of(name)
        return start is not None and start <= AUTOMATIC
