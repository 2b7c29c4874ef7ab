"""An unattended installation on an empty disk: the installer runs on QEMU until it shuts down."""

from __future__ import annotations

import time
from dataclasses import replace

from zeroseal.machines.definition import INSTALL_MEDIUM, write_definition
from zeroseal.machines.hosts.qemu.command import KernelBoot
from zeroseal.machines.hosts.qemu.host import QemuHost
from zeroseal.machines.sheet.load import LoadedSheet
from zeroseal.machines.yard import YardMachine
from zeroseal.progress import Progress

# QEMU's names of the keys of what a US keyboard types; a capital is the same key with shift
_SIGNS = {
    " ": "spc", "-": "minus", "=": "equal", "[": "bracket_left", "]": "bracket_right",
    ";": "semicolon", "'": "apostrophe", "`": "grave_accent", "\\": "backslash", ",": "comma",
    ".": "dot", "/": "slash",
}  # fmt: skip
_SHIFTED = dict(zip('~!@#$%^&*()_+{}|:"<>?', "`1234567890-=[]\\;',./", strict=True))


def install(loaded: LoadedSheet, host: QemuHost, machine: YardMachine, progress: Progress) -> None:
    """Runs the installer to its end, which is the machine's shutdown; then takes its medium out.

    Raises:
        GuestError: it does not end in its time; tells the console's last line.
        HostError: QEMU does not start.
    """
    origin = loaded.sheet.origin
    kernel = None
    if origin.kernel:
        initrd = loaded.file(origin.initrd, "origin.initrd").resolve() if origin.initrd else None
        path = loaded.file(origin.kernel, "origin.kernel").resolve()
        kernel = KernelBoot(path, initrd, origin.kernel_arguments)
    host = replace(host, boot_kernel=kernel)
    running = host.start(machine, is_bound=True, progress=progress).machine
    for press in origin.press:
        time.sleep(press.wait_seconds)
        host.press_keys(running, [*press.keys, *keys_of(press.text)])
    host.wait_until_off(running, origin.install_seconds, progress, "installing")
    media = tuple(item for item in machine.definition.media if item.purpose != INSTALL_MEDIUM)
    definition = replace(machine.definition, media=media, boot_order=("disk",))
    write_definition(machine.folder, definition)


def keys_of(text: str) -> list[str]:
    """QEMU's key names for a text of printable ASCII, ``shift-`` before those that need it."""
    return [_key_of(sign) for sign in text]


def _key_of(sign: str) -> str:
    if sign in _SHIFTED:
        return f"shift-{_key_of(_SHIFTED[sign])}"
    if sign.isupper():
        return f"shift-{sign.lower()}"
    return _SIGNS.get(sign, sign)
