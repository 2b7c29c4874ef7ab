"""The names that patterns of the registry begin with; see ``paths.py``."""

from __future__ import annotations

MACHINE_HIVES = ("SYSTEM", "SOFTWARE", "SAM", "SECURITY", "DEFAULT")
USERS, CLASSES = "USERS", "CLASSES"
