"""On-disk records and constants of hives; see the package's text for the source."""

from __future__ import annotations

from zeroseal.blocks.records import Record, at, record

_SOURCE = "regf, as hivex and regipy read it"
BASE_BYTES, PAGE_BYTES, BIN_HEADER_BYTES = 4096, 4096, 32
BASE_MAGIC, BIN_MAGIC = b"regf", b"hbin"
CHECKSUM_WORDS, CHECKSUM_OFFSET = 127, 508
MINOR_VERSIONS = (3, 4, 5, 6)
PRIMARY, OLD_LOG, NEW_LOG = 0, (1, 2), 6
NONE = 0xFFFFFFFF
CELL_ALIGNMENT = 8
MOST_HIVE_BYTES = 2 << 30
MOST_DEPTH = 512  # of keys: the system itself has 512

KEY_VOLATILE, KEY_ROOT, KEY_KEPT, KEY_COMPRESSED = 0x1, 0x4, 0x8, 0x20  # kept: not deletable
VALUE_COMPRESSED = 0x1
RESIDENT = 0x80000000
SEGMENT_BYTES, BIG_FROM_MINOR = 16344, 4
MOST_IN_LEAF = 511  # entries of a list before an index of lists is made
KEY_BYTES, VALUE_BYTES, SECURITY_BYTES = 76, 20, 20
_FROM_1601_SECONDS = 11_644_473_600
NO_PARENT = 0xFFFFFFFF
LAYERED_SEMANTICS = 0x03  # low bits of the second byte of a key's access field

DIRTY_MAGIC, ENTRY_MAGIC = b"DIRT", b"HvLE"
LOG_SECTOR = 512


@record(size=512, byte_order="<", source=_SOURCE)
class BaseBlock(Record):
    """What the header of a hive, and of a transaction log, begins with."""

    magic: bytes = at(0, "4s")
    sequence: int = at(4, "I", "raised before a write")
    done_sequence: int = at(8, "I", "equal when the write is whole")
    written: int = at(12, "Q", "100 ns since 1601")
    major: int = at(20, "I")
    minor: int = at(24, "I")
    kind: int = at(28, "I", "0 primary, 1 and 2 old logs, 6 new logs")
    form: int = at(32, "I", "1")
    root: int = at(36, "I", "offset of the root key's cell")
    data_bytes: int = at(40, "I", "of all bins")
    clustering: int = at(44, "I")
    file_name: bytes = at(48, "64s", "UTF-16")
    flags: int = at(144, "I")
    checksum: int = at(508, "I")


@record(size=BIN_HEADER_BYTES, byte_order="<", source=_SOURCE)
class BinHeader(Record):
    """The beginning of a bin."""

    magic: bytes = at(0, "4s")
    offset: int = at(4, "I", "of itself, from the first bin")
    length: int = at(8, "I", "whole pages")
    written: int = at(20, "Q")


@record(size=KEY_BYTES, byte_order="<", source=_SOURCE)
class KeyCell(Record):
    """A key, before its name."""

    magic: bytes = at(0, "2s", "nk")
    flags: int = at(2, "H")
    written: int = at(4, "Q")
    access: int = at(12, "I")
    parent: int = at(16, "I")
    subkeys: int = at(20, "I")
    volatile_subkeys: int = at(24, "I")
    subkey_list: int = at(28, "I")
    volatile_list: int = at(32, "I")
    values: int = at(36, "I")
    value_list: int = at(40, "I")
    security: int = at(44, "I")
    class_name: int = at(48, "I")
    longest_subkey: int = at(52, "I", "bytes of UTF-16, low 16 bits")
    longest_class: int = at(56, "I")
    longest_value_name: int = at(60, "I")
    longest_value: int = at(64, "I")
    name_bytes: int = at(72, "H")
    class_bytes: int = at(74, "H")


@record(size=VALUE_BYTES, byte_order="<", source=_SOURCE)
class ValueCell(Record):
    """A value, before its name."""

    magic: bytes = at(0, "2s", "vk")
    name_bytes: int = at(2, "H")
    size: int = at(4, "I", "of the data; highest bit: it lies in ``data`` itself")
    data: int = at(8, "I")
    kind: int = at(12, "I")
    flags: int = at(16, "H")


@record(size=SECURITY_BYTES, byte_order="<", source=_SOURCE)
class SecurityCell(Record):
    """A security descriptor that keys share, before its bytes."""

    magic: bytes = at(0, "2s", "sk")
    forward: int = at(4, "I")
    back: int = at(8, "I")
    references: int = at(12, "I")
    size: int = at(16, "I")


def filetime(seconds: int) -> int:
    """A moment in 100 ns since 1601, from seconds since 1970."""
    return (seconds + _FROM_1601_SECONDS) * 10**7


def checksum_of(base: bytes) -> int:
    """The XOR of a base block's first 508 bytes, never 0 or all ones."""
    value = 0
    for place in range(0, CHECKSUM_OFFSET, 4):
        value ^= int.from_bytes(base[place : place + 4], "little")
    return {0: 1, 0xFFFFFFFF: 0xFFFFFFFE}.get(value, value)
