"""Traces of a Windows guest that no pattern can name: where they are, and what is done there."""

from zeroseal.traces.windows import accounts, applications, machine, people, registry

__all__ = ["accounts", "applications", "machine", "people", "registry"]
