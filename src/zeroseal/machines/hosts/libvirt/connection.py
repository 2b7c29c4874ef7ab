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
    with refusals(name):
        return libvirt.open(name or None)


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
            messages.LIBVIRT_REFUSED.format(connection=shown_name(connection), reason=reason)
        ) from error


def shown_name(connection: str) -> str:
    """What a connection is called in messages."""
    return connection or "libvirt's default connection"
