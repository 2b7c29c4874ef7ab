"""A medium that boots by BIOS, made by hand: it says a text on the serial port and then ends.

Source: El Torito 1.0 (no emulation: loaded at 0000:7C00); the 16550 UART's line status register;
ACPI's PM1a control register, where QEMU's q35 has it (0x604).
"""

from __future__ import annotations

import struct
from pathlib import Path

from tests.oracles import need, run

_LOADED_AT = 0x7C00
_SECTOR_BYTES = 2048
HALT = b"\xf4\xeb\xfd"  # hlt; jmp to it
SWITCH_OFF = b"\xba\x04\x06\xb8\x00\x20\xef"  # mov dx, 604h; mov ax, 2000h; out dx, ax
WAIT_A_SECOND = b"\xb4\x86\xb9\x0f\x00\xba\x40\x42\xcd\x15"  # int 15h: 0F4240h microseconds
WAIT_FOR_KEY = b"\x31\xc0\xcd\x16"  # xor ax, ax; int 16h


def make_boot_medium(target: Path, *parts: str | bytes) -> None:
    """Makes an ISO image.

    Args:
        target: the new file.
        parts: done one after the other: texts are printed, bytes are run. What follows them is
            done again from the start.
    """
    need("genisoimage")
    folder = target.parent / f"{target.stem}-tree"
    folder.mkdir(parents=True)
    (folder / "boot.bin").write_bytes(_program(parts))
    run("genisoimage", "-quiet", "-o", target, "-b", "boot.bin", "-no-emul-boot",
        "-boot-load-size", "4", folder)  # fmt: skip


def _program(parts: tuple[str | bytes, ...]) -> bytes:
    # cli; xor ax, ax; mov ds, ax; mov ss, ax; mov sp, 7C00h; sti
    head = b"\xfa\x31\xc0\x8e\xd8\x8e\xd0\xbc\x00\x7c\xfb"
    # lodsb; test al, al; jz +18; push ax; mov dx, 3FDh; in al, dx; test al, 20h; jz -5; pop ax;
    # mov dx, 3F8h; out dx, al; jmp to lodsb; ret
    say = (
        b"\xac\x84\xc0\x74\x10\x50\xba\xfd\x03\xec\xa8\x20\x74\xfb\x58\xba\xf8\x03\xee\xeb\xeb\xc3"
    )
    texts = [part.encode() + b"\0" for part in parts if isinstance(part, str)]
    lengths = [6 if isinstance(part, str) else len(part) for part in parts]
    # jump over the routine; then the parts; then jump back to the first; then the texts
    first = len(head) + 2 + len(say)
    end = first + sum(lengths) + 3
    say_at, text_at, at = len(head) + 2, _LOADED_AT + end, first
    code = b""
    for part in parts:
        if isinstance(part, bytes):
            code += part
            at += len(part)
            continue
        code += b"\xbe" + struct.pack("<H", text_at) + b"\xe8"
        at += 6
        code += struct.pack("<h", say_at - at)
        text_at += len(part.encode()) + 1
    back = b"\xe9" + struct.pack("<h", first - end)
    raw = head + b"\xeb" + bytes([len(say)]) + say + code + back + b"".join(texts)
    assert len(raw) <= _SECTOR_BYTES
    return raw.ljust(_SECTOR_BYTES, b"\0")
