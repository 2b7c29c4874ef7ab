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
