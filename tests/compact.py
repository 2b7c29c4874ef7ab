"""Files that Windows keeps compact (``WofCompressedData``), composed by hand."""

from __future__ import annotations

from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.nodes import Attribute
from zeroseal.filesystems.ntfs.runs import HOLE, Run

CHUNK = 4096
XPRESS_4K = b"\1\0\0\0\2\0\0\0\1\0\0\0\0\0\0\0"


def reparse(tag: int, data: bytes) -> bytes:
    return tag.to_bytes(4, "little") + len(data).to_bytes(4, "little") + data


def with_reparse(
    editor: NtfsEditor, name: bytes, raw: bytes, *, is_folder: bool = False, folder: int = 0
) -> int:
    """A file or folder with a reparse point of any kind."""
    root = folder or editor.root
    number = (
        editor.create_folder(root, name, 0o755)
        if is_folder
        else editor.create_file(root, name, b"", 0o644)
    )
    node = editor.get_node(number)
    node.attributes.append(Attribute(layout.REPARSE_POINT, value=raw))
    editor._extend.add_reparse(node, int.from_bytes(raw[:4], "little"))
    editor.set_flags(number, node.flags | layout.FILE_REPARSE)
    return number


def pack_plainly(content: bytes, matches: bool) -> bytes:
    """XPRESS with nine bits for each symbol, as the specification allows; with a few matches."""
    symbols: list[tuple[int, int, int]] = []  # symbol, extra value, extra bits
    position = 0
    while position < len(content):
        again = content[position : position + 6]
        if (
            matches
            and position >= 8
            and len(again) == 6
            and content[position - 8 :].find(again) == 0
        ):
            symbols.append((256 + (3 << 4) + 3, 0, 3))
            position += 6
        else:
            symbols.append((content[position], 0, 0))
            position += 1
    bits = "".join(f"{symbol:09b}" + (f"{extra:0{size}b}" if size else "")
                   for symbol, extra, size in symbols)  # fmt: skip
    bits += "0" * (-len(bits) % 16 + 32)
    words = [int(bits[place : place + 16], 2) for place in range(0, len(bits), 16)]
    return b"\x99" * 256 + b"".join(word.to_bytes(2, "little") for word in words)


def compact_stream(content: bytes) -> tuple[bytes, list[int]]:
    """The stream of a compact file, chunks of 4 KiB behind their ends, and the chunks' sizes."""
    chunks = [content[start : start + CHUNK] for start in range(0, len(content), CHUNK)]
    packed = [min(chunk, pack_plainly(chunk, matches=True), key=len) for chunk in chunks]
    ends, total = b"", 0
    for piece in packed[:-1]:
        total += len(piece)
        ends += total.to_bytes(4, "little")
    return ends + b"".join(packed), [len(piece) for piece in packed]


def fill_compact(editor: NtfsEditor, number: int, content: bytes, stream: bytes) -> None:
    """Makes a file with a reparse point compact: its data a hole, its content in the stream."""
    editor.write_stream(number, "WofCompressedData", stream)
    data = editor.get_node(number).find(layout.DATA)
    assert data is not None
    clusters = -(-len(content) // CHUNK)
    data.value, data.flags = None, layout.SPARSE
    data.runs, data.size, data.initialized = [Run(HOLE, clusters)], len(content), 0
    editor.set_flags(number, editor.get_node(number).flags | layout.FILE_SPARSE)


def add_compact(editor: NtfsEditor, folder: int, name: bytes, content: bytes) -> None:
    """Makes a compact file in a folder."""
    number = with_reparse(editor, name, reparse(layout.TAG_WOF, XPRESS_4K), folder=folder)
    fill_compact(editor, number, content, compact_stream(content)[0])
