"""Inode tables as numpy rows, for what has to look at all inodes at once."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import DTypeLike

EXTENT = np.dtype([("logical", "<u4"), ("length", "<u2"), ("high", "<u2"), ("low", "<u4")])


def inode_rows(fields: Mapping[str, tuple[int, DTypeLike]], inode_bytes: int) -> np.dtype[np.void]:
    """The row of an inode table with only these fields: name to (offset, type)."""
    return np.dtype(
        {
            "names": list(fields),
            "formats": [code for _offset, code in fields.values()],
            "offsets": [offset for offset, _code in fields.values()],
            "itemsize": inode_bytes,
        }
    )
