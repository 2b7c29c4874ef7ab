"""Replacing bytes all over a hive: names, values, rights; lists of keys stay in order."""

from __future__ import annotations

import random
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.hives import Node, by_hivex, by_regipy, flat, ours
from zeroseal.guests.registry.check import check_hive
from zeroseal.guests.registry.create import new_hive
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.registry.hive import Hive
from zeroseal.guests.registry.remains import count_stale
from zeroseal.guests.registry.slack import iter_slack

NOW = 1_795_000_000
OLD, NEW = "5551362910-2938471605", "1021438765-1145093827"
RAW, FRESH = bytes.fromhex("5e131c6e75b725af"), bytes.fromhex("0123456789abcdef")
PAIRS = [
    (OLD.encode(), NEW.encode()),
    (OLD.encode("utf-16-le"), NEW.encode("utf-16-le")),
    (RAW, FRESH),
]
SEGMENT = 16344


def _swapped(content: bytes) -> bytes:
    for old, new in PAIRS:
        content = content.replace(old, new)
    return content


def _moved(node: Node) -> Node:
    values = {
        name.replace(OLD, NEW): (kind, _swapped(data)) for name, (kind, data) in node.values.items()
    }
    return Node(values, {name.replace(OLD, NEW): _moved(key) for name, key in node.keys.items()})


def _filled(seed: int, minor: int) -> bytes:
    dice = random.Random(seed)
    editor = HiveEditor(new_hive(f"S-1-5-21-{OLD}_Classes", NOW, minor), NOW)
    keys = [editor.root]
    for index in range(dice.randint(1, 60)):
        wide = dice.choice(["", "", "é\u0142"])
        name = dice.choice([f"S-1-5-21-{OLD}-{index}", f"key {index}", f"{wide}{OLD}.{index}"])
        key = editor.add_key(dice.choice(keys), name)
        keys.append(key)
        for number in range(dice.randint(0, 4)):
            form = dice.choice([RAW, OLD.encode(), OLD.encode("utf-16-le"), b"none"])
            before = dice.choice([0, 1, 40, SEGMENT - dice.randint(0, 12), 2 * SEGMENT - 3])
            data = b"v" * before + form + b"w" * dice.randint(0, 400)
            editor.set_value(key, dice.choice([OLD, f"v{number}", ""]), 3, data)
        if dice.random() < 0.3:
            owner = bytes.fromhex("010500000000000515000000") + RAW + bytes([index, 0, 0, 0])
            head = b"\1\0\4\x80" + (20).to_bytes(4, "little") + bytes(12)
            editor.set_security(key, head + owner + bytes(4))
    return editor.build()


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 1 << 32), st.sampled_from([3, 5, 6]))
def test_what_is_replaced_is_all_of_it_and_nothing_else(seed: int, minor: int) -> None:
    before = _filled(seed, minor)
    editor = HiveEditor(before, NOW)
    editor.replace_bytes(PAIRS)
    after = editor.build()
    assert check_hive(after) == []
    assert ours(after) == _moved(ours(before))
    assert not any(old in after for old, _new in PAIRS)
    old_rights = [Hive(before).security_of(key) for _path, key in Hive(before).walk()]
    new_rights = [Hive(after).security_of(key) for _path, key in Hive(after).walk()]
    assert sorted(_swapped(item) for item in old_rights) == sorted(new_rights)
    hive = Hive(after)
    for path, key in hive.walk():  # each is found where its name says
        found = hive.find_key(path)
        assert found is not None
        assert found.offset == key.offset


def test_others_read_the_result_as_we_do(tmp_path: Path) -> None:
    for seed in range(6):
        editor = HiveEditor(_filled(seed, 5), NOW)
        editor.replace_bytes(PAIRS)
        path = tmp_path / f"hive{seed}"
        path.write_bytes(editor.build())
        tree = ours(path.read_bytes())
        assert by_hivex(path) == tree
        assert by_regipy(path) == flat(tree)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 1 << 32), st.sampled_from([3, 5, 6]))
def test_what_lies_behind_contents_is_found_and_zeroed(seed: int, minor: int) -> None:
    before = _filled(seed, minor)
    dirty, dice, marked = bytearray(before), random.Random(seed), 0
    at, body = 4096, len(before)
    while at < body:  # every cell's last bytes, where they are zeros behind its content
        place, end = at + 32, at + int.from_bytes(before[at + 8 : at + 12], "little")
        while place < end:
            size = int.from_bytes(before[place : place + 4], "little", signed=True)
            if size < 0 and dice.random() < 0.5 and not any(dirty[place - size - 2 : place - size]):
                marked += _mark_slack(dirty, before, place, -size)
            place += abs(size)
        at = end
    hive = Hive(bytes(dirty))
    assert ours(bytes(dirty)) == ours(before)
    assert (count_stale(hive) > 0) == (marked > 0)
    editor = HiveEditor(bytes(dirty), NOW)
    editor.zero_free()
    after = editor.build()
    assert count_stale(Hive(after)) == 0
    assert ours(after) == ours(before)
    assert check_hive(after) == []


def _mark_slack(dirty: bytearray, before: bytes, place: int, size: int) -> int:
    """Puts a mark at the end of a cell of rights, whose length is told in it; 1 where it fits."""
    if before[place + 4 : place + 6] != b"sk":
        return 0
    used = 24 + int.from_bytes(before[place + 20 : place + 24], "little")
    if size - used < 2:
        return 0
    dirty[place + size - 2 : place + size] = b"\xde\xad"
    return 1


def test_slack_of_every_kind_of_cell_is_seen() -> None:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    key = editor.add_key(editor.root, "a key with a name", "class")
    for size in (5, 40, SEGMENT, SEGMENT + 9):
        editor.set_value(key, f"of {size}", 3, b"x" * size)
    raw = bytearray(editor.build())
    body = bytes(raw[4096:])
    cells = dict(_used(body))
    seen = set()
    for at, length in cells.items():  # one byte at the end of each cell that has room there
        trial = bytearray(body)
        if trial[at + length - 1] == 0:
            trial[at + length - 1] = 0x5A
            found = list(iter_slack(trial, editor.root, 5))
            if found:
                assert found == [(found[0][0], at + length)]
                seen.add(body[at + 4 : at + 6])
    assert b"vk" in seen
    assert len(seen) >= 2


def _used(body: bytes) -> list[tuple[int, int]]:
    found, place = [], 0
    while place < len(body):
        at, place = place + 32, place + int.from_bytes(body[place + 8 : place + 12], "little")
        while at < place:
            size = int.from_bytes(body[at : at + 4], "little", signed=True)
            if size < 0:
                found.append((at, -size))
            at += abs(size)
    return found
