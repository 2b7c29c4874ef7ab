"""A connection to libvirt; its errors are one sentence each."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import libvirt

from zeroseal.errors import HostError
from zeroseal.messages import machines as messages


def open_connection(name: str) -> libvirt.virConnect:
    """Opens a connection by its URI; libvirt's own default where that is empty.

    Raises:
        HostError: there is none, or it is not for us.
    """
    libvirt.registerErrorHandler(lambda _context, _error: None, None)  # else it prints
    shown = name or libvirt_default()
    with refusals(shown):
        return libvirt.open(name or None)


def libvirt_default() -> str:
    """What the default connection is called in messages."""
    return "libvirt's default connection"


@contextmanager
def refusals(connection: str) -> Iterator[None]:
    """Around calls of libvirt.

    Raises:
        HostError: it refused; says what and why.
    """
    try:
        yield
    except libvirt.libvirtError as error:
        reason = (error.get_error_message() or str(error)).strip().rstrip(".")
        raise HostError(
            messages.LIBVIRT_REFUSED.format(connection=connection, reason=reason)
        ) from error
