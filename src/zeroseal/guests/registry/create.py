"""A new hive with nothing but its root key."""

from __future__ import annotations

from zeroseal.guests.registry import layout
from zeroseal.guests.registry.cells import Cells
from zeroseal.guests.registry.hive_cells import encode_name
from zeroseal.guests.registry.layout import BaseBlock, KeyCell, SecurityCell
from zeroseal.messages import registry as messages

# self-relative, owner and group Administrators, everything allowed to Administrators and SYSTEM
ADMINISTRATORS_ONLY = bytes.fromhex(
    "0100048048000000580000000000000014000000020034000200000000021800"
    "3f000f00010200000000000520000000200200000002140"
    "03f000f00010100000000000512000000"
    "01020000000000052000000020020000"
    "01020000000000052000000020020000"
)


def new_hive(
    root_name: str, now: int, minor: int = 5, descriptor: bytes = ADMINISTRATORS_ONLY
) -> bytes:
    """Makes a hive.

    Args:
        root_name: of its root key, which nobody asks for by name.
        now: seconds since 1970.
        minor: 3 to 6, of its version.
        descriptor: the security of the root key, which keys below take over.

    Raises:
        ValueError: there is no such version.
    """
    if minor not in layout.MINOR_VERSIONS:
        raise ValueError(messages.VERSION_NOT_KNOWN.format(minor=minor))
    moment = layout.filetime(now)
    cells = Cells(b"", "the new hive")
    encoded, is_compressed = encode_name(root_name)
    root = KeyCell.blank(
        magic=b"nk",
        flags=layout.KEY_ROOT | (layout.KEY_COMPRESSED if is_compressed else 0) | layout.KEY_KEPT,
        written=moment,
        parent=layout.NONE,
        subkey_list=layout.NONE,
        volatile_list=layout.NONE,
        value_list=layout.NONE,
        class_name=layout.NONE,
        name_bytes=len(encoded),
    )
    key = cells.give(root.build() + encoded)  # the very first cell: readers look for it there
    security = SecurityCell.blank(magic=b"sk", references=1, size=len(descriptor))
    root.security = cells.give(security.build() + descriptor)
    security.forward = security.back = root.security
    cells.set_content(root.security, security.build())
    cells.set_content(key, root.build())
    base = BaseBlock.blank(
        magic=layout.BASE_MAGIC,
        sequence=1,
        done_sequence=1,
        written=moment,
        major=1,
        minor=minor,
        form=1,
        root=key,
        data_bytes=len(cells.body),
        clustering=1,
    )
    base.checksum = layout.checksum_of(base.build())
    return base.build().ljust(layout.BASE_BYTES, b"\0") + bytes(cells.body)
