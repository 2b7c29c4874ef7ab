"""Reading VMDK: from the descriptor to its extents and its parent."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

from zeroseal.blocks.pieced import Piece, PiecedStore
from zeroseal.blocks.store import Extent, Store
from zeroseal.errors import DamagedError, MissingError, RefusedError, UnsupportedError
from zeroseal.images.block_map import BlockMap
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import Image
from zeroseal.images.parents import ParentOpener, find_parent
from zeroseal.images.vmdk import descriptor as lines
from zeroseal.images.vmdk import layout
from zeroseal.images.vmdk.descriptor import Descriptor, ExtentLine, parse_descriptor
from zeroseal.images.vmdk.sparse import SparseExtent, read_sparse_header
from zeroseal.messages import images as messages

_SECTOR = layout.SECTOR_BYTES
_VARIANTS = {
    "monolithicSparse": "sparse",
    "monolithicFlat": "flat",
    "streamOptimized": "stream-optimized",
    "twoGbMaxExtentSparse": "split, sparse",
    "twoGbMaxExtentFlat": "split, flat",
    "vmfs": "flat",
}

# Opens a file that a descriptor names, with its locks.
FileOpener = Callable[[Path], ContainerFile]


def open_vmdk(file: ContainerFile, open_file: FileOpener, open_parent: ParentOpener) -> VmdkImage:
    """Opens a VMDK: a single file, or the descriptor of several.

    Raises:
        DamagedError, UnsupportedError: it cannot be read.
        MissingError: an extent or the parent is not there.
        RefusedError: the parent was changed since.
    """
    opened: list[ContainerFile] = []
    try:
        if file.read(0, 4) == layout.MAGIC:
            extent = SparseExtent(file, read_sparse_header(file))
            text = read_embedded(file, extent)
            stores: list[tuple[Store | None, int, int]] = [(extent, 0, extent.size_bytes)]
        else:
            text = parse_descriptor(file.path, file.read(0, min(file.size_bytes, lines.MAX_BYTES)))
            stores = [_open_extent(file.path, line, open_file, opened) for line in text.extents]
        image = VmdkImage(file, text, [Piece(*store) for store in stores], opened)
        if text.parent_id != layout.NO_PARENT:
            image.adopt(_open_parent(file.path, text, open_parent))
    except BaseException:
        for other in opened:
            other.close()
        raise
    return image


def read_embedded(file: ContainerFile, extent: SparseExtent) -> Descriptor:
    """The descriptor inside a sparse extent.

    Raises:
        DamagedError: there is none: it is one extent of several.
    """
    header = extent.header
    length = header.descriptor_sectors * _SECTOR
    if not header.descriptor_offset or not length:
        raise DamagedError(
            messages.ONE_EXTENT_OF_SPLIT_VMDK.format(path=file.path),
            format="vmdk",
        )
    raw = file.read(header.descriptor_offset * _SECTOR, min(length, lines.MAX_BYTES))
    return parse_descriptor(file.path, raw)


def _open_extent(
    path: Path, line: ExtentLine, open_file: FileOpener, opened: list[ContainerFile]
) -> tuple[Store | None, int, int]:
    length = line.sectors * _SECTOR
    if line.kind == lines.ZERO:
        return None, 0, length
    if not line.name or Path(line.name).name != line.name or "\\" in line.name:
        raise UnsupportedError(messages.EXTENT_OUTSIDE_FOLDER.format(path=path, name=line.name))
    place = path.parent / line.name
    if not place.is_file():
        raise MissingError(
            messages.EXTENT_NOT_FOUND.format(path=path, place=place), path=str(place)
        )
    file = open_file(place)
    opened.append(file)
    if line.kind == lines.FLAT:
        if (line.offset_sectors + line.sectors) * _SECTOR > file.size_bytes:
            raise DamagedError(
                messages.EXTENT_SHORTER_THAN_RECORDED.format(place=place, path=path), format="vmdk"
            )
        return file, line.offset_sectors * _SECTOR, length
    extent = SparseExtent(file, read_sparse_header(file))
    if extent.size_bytes < length:
        raise DamagedError(
            messages.EXTENT_SMALLER_THAN_RECORDED.format(place=place, path=path), format="vmdk"
        )
    return extent, 0, length


def _open_parent(path: Path, text: Descriptor, open_parent: ParentOpener) -> Image:
    parent = open_parent(find_parent(path, [text.parent_name], "VMDK"), None)
    if not isinstance(parent, VmdkImage) or parent.descriptor.content_id != text.parent_id:
        parent.close()
        raise RefusedError(messages.VMDK_PARENT_CHANGED.format(path=parent.path, child=path))
    return parent


class VmdkImage(PiecedStore, Image):
    """A VMDK opened for reading."""

    format_name = "vmdk"

    def __init__(
        self,
        file: ContainerFile,
        descriptor: Descriptor,
        pieces: list[Piece],
        extent_files: list[ContainerFile],
    ) -> None:
        super().__init__(pieces)
        self._file = file
        self._extent_files = extent_files
        self.path = file.path
        self.descriptor = descriptor
        self.parent: Image | None = None
        kind = descriptor.create_type
        self.variant = _VARIANTS.get(kind, kind)

    @property
    def file(self) -> ContainerFile:  # noqa: D102 - as in Image
        return self._file

    @property
    def files(self) -> list[ContainerFile]:  # noqa: D102
        return [self._file, *self._extent_files]

    @property
    def chain(self) -> list[Path]:  # noqa: D102
        return [self.path, *(self.parent.chain if self.parent else [])]

    @property
    def has_parent(self) -> bool:  # noqa: D102
        return self.parent is not None

    def adopt(self, parent: Image) -> None:
        """Reads what the extents do not hold from this image."""
        self.parent = parent
        for (store, _offset, _length), start in zip(self._pieces, self._starts, strict=True):
            if isinstance(store, BlockMap):
                store.parent = _Shifted(parent, start)

    def close(self) -> None:  # noqa: D102
        for file in self.files:
            file.close()
        if self.parent:
            self.parent.close()


class _Shifted(Store):
    """A parent as one of its child's extents sees it; it may be shorter than the child."""

    def __init__(self, parent: Store, start: int) -> None:
        self._parent, self._start = parent, start
        self.size_bytes = max(0, parent.size_bytes - start)

    def read(self, offset_bytes: int, length: int) -> bytes:
        return self._parent.read(self._start + offset_bytes, length)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:
        for extent in self._parent.iter_extents(self._start + offset_bytes, length):
            yield extent._replace(offset_bytes=extent.offset_bytes - self._start)
