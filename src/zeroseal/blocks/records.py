"""On-disk records, declared once and used for reading and for writing.

A record is a class whose fields say where they lie::

    @record(size=16, byte_order="<", source="an imaginary format, section 2")
    class Header(Record):
        magic: bytes = at(0, "4s", "signature")
        blocks: int = at(8, "I", "size in blocks")

``parse`` keeps the raw bytes and ``build`` lays only the declared fields over them, so reserved
fields and those of newer versions survive an edit.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Any, ClassVar, NamedTuple, Self, TypeVar, dataclass_transform

from zeroseal.errors import TruncatedError
from zeroseal.messages import general as messages


class _Field(NamedTuple):
    offset: int
    code: str
    meaning: str


def at(offset_bytes: int, code: str, meaning: str = "") -> Any:
    """Declares a field: its offset in bytes, its ``struct`` code (one value) and its meaning."""
    return _Field(offset_bytes, code, meaning)


class Record:
    """Base of all on-disk records; see the module's text."""

    SIZE: ClassVar[int]
    SOURCE: ClassVar[str]
    _struct: ClassVar[struct.Struct]
    _names: ClassVar[tuple[str, ...]]
    _slots: ClassVar[tuple[tuple[str, int, struct.Struct], ...]]
    raw: bytes = b""

    def __init__(self, **values: int | bytes) -> None:
        for name, value in values.items():
            if name not in self._names:
                raise TypeError(f"{type(self).__name__} has no field {name}")
            setattr(self, name, value)

    @classmethod
    def parse(cls, raw: bytes) -> Self:
        """Unpacks exactly ``SIZE`` bytes.

        Raises:
            TruncatedError: any other number of bytes was given.
        """
        if len(raw) != cls.SIZE:
            raise TruncatedError(
                messages.RECORD_TOO_SHORT.format(record=cls.__name__, size=cls.SIZE, raw=len(raw)),
                structure=cls.__name__,
                expected=cls.SIZE,
                got=len(raw),
            )
        made = cls.__new__(cls)  # a third of the time that calling the class takes
        made.__dict__.update(zip(cls._names, cls._struct.unpack(raw), strict=True))
        made.raw = raw
        return made

    @classmethod
    def blank(cls, **values: int | bytes) -> Self:
        """A record of zeros but for the given fields."""
        made = cls.parse(bytes(cls.SIZE))
        for name, value in values.items():
            if name not in cls._names:
                raise TypeError(f"{cls.__name__} has no field {name}")
            setattr(made, name, value)
        return made

    def build(self) -> bytes:
        """Packs the declared fields over the bytes the record was parsed from (or zeros)."""
        packed = bytearray(self.raw or bytes(self.SIZE))
        for name, offset, code in self._slots:
            code.pack_into(packed, offset, getattr(self, name))
        return bytes(packed)

    @classmethod
    def offset_of(cls, name: str) -> int:
        """The offset in bytes of a declared field."""
        return next(offset for slot, offset, _code in cls._slots if slot == name)


R = TypeVar("R", bound=Record)


@dataclass_transform(field_specifiers=(at,))
def record(*, size: int, byte_order: str, source: str) -> Callable[[type[R]], type[R]]:
    """Makes a class of ``at`` fields a record of ``size`` bytes, ``byte_order`` ``<`` or ``>``."""

    def finish(cls: type[R]) -> type[R]:
        found = {name: one for name, one in vars(cls).items() if isinstance(one, _Field)}
        slots = sorted((one.offset, one.code, name) for name, one in found.items())
        layout, position = byte_order, 0
        for offset, code, name in slots:
            if offset < position:
                raise TypeError(f"{cls.__name__}.{name} overlaps the field before it")
            layout += f"{offset - position}x{code}"
            length = struct.calcsize(byte_order + code)
            setattr(cls, name, bytes(length) if code.endswith("s") else 0)  # until it is given
            position = offset + length
        cls.SIZE, cls.SOURCE = size, source
        cls._struct = struct.Struct(layout + f"{size - position}x")
        cls._names = tuple(name for _offset, _code, name in slots)
        cls._slots = tuple(
            (name, offset, struct.Struct(byte_order + code)) for offset, code, name in slots
        )
        return cls

    return finish
