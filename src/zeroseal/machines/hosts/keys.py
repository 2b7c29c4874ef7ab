"""Keys of a keyboard: QEMU's names of them, and what a US keyboard types.

Source: QEMU, ``qapi/ui.json`` (QKeyCode); Linux, ``include/uapi/linux/input-event-codes.h``.
"""

from __future__ import annotations

_SIGNS = {
    " ": "spc", "-": "minus", "=": "equal", "[": "bracket_left", "]": "bracket_right",
    ";": "semicolon", "'": "apostrophe", "`": "grave_accent", "\\": "backslash", ",": "comma",
    ".": "dot", "/": "slash",
}  # fmt: skip
_SHIFTED = dict(zip('~!@#$%^&*()_+{}|:"<>?', "`1234567890-=[]\\;',./", strict=True))
# in the order of the Linux codes, from 1 on
_IN_ORDER = (
    "esc", "1", "2", "3", "4", "5", "6", "7", "8", "9", "0", "minus", "equal", "backspace", "tab",
    "q", "w", "e", "r", "t", "y", "u", "i", "o", "p", "bracket_left", "bracket_right", "ret",
    "ctrl", "a", "s", "d", "f", "g", "h", "j", "k", "l", "semicolon", "apostrophe", "grave_accent",
    "shift", "backslash", "z", "x", "c", "v", "b", "n", "m", "comma", "dot", "slash", "shift_r",
    "kp_multiply", "alt", "spc", "caps_lock", "f1", "f2", "f3", "f4", "f5", "f6", "f7", "f8", "f9",
    "f10",
)  # fmt: skip
_LINUX_CODES = {name: number for number, name in enumerate(_IN_ORDER, 1)} | {
    "f11": 87, "f12": 88, "home": 102, "up": 103, "pgup": 104, "left": 105, "right": 106,
    "end": 107, "down": 108, "pgdn": 109, "insert": 110, "delete": 111, "ctrl_r": 97, "alt_r": 100,
    "meta_l": 125,
}  # fmt: skip


def keys_of(text: str) -> list[str]:
    """QEMU's key names for a text of printable ASCII, ``shift-`` before those that need it."""
    return [_key_of(sign) for sign in text]


def linux_codes(key: str) -> list[int]:
    """The Linux codes of keys that are pressed together, such as ``ctrl-alt-delete``.

    Raises:
        KeyError: a key has no such name.
    """
    return [_LINUX_CODES[part] for part in key.split("-")]


def _key_of(sign: str) -> str:
    if sign in _SHIFTED:
        return f"shift-{_key_of(_SHIFTED[sign])}"
    if sign.isupper():
        return f"shift-{sign.lower()}"
    return _SIGNS.get(sign, sign)
