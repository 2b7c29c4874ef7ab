"""Traces of a Windows that no pattern can name: where they are, and what is done there."""

from zeroseal.traces.windows import accounts, machine, registry

__all__ = ["accounts", "machine", "registry"]
