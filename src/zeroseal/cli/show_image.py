"""How the container of a disk looks on a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeroseal.blocks.sizes import size_text

if TYPE_CHECKING:
    from zeroseal.images.facts import ImageFacts


def image_rows(image: ImageFacts) -> list[tuple[str, str]]:
    """The facts of a container."""
    if image.is_tree:
        return [(image.format_name, str(image.path))]
    rows = [
        ("file", str(image.path)),
        (
            "format",
            f"{container_text(image)}, disk of {size_text(image.size_bytes)}, "
            f"{size_text(image.allocated_bytes)} of it stored, "
            f"file of {size_text(image.file_bytes)}",
        ),
    ]
    if image.extents:
        rows.append(("made of", ", ".join(path.name for path in image.extents)))
    if image.chain:
        rows.append(("backed by", ", ".join(str(path) for path in image.chain)))
    if image.snapshots:
        rows.append(("snapshots", ", ".join(image.snapshots)))
    return rows


def container_text(image: ImageFacts) -> str:
    """The container's format, and which kind of it."""
    return f"{image.format_name}, {image.variant}" if image.variant else image.format_name
