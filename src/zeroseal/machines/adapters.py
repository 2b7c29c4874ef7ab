"""Checked values out of JSON and TOML: one pydantic adapter a class, made when first asked."""

from __future__ import annotations

from functools import cache
from typing import Any, TypeVar

from pydantic import TypeAdapter

Value = TypeVar("Value")


def adapter_of(kind: type[Value]) -> TypeAdapter[Value]:
    """The adapter of a class; making one takes as long as reading hundreds of files with it."""
    found: TypeAdapter[Value] = _make(kind)  # type: ignore[arg-type]  # a class can be hashed
    return found


@cache
def _make(kind: Any) -> TypeAdapter[Any]:
    return TypeAdapter(kind)
