"""The page of all messages, made from their catalogue."""

from __future__ import annotations

import importlib
import re
import textwrap

_HEAD = """\
    What Zero Seal reports when it refuses, fails or remarks on something, with the way out. Words
    in *italics* stand for values. Each message is one sentence after `zeroseal: `; the [exit
    status and code](errors.md) give its kind. The search of this site finds a message by its words.
"""
# modules of zeroseal.messages: the title, and what to do where a message does not say
_ROOMS = {
    "cli": ("The command line", "Each command explains its options with `--help`."),
    "images": (
        "Disk images",
        "Where no way out is given, the file itself is damaged: copy it again from its source, "
        "and ask "
        "`qemu-img check` about it.",
    ),
    "volumes": (
        "Partitions and LVM",
        "Where no way out is given, the table on the disk is damaged: `sgdisk -v` or `vgck` say "
        "more, "
        "and repair it.",
    ),
    "filesystems": ("All file systems", "Start the machine, solve it there, and shut it down."),
    "ext": (
        "ext2, ext3 and ext4",
        "Where no way out is given, the volume is damaged: run `e2fsck -f` on it (in the machine,"
        " or "
        "on a copy of the disk), then repeat the command.",
    ),
    "xfs": (
        "XFS",
        "Where no way out is given, the volume is damaged: run `xfs_repair` on it (in the "
        "machine, or "
        "on a copy of the disk), then repeat the command.",
    ),
    "btrfs": (
        "btrfs",
        "Where no way out is given, the volume is damaged: run `btrfs check` on it (on a copy of "
        "the disk, or from a rescue system), then repeat the command.",
    ),
    "ntfs": (
        "NTFS",
        "Where no way out is given, the volume is damaged: run `chkdsk /f` in the guest, shut it "
        "down "
        "with `shutdown /s /f /t 0`, then repeat the command.",
    ),
    "fat": (
        "FAT",
        "Where no way out is given, the volume is damaged: run `fsck.fat` on it, then repeat the "
        "command.",
    ),
    "plain": (
        "Folders and archives",
        "Where no way out is given, pack the archive again from its folder.",
    ),
    "guests": ("Files of the guest", "Start the machine, correct the file, and shut it down."),
    "registry": (
        "Registry hives",
        "Where no way out is given, the hive is damaged: start the guest once, shut it down with "
        "`shutdown /s /f /t 0`, and restore the hive from a backup if the message stays.",
    ),
    "sealing": ("Seals, checks and house rules", "Nothing was changed or written."),
    "sealing_linux": (
        "Remarks on Linux guests",
        "Remarks that stop a seal have a code; [house rules](house-rules.md#remarks) decide which"
        " do.",
    ),
    "sealing_windows": (
        "Remarks on Windows guests",
        "Remarks that stop a seal have a code; [house rules](house-rules.md#remarks) decide which"
        " do.",
    ),
    "traces": ("The catalogue", "Correct the key that the message names in the file of rules."),
    "machines": (
        "Machines and build sheets",
        "Where no way out is given, correct the [build sheet](build-sheet.md) at the key that the "
        "message names.",
    ),
    "fleet": ("Many images", "The message says what to change on the cluster."),
    "reports": ("Reports and pages", "The message names what is in the way."),
    "templates": (
        "Templates, clones and the shelf",
        "Where no way out is given, correct the [clone sheet](clone-sheet.md) at the key that the "
        "message names.",
    ),
    "general": (
        "Documents, sizes and the operating system",
        "Correct the file or value that is named.",
    ),
}


def _split(text: str) -> tuple[str, str, str]:
    """A message as what is wrong and what to do: behind the last colon or semicolon of it."""
    for mark in ("; ", ": "):
        what, found, to_do = text.rpartition(mark)
        if found and what.count("(") == what.count(")") and re.match(r"[a-z-]+ ", to_do):
            return what, mark, to_do
    return text, "", ""


def _as_cell(text: str) -> str:
    """A message as a cell of a table: its placeholders as words in italics."""
    text = re.sub(r"([*_|<>`])", r"\\\1", re.sub(r"{(\w+)[^}]*}", "\x01\\1\x02", text))
    italic = re.sub(
        "\x01(.*?)\x02", lambda found: f"*{found[1].replace(chr(92), '').replace('_', ' ')}*", text
    )
    return " ".join(italic.split())


def messages_page() -> str:
    """Every refusal and remark with its way out, from the catalogue of messages."""
    parts = ["# Messages\n\n", textwrap.dedent(_HEAD)]
    for room, (title, way_out) in _ROOMS.items():
        module = importlib.import_module(f"zeroseal.messages.{room}")
        parts.append(f"\n## {title}\n\n{module.__doc__} {way_out}\n\n")
        parts.append("| message | what to do |\n| --- | --- |\n")
        texts = {value for name, value in vars(module).items() if name.isupper()}
        for text in sorted(texts, key=lambda text: (re.sub(r"{.*?}|\W", "", text).lower(), text)):
            what, _, to_do = _split(text)
            parts.append(f"| {_as_cell(what)} | {_as_cell(to_do)} |\n")
    return "".join(parts)
