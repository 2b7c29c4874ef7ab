"""Tables of on-disk records as numpy rows, for what has to look at all of them at once."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import DTypeLike


def row_type(fields: Mapping[str, tuple[int, DTypeLike]], row_bytes: int) -> np.dtype[np.void]:
    """A row of ``row_bytes`` with only these fields: name to (offset in bytes, type)."""
    return np.dtype(
        {
            "names": list(fields),
            "formats": [code for _offset, code in fields.values()],
            "offsets": [offset for offset, _code in fields.values()],
            "itemsize": row_bytes,
        }
    )
