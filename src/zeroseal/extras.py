"""Packages that the plain install leaves out, and which extra brings them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from zeroseal.errors import MissingExtraError
from zeroseal.messages import general as messages


@contextmanager
def extra(name: str, what: str) -> Iterator[None]:
    """Around the imports of an extra: a package that is missing is one sentence.

    Args:
        name: the extra, as ``pip install 'zeroseal[NAME]'`` has it.
        what: what needs it, for the message.

    Raises:
        MissingExtraError: a package is not installed.
    """
    try:
        yield
    except ModuleNotFoundError as error:
        if error.name is None or error.name.partition(".")[0] == "zeroseal":
            raise
        raise MissingExtraError(
            messages.EXTRA_MISSING.format(what=what, package=error.name, extra=name), extra=name
        ) from error
