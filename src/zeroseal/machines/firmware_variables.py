"""The variables of one machine's UEFI firmware, as OVMF keeps them: which loaders they name.

Source: UEFI Platform Initialization Specification, volume 3, "Firmware Volume Header"; EDK II,
``MdeModulePkg/Include/Guid/VariableFormat.h`` (the store and its variables); UEFI Specification
2.10, 3.1.3 (load options) and 10.3 (device paths).
"""

from __future__ import annotations

import struct
import uuid
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

_SIGNATURE, _SIGNATURE_AT, _HEADER_BYTES_AT = b"_FVH", 40, 48
_AUTHENTICATED_STORE = uuid.UUID("aaf32c78-947b-439a-a180-2e144ec37792")
_GLOBAL = uuid.UUID("8be4df61-93ca-11d2-aa0d-00e098032b8c")
_STORE_HEADER_BYTES, _VARIABLE_HEADER_BYTES = 28, 60
_START_MARK, _STATE_VALID = 0x55AA, 0x3F
_MOST_BYTES = 16 << 20
_MEDIA, _FILE_PATH, _HARD_DRIVE = 4, 4, 1
_MESSAGING, _MAC_ADDRESS = 3, 11
_END = 0x7F


@dataclass(frozen=True)
class BootEntry:
    """One entry of the boot order.

    Attributes:
        title: what the firmware's menu calls it.
        loader: path of the file that it starts; empty for one that names none.
        partition: GUID of the partition with that file; empty for none.
        mac: address of the network card that it starts from; empty for none.
    """

    title: str
    loader: str = ""
    partition: str = ""
    mac: str = ""

    @property
    def text(self) -> str:
        """For people: the loader with its title."""
        return f"{self.loader} ({self.title})" if self.loader else self.title


def read_boot_entries(path: Path) -> tuple[BootEntry, ...]:
    """The boot entries in a file of variables, in their order; none where it is no such file.

    Nothing is refused: the firmware itself begins again with a file that it cannot read.
    """
    try:
        if path.stat().st_size > _MOST_BYTES:
            return ()
        variables = dict(iter_variables(path.read_bytes()))
    except OSError:
        return ()
    order = variables.get((_GLOBAL, "BootOrder"), b"")
    numbers = struct.unpack(f"<{len(order) // 2}H", order[: len(order) // 2 * 2])
    found = (variables.get((_GLOBAL, f"Boot{number:04X}")) for number in numbers)
    return tuple(parse_boot_entry(raw) for raw in found if raw)


def iter_variables(raw: bytes) -> Iterator[tuple[tuple[uuid.UUID, str], bytes]]:
    """Yields ((namespace, name), data) of what is valid in a file of variables.

    What is damaged ends it.
    """
    if raw[_SIGNATURE_AT : _SIGNATURE_AT + 4] != _SIGNATURE:
        return
    start = int.from_bytes(raw[_HEADER_BYTES_AT : _HEADER_BYTES_AT + 2], "little")
    head = raw[start : start + _STORE_HEADER_BYTES]
    if len(head) < _STORE_HEADER_BYTES or uuid.UUID(bytes_le=head[:16]) != _AUTHENTICATED_STORE:
        return
    end = min(len(raw), start + int.from_bytes(head[16:20], "little"))
    at = start + _STORE_HEADER_BYTES
    while at + _VARIABLE_HEADER_BYTES <= end:
        mark, state = struct.unpack_from("<HB", raw, at)
        name_bytes, data_bytes = struct.unpack_from("<II", raw, at + 36)
        name_at = at + _VARIABLE_HEADER_BYTES
        data_at = name_at + name_bytes
        if mark != _START_MARK or data_at + data_bytes > end:
            return
        if state == _STATE_VALID:
            namespace = uuid.UUID(bytes_le=raw[at + 44 : at + 60])
            name = raw[name_at:data_at].decode("utf-16-le", "replace").rstrip("\0")
            yield (namespace, name), raw[data_at : data_at + data_bytes]
        at = (data_at + data_bytes + 3) & ~3


def parse_boot_entry(raw: bytes) -> BootEntry:
    """Parses a load option: attributes, title, and the device path of what is started."""
    path_bytes = int.from_bytes(raw[4:6], "little")
    title_end = 6
    while raw[title_end : title_end + 2] not in (b"\0\0", b"", b"\0"):
        title_end += 2
    title = raw[6:title_end].decode("utf-16-le", "replace")
    loader = partition = mac = ""
    for kind, sub_kind, content in _iter_nodes(raw[title_end + 2 : title_end + 2 + path_bytes]):
        if (kind, sub_kind) == (_MEDIA, _FILE_PATH):
            loader += content.decode("utf-16-le", "replace").rstrip("\0")
        elif (kind, sub_kind) == (_MEDIA, _HARD_DRIVE) and len(content) >= 36:
            partition = str(uuid.UUID(bytes_le=content[20:36]))
        elif (kind, sub_kind) == (_MESSAGING, _MAC_ADDRESS):
            mac = ":".join(f"{byte:02x}" for byte in content[:6])
    return BootEntry(title, loader, partition, mac)


def _iter_nodes(path: bytes) -> Iterator[tuple[int, int, bytes]]:
    at = 0
    while at + 4 <= len(path):
        kind, sub_kind, size = struct.unpack_from("<BBH", path, at)
        if kind == _END or size < 4:
            return
        yield kind, sub_kind, path[at + 4 : at + size]
        at += size
