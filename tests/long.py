"""What takes long runs whole with ``ZEROSEAL_LONG=1``; otherwise a smaller part of it, or none."""

from __future__ import annotations

import os

import pytest

IS_LONG = bool(os.environ.get("ZEROSEAL_LONG"))
only_long = pytest.mark.skipif(not IS_LONG, reason="takes minutes: ZEROSEAL_LONG=1 runs it")
