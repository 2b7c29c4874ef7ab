"""Giving ranges of a file back to the host's file system, or taking room for them; Linux only."""

from __future__ import annotations

import ctypes
import errno
import os
import sys
from functools import cache
from typing import Any

_KEEP_SIZE, _PUNCH_HOLE = 0x01, 0x02  # linux/falloc.h


def punch_hole(descriptor: int, offset_bytes: int, length: int) -> bool:
    """Makes a range of a file a hole that reads as zeros; False where that cannot be done."""
    call = _find_fallocate()
    if call is None:
        return False
    return bool(call(descriptor, _KEEP_SIZE | _PUNCH_HOLE, offset_bytes, length) == 0)


def take_room(descriptor: int, offset_bytes: int, length: int) -> None:
    """Takes room for a range without changing what it reads as, where the host can do that.

    Raises:
        OSError: there is no room.
    """
    call = _find_fallocate()
    if call is None or call(descriptor, _KEEP_SIZE, offset_bytes, length) == 0:
        return
    code = ctypes.get_errno()
    if code in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
        raise OSError(code, os.strerror(code))


@cache
def _find_fallocate() -> Any:
    if sys.platform != "linux":
        return None
    try:
        call = ctypes.CDLL(None, use_errno=True).fallocate64
    except (OSError, AttributeError):
        return None
    call.argtypes = (ctypes.c_int, ctypes.c_int, ctypes.c_int64, ctypes.c_int64)
    return call
