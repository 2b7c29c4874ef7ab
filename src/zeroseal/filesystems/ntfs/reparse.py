"""Reparse points: links, mount points, and files whose content lies elsewhere.

Source: [MS-FSCC] 2.1.2; ``ntfs-3g/layout.h``, PREDEFINED_REPARSE_TAGS.
"""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.names import to_text

_ELSEWHERE = {
    layout.TAG_DEDUP: "deduplicated",
    layout.TAG_WOF: "compressed by the system's overlay filter",
}
_NT_PREFIX = "\\??\\"


@dataclass(frozen=True)
class ReparsePoint:
    """What a reparse point says.

    Attributes:
        target: of a link or mount point, as it is stored; empty for others.
        is_relative: whether a symbolic link counts from its own folder.
    """

    tag: int
    target: str = ""
    is_relative: bool = False
    data: bytes = b""

    @property
    def is_link(self) -> bool:
        """Whether it leads to another path."""
        return self.tag in (layout.TAG_SYMLINK, layout.TAG_MOUNT_POINT, layout.TAG_WSL_LINK)

    @property
    def content_elsewhere(self) -> str:
        """Why the content of the file is not where files have it; empty where it is."""
        if self.tag & layout.TAG_CLOUD_MASK == layout.TAG_CLOUD & layout.TAG_CLOUD_MASK:
            return "kept in a cloud store"
        return _ELSEWHERE.get(self.tag, "")


def parse_reparse(raw: bytes) -> ReparsePoint | None:
    """A reparse point from its attribute; None where it is cut off."""
    if len(raw) < 8:
        return None
    tag, length = int.from_bytes(raw[:4], "little"), int.from_bytes(raw[4:6], "little")
    data = raw[8 : 8 + length]
    if len(data) < length:
        return None
    if tag == layout.TAG_WSL_LINK:
        return ReparsePoint(tag, data[4:].decode("utf-8", "replace"), is_relative=True, data=data)
    if tag not in (layout.TAG_SYMLINK, layout.TAG_MOUNT_POINT):
        return ReparsePoint(tag, data=data)
    head = 12 if tag == layout.TAG_SYMLINK else 8
    if len(data) < head:
        return None
    start, size, shown_start, shown_size = (
        int.from_bytes(data[place : place + 2], "little") for place in (0, 2, 4, 6)
    )
    names = data[head:]
    if max(start + size, shown_start + shown_size) > len(names) or size % 2 or shown_size % 2:
        return None
    shown = to_text(names[shown_start : shown_start + shown_size])
    target = shown or to_text(names[start : start + size]).removeprefix(_NT_PREFIX)
    relative = tag == layout.TAG_SYMLINK and bool(data[8] & 1)
    return ReparsePoint(tag, target, relative, data)


def build_symlink(target: str) -> bytes:
    """The attribute of a symbolic link; targets with a drive or from the root are absolute."""
    wide = target.encode("utf-16-le", "surrogatepass")
    is_relative = not (target[1:2] == ":" or target.startswith("\\"))
    stored = wide if is_relative else (_NT_PREFIX + target).encode("utf-16-le", "surrogatepass")
    head = b"".join(
        number.to_bytes(2, "little") for number in (len(wide), len(stored), 0, len(wide))
    )
    data = head + int(is_relative).to_bytes(4, "little") + wide + stored
    return (
        layout.TAG_SYMLINK.to_bytes(4, "little") + len(data).to_bytes(2, "little") + b"\0\0" + data
    )
