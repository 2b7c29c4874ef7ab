"""A file that is hashed from its start to its end while somebody reads here and there in it."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator
from threading import Lock

from blake3 import blake3

from zeroseal.blocks.store import Extent
from zeroseal.blocks.workers import worker_count
from zeroseal.images.container_file import ContainerFile
from zeroseal.progress import Progress, Step, quiet

_PIECE_BYTES = 2 << 20


class HashedFile(ContainerFile):
    """A file for reading, of which every byte is read once where the reading goes on ascending.

    What is asked for behind the part that was hashed is read, and hashed on the way to it; a few
    pieces are kept for the threads that ask for them a little later. Anything further back is read
    again.

    Args:
        file: the file, which ``close`` closes.
    """

    def __init__(self, file: ContainerFile) -> None:
        self._file = file
        self._hasher = blake3()
        self._hashed = 0
        self._kept: OrderedDict[int, bytes] = OrderedDict()
        self._most_kept = worker_count() + 3
        self._lock = Lock()
        self.path = file.path
        self.size_bytes = file.size_bytes

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102 - as in Store
        self.check_range(offset_bytes, length)
        first = offset_bytes // _PIECE_BYTES * _PIECE_BYTES
        pieces = []
        for start in range(first, offset_bytes + length, _PIECE_BYTES):
            piece = self._piece_at(start)
            begin = max(0, offset_bytes - start)
            end = min(_PIECE_BYTES, offset_bytes + length - start)
            if piece is None:
                pieces.append(self._file.read(start + begin, end - begin))
            else:
                pieces.append(piece[begin:end])
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        return self._file.iter_extents(offset_bytes, length)

    def close(self) -> None:  # noqa: D102
        self._file.close()

    def hash_rest(self, progress: Progress = quiet) -> str:
        """The BLAKE3 hash of the whole file, in hexadecimal, when all else was read."""
        while self._hashed < self.size_bytes:
            progress(Step("reading back", self._hashed, self.size_bytes))
            with self._lock:
                self._advance()
        return self._hasher.hexdigest()

    def _piece_at(self, start: int) -> bytes | None:
        """A piece that is kept, or is now hashed; None for one that was given up."""
        with self._lock:
            # a jump far ahead is for a table at the end of a file: no reason to read all before it
            while self._hashed <= start <= self._hashed + self._most_kept * _PIECE_BYTES:
                self._advance()
            return self._kept.get(start)

    def _advance(self) -> None:
        length = min(_PIECE_BYTES, self.size_bytes - self._hashed)
        piece = self._file.read(self._hashed, length)
        self._hasher.update(piece)
        self._kept[self._hashed] = piece
        self._hashed += length
        if len(self._kept) > self._most_kept:
            self._kept.popitem(last=False)
