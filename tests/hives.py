"""Registry hives for tests: a tree as plain dicts, read by ours and three others."""

from __future__ import annotations

import json
import logging
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from regipy import recovery, registry
from Registry import Registry

from tests.oracles import run
from zeroseal.guests.registry.hive import Hive, Key
from zeroseal.guests.registry.logs import marvin32

KNOWN_TYPES = (0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11)
PYTHON = "/usr/bin/python3"  # hivex's module comes with the distribution's own


@dataclass
class Node:
    """A key: its values by name as (type, data), and the keys below it by name."""

    values: dict[str, tuple[int, bytes]] = field(default_factory=dict)
    keys: dict[str, Node] = field(default_factory=dict)


def ours(raw: bytes) -> Node:
    """The tree as our reader sees it."""
    hive = Hive(raw)

    def read(key: Key) -> Node:
        values = {value.name: (value.kind, value.data) for value in hive.values(key)}
        return Node(values, {child.name: read(child) for child in hive.subkeys(key)})

    return read(hive.root)


def by_hivex(path: Path) -> Node:
    """The tree as hivex sees it."""
    program = r"""
import hivex, json, sys
h = hivex.Hivex(sys.argv[1])
def read(node):
    values = {}
    for value in h.node_values(node):
        kind, data = h.value_value(value)
        values[h.value_key(value)] = [kind & 0xFFFFFFFF, data.hex()]
    return [values, {h.node_name(child): read(child) for child in h.node_children(node)}]
print(json.dumps(read(h.root())))
"""
    return _node(json.loads(run(PYTHON, "-c", program, path)))


def fill_by_hivex(path: Path, keys: int, values: int) -> None:
    """Lets hivex add keys with values below ``Setup``."""
    program = r"""
import hivex, sys
h = hivex.Hivex(sys.argv[1], write=True)
setup = h.node_add_child(h.root(), "Setup")
for number in range(int(sys.argv[2])):
    node = h.node_add_child(setup, "key %d" % number)
    h.node_set_values(node, [
        {"key": "value %d" % n, "t": 3, "value": bytes([n]) * (number * 40 * (n + 1))}
        for n in range(int(sys.argv[3]))
    ])
h.commit(None)
"""
    run(PYTHON, "-c", program, path, str(keys), str(values))


def by_python_registry(path: Path) -> Node:
    """The tree as python-registry sees it; it knows no types but those of Windows' own list."""

    def read(key: Any) -> Node:
        values = {}
        for value in key.values():
            name = "" if value.name() == "(default)" else value.name()
            kind = value.value_type()
            values[name] = (kind, value.raw_data() if kind in KNOWN_TYPES else b"")
        return Node(values, {child.name(): read(child) for child in key.subkeys()})

    return read(Registry.Registry(str(path)).root())


def known_only(node: Node) -> Node:
    """A tree as ``by_python_registry`` gives one."""
    values = {
        name: (kind & 0xFFF, data if kind in KNOWN_TYPES else b"")
        for name, (kind, data) in node.values.items()
    }
    return Node(values, {name: known_only(child) for name, child in node.keys.items()})


def by_regipy(path: Path) -> tuple[set[str], dict[str, bytes]]:
    """(paths of keys, binary values by path and name) as regipy sees them."""
    logging.getLogger("regipy").setLevel(logging.CRITICAL)
    keys, values = set(), {}

    def read(key: Any, place: str) -> None:
        keys.add(place)
        for value in list(key.iter_values(trim_values=False)):
            if value.value_type == "REG_BINARY":
                values[f"{place}|{value.name}"] = value.value
        for child in list(key.iter_subkeys()):  # they share one position in the file
            read(child, f"{place}/{child.name}")

    hive: Any = registry.RegistryHive
    read(hive(str(path)).root, "")
    return keys, values


def replay_by_regipy(hive: Path, log: Path, out: Path) -> None:
    """Writes a dirty hive into another file, with what its log holds, as regipy does."""
    apply: Any = recovery.apply_transaction_logs
    apply(str(hive), str(log), restored_hive_path=str(out))


def flat(node: Node, place: str = "") -> tuple[set[str], dict[str, bytes]]:
    """A tree as ``by_regipy`` gives one."""
    keys = {place}
    values = {
        f"{place}|{name or '(default)'}": data
        for name, (kind, data) in node.values.items()
        if kind == 3
    }
    for name, child in node.keys.items():
        more_keys, more_values = flat(child, f"{place}/{name}")
        keys |= more_keys
        values |= more_values
    return keys, values


def dirty(before: bytes) -> bytes:
    """A hive whose last write was begun and not finished: the base block says so."""
    sequence = int.from_bytes(before[8:12], "little")
    head = bytearray(before[:512])
    head[4:8] = (sequence + 1).to_bytes(4, "little")
    head[508:512] = _checksum(head).to_bytes(4, "little")
    return bytes(head) + before[512:]


def new_log(before: bytes, *writes: bytes) -> bytes:
    """A log of Windows 8.1 and later: an entry with the changed pages for each write in turn."""
    sequence = int.from_bytes(before[8:12], "little")
    head = _log_head(before, 6, sequence)
    entries = b""
    for number, after in enumerate(writes):
        pages = _changed(before, after, 4096)
        entries += _entry(sequence + number, len(after) - 4096, pages)
        before = after
    return (head + entries).ljust(1 << 16, b"\0")


def old_log(before: bytes, after: bytes) -> bytes:
    """A log of earlier systems: a bitmap of changed sectors, then the sectors."""
    sequence = int.from_bytes(before[8:12], "little")
    pages = _changed(before, after, 512)
    sectors = (len(after) - 4096) // 512
    bitmap = bytearray((sectors + 7) // 8)
    for offset, _page in pages:
        bitmap[offset // 512 // 8] |= 1 << offset // 512 % 8
    head = bytearray(_log_head(before, 1, sequence + 1))
    head[40:44] = (len(after) - 4096).to_bytes(4, "little")
    head[508:512] = _checksum(head).to_bytes(4, "little")
    marks = b"DIRT" + bitmap
    marks = marks.ljust(-(-len(marks) // 512) * 512, b"\0")
    return bytes(head) + marks + b"".join(page for _offset, page in pages)


def _changed(before: bytes, after: bytes, step: int) -> list[tuple[int, bytes]]:
    old, new = before[4096:], after[4096:]
    return [
        (place, new[place : place + step])
        for place in range(0, len(new), step)
        if new[place : place + step] != old[place : place + step]
    ]


def _log_head(before: bytes, kind: int, sequence: int) -> bytes:
    head = bytearray(before[:512])
    head[4:8] = head[8:12] = sequence.to_bytes(4, "little")
    head[28:32] = kind.to_bytes(4, "little")
    head[508:512] = _checksum(head).to_bytes(4, "little")
    return bytes(head)


def _entry(sequence: int, data_bytes: int, pages: list[tuple[int, bytes]]) -> bytes:
    body = b"".join(
        place.to_bytes(4, "little") + len(page).to_bytes(4, "little") for place, page in pages
    )
    body += b"".join(page for _place, page in pages)
    size = -(-(40 + len(body)) // 512) * 512
    body = body.ljust(size - 40, b"\0")
    numbers = (size, 0, sequence, data_bytes, len(pages))
    head = b"HvLE" + b"".join(number.to_bytes(4, "little") for number in numbers)
    head += marvin32(body)
    return head + marvin32(head) + body


def _checksum(head: bytes | bytearray) -> int:
    value = 0
    for place in range(0, 508, 4):
        value ^= int.from_bytes(head[place : place + 4], "little")
    return {0: 1, 0xFFFFFFFF: 0xFFFFFFFE}.get(value, value)


def _node(raw: list[Any]) -> Node:
    values = {name: (kind, bytes.fromhex(data)) for name, (kind, data) in raw[0].items()}
    return Node(values, {name: _node(child) for name, child in raw[1].items()})
