"""Files that the system's overlay filter compressed: content in a stream of its own, in chunks.

Source: [MS-FSCC] 2.1.2.10, and the layout of its stream as public readers know it: a table of the
chunks' ends but the last, then the chunks; one that is as long as its content is not compressed.
"""

from __future__ import annotations

from zeroseal.filesystems.ntfs import xpress
from zeroseal.filesystems.ntfs.lznt1 import CompressionError
from zeroseal.filesystems.ntfs.nodes import Attribute
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.messages import ntfs as messages

STREAM = "WofCompressedData"
_FILE_PROVIDER = 2
_CHUNK_BYTES = {0: 4096, 2: 8192, 3: 16384}
_WIDE_OFFSETS_FROM = 1 << 32


def chunk_bytes(reparse_data: bytes) -> int | None:
    """The size of the chunks, None for a way of compression that is not known here."""
    if len(reparse_data) < 16 or int.from_bytes(reparse_data[4:8], "little") != _FILE_PROVIDER:
        return None
    return _CHUNK_BYTES.get(int.from_bytes(reparse_data[12:16], "little"))


def read_content(
    volume: NtfsVolume, stream: Attribute, chunk: int, size: int, length: int
) -> bytes:
    """The first ``length`` bytes of a file of ``size`` bytes.

    Raises:
        DamagedError: the stream contradicts itself.
    """
    chunks = -(-size // chunk)
    width = 8 if size >= _WIDE_OFFSETS_FROM else 4
    table_bytes = (chunks - 1) * width
    stored = stream.size_bytes
    if chunks < 1 or table_bytes > stored:
        raise volume.damaged(messages.COMPRESSED_FILE_TRUNCATED)
    table = read_stream(volume, stream, 0, table_bytes)
    ends = [int.from_bytes(table[at : at + width], "little") for at in range(0, table_bytes, width)]
    ends.append(stored - table_bytes)
    pieces, start = [], 0
    for number in range(-(-length // chunk)):
        end, plain = ends[number], min(chunk, size - number * chunk)
        if not start < end <= stored - table_bytes or end - start > plain:
            raise volume.damaged(messages.COMPRESSED_CHUNKS_OUT_OF_ORDER)
        raw = read_stream(volume, stream, table_bytes + start, end - start)
        try:
            pieces.append(raw if len(raw) == plain else xpress.decompress(raw, plain))
        except CompressionError as error:
            raise volume.damaged(
                messages.COMPRESSED_FILE_CANNOT_BE_READ.format(error=error)
            ) from error
        start = end
    return b"".join(pieces)[:length]
