"""How new clones, and what took on them, look on a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import render
from zeroseal.sentences import capitalised, clean, counted

if TYPE_CHECKING:
    from pathlib import Path

    from zeroseal.machines.definition import MachineDefinition
    from zeroseal.templates.clone import MadeClone
    from zeroseal.templates.clone_check import CloneAnswer

_MOST_ROWS = 40


def show_clones(clones: list[MadeClone], folder: Path, console: Console) -> None:
    """Machines that were made from a template."""
    count, first = len(clones), clones[0].machine.definition
    linked = sum(clone.machine.definition.linked for clone in clones)
    kind = "linked" if linked == count else "full" if not linked else "new"
    rest = f" of {first.template} in {folder}"
    render.headline(console, counted(count, f"{kind} clone"), "bold", rest)
    render.table(
        console,
        ("name", "disk", "stored", "MAC", "address"),
        [
            (
                clone.machine.definition.name,
                size_text(clone.disk_bytes),
                size_text(clone.machine.disk.stat().st_size),
                clone.machine.definition.mac,
                _address(clone),
            )
            for clone in clones[:_MOST_ROWS]
        ],
    )
    if count > _MOST_ROWS:
        console.print(f"    and {count - _MOST_ROWS} more")
    notes = []
    if any(clone.machine.definition.seed for clone in clones):
        notes.append(
            "seed.iso gives each clone its name and settings on its first start. Detach it "
            "afterwards, or it would give them to the next machine that is made from this one "
            "(zeroseal yard detach)."
        )
    if any(clone.wish.row.into_disk for clone in clones):
        notes.append("Each clone's name and settings are in its disk: no medium is needed.")
    if linked:
        notes.append(
            "Linked clones are lost if the template is changed, moved or removed; clone "
            "--make-full turns one into a full clone."
        )
    messages = dict.fromkeys(sentence for clone in clones for sentence in clone.messages)
    notes += [f"{capitalised(sentence)}." for sentence in messages]
    render.bullets(console, notes)
    name = first.name
    names = {"qemu": "QEMU", "libvirt": "libvirt"}
    host = names.get(first.host, "the simulated host")
    render.next_step(
        console, f"Start one on {host}:", f"zeroseal yard start {name} --yard {folder}"
    )


def show_table(clones: list[MadeClone], _folder: Path, console: Console) -> None:
    """Name, MAC and address of each, and nothing else: for a DHCP server's reservations."""
    for clone in clones:
        definition = clone.machine.definition
        words = (definition.name, definition.mac, _address(clone))
        # past the console, which would make spaces of the tabs
        console.file.write("\t".join(clean(word) for word in words) + "\n")


def show_answers(
    name: str,
    disk: Path,
    answers: list[CloneAnswer],
    definition: MachineDefinition | None,
    console: Console,
) -> None:
    """Whether a clone became what its sheet asked for."""
    wrong = [answer for answer in answers if not answer.is_good]
    if wrong:
        what = f"  {name}: {len(wrong)} of {len(answers)} settings differ from its sheet"
        render.headline(console, "NOT AS ASKED", render.BROKEN_STYLE, what)
    else:
        render.headline(
            console, "AS ASKED", render.SEALED_STYLE, f"  {name}: all {len(answers)} settings"
        )
    render.table(
        console,
        ("", "what", "asked", "on the disk"),
        [
            ("ok" if item.is_good else "NOT", item.what, item.asked, item.found or "nothing")
            for item in answers
        ],
    )
    if wrong:
        render.next_step(console, "Examine the disk yourself:", f"zeroseal survey {disk}")
    elif definition and definition.seed:
        text = "Its seed medium has been applied. Switch the machine off and detach the medium:"
        yard = disk.resolve().parent.parent
        render.next_step(console, text, f"zeroseal yard detach {name} --yard {yard}")


def _address(clone: MadeClone) -> str:
    return ", ".join(item.partition("/")[0] for item in clone.wish.row.addresses) or "DHCP"
