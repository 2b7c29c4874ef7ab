"""Writing the patches that an inventory found, for tests of what it finds."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from zeroseal.blocks.patches import Patch
from zeroseal.blocks.store import Store
from zeroseal.filesystems.driver import VolumeDriver
from zeroseal.filesystems.drivers import DRIVERS
from zeroseal.filesystems.inventory import Inventory, Part
from zeroseal.filesystems.tree import FileTree


def write_patches(store: Store, patches: Iterable[Patch]) -> int:
    """Writes patches; returns how many bytes were stale."""
    found = list(patches)
    for patch in found:
        patch.apply(store)
    return sum(patch.stale_bytes for patch in found)


def inventory(kind: str, store: Store) -> Inventory[Any]:
    """A fresh inventory of a volume."""
    driver: VolumeDriver[FileTree] = next(item for item in DRIVERS if kind in item.kinds)
    return driver.take_inventory(driver.read(store, "v"))


def clean_part(kind: str, store: Store, part: Part) -> None:
    """Cleans a part of a volume as a seal does."""
    driver: VolumeDriver[FileTree] = next(item for item in DRIVERS if kind in item.kinds)
    tree = driver.read(store, "v")
    write_patches(store, driver.take_inventory(tree).patches(part))
    if part is Part.JOURNAL and driver.stored_changes(tree):
        editor = driver.edit(tree, 0)
        driver.forget_changes(editor)
        editor.finish()
