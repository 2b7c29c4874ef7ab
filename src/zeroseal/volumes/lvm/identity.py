"""The identifiers of LVM2: of physical volumes, groups and logical volumes; and changing them."""

from __future__ import annotations

import re
import secrets
import string
from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

from zeroseal.volumes.lvm import layout
from zeroseal.volumes.lvm.layout import PvHeader
from zeroseal.volumes.lvm.read import PhysicalVolume
from zeroseal.volumes.lvm.rewrite import next_number, rewrite_label, rewrite_texts, zero_old_texts
from zeroseal.volumes.lvm.text import sections_of

_LETTERS = string.ascii_letters + string.digits
_UUID_LETTERS = 32


class LvmId(NamedTuple):
    """An identifier with its dashes, and what has it, in words."""

    what: str
    text: str


def new_id() -> str:
    """A random identifier, with its dashes."""
    letters = "".join(secrets.choice(_LETTERS) for _ in range(_UUID_LETTERS))
    return layout.uuid_text(letters)


def list_ids(volumes: Sequence[PhysicalVolume]) -> list[LvmId]:
    """All identifiers that physical volumes and their groups' metadata have, each once."""
    found = [LvmId(f"physical volume {one.name}", layout.uuid_text(one.uuid)) for one in volumes]
    for volume in volumes:
        for name, group in volume.text.items():
            if not isinstance(group, dict) or "extent_size" not in group:
                continue
            found.append(LvmId(f"volume group {name}", str(group.get("id", ""))))
            for own, section in sections_of(group, "logical_volumes").items():
                found.append(LvmId(f"logical volume {name}/{own}", str(section.get("id", ""))))
    return list({one.text: one for one in found if one.text}.values())


def change_ids(
    volumes: Sequence[PhysicalVolume],
    new: Mapping[str, str],
    group_names: Mapping[str, str] = MappingProxyType({}),
) -> None:
    """Gives physical volumes, and what their groups' metadata names, other identifiers.

    Args:
        volumes: all of the disk.
        new: by the old identifier, both with dashes.
        group_names: other names of groups, by the old ones.

    Raises:
        DamagedError: a label is not sound.
        UnsupportedError: a metadata area has no room.
    """
    pattern = re.compile("|".join(map(re.escape, new))) if new else None

    def change(text: bytes) -> bytes:
        words = text.decode("utf-8", "surrogateescape")
        words = pattern.sub(lambda found: new[found[0]], words) if pattern else words
        for old, name in group_names.items():
            words = re.sub(rf"(?m)^{re.escape(old)} {{", f"{name} {{", words)
        return next_number(words).encode("utf-8", "surrogateescape")

    for volume in volumes:
        rewrite_texts(volume, change)
        zero_old_texts(volume)
        own = new.get(layout.uuid_text(volume.uuid))
        if own:
            rewrite_label(volume, lambda header, own=own: _put(header, own))  # type: ignore[misc]


def _put(header: PvHeader, text: str) -> None:
    header.uuid = text.replace("-", "").encode("ascii")
