"""Registry hives: what we write is read by three independent readers to the same tree."""

from __future__ import annotations

import random
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests import hives
from tests.hives import Node
from tests.oracles import run
from zeroseal.errors import DamagedError, NeedsRecoveryError, UnsupportedError, ZeroSealError
from zeroseal.guests.registry import layout, value_types
from zeroseal.guests.registry.check import check_hive
from zeroseal.guests.registry.create import new_hive
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.registry.hive import Hive, Value, hash_name, upper
from zeroseal.guests.registry.logs import empty_log, replay_logs
from zeroseal.guests.registry.paths import Registry

NOW = 1_700_000_000
OTHER_SECURITY = bytes.fromhex(
    "0100048014000000240000000000000034000000"
    "01020000000000052000000020020000"
    "01020000000000052000000020020000"
    "02001c000100000000001400190002000101000000000005120000000000"
)
LETTERS = "abcdefgXYZ019 _-{}.äÿßЖ日"


def judge(raw: bytes, expected: Node, folder: Path) -> None:
    """Our checker finds nothing; ours and three others' readers see the same tree."""
    assert check_hive(raw) == []
    assert hives.ours(raw) == expected
    path = folder / "judged"
    path.write_bytes(raw)
    assert hives.by_hivex(path) == expected
    assert hives.by_python_registry(path) == hives.known_only(expected)
    seen, wanted = hives.by_regipy(path), hives.flat(expected)
    assert seen == tuple(_question_marks(part) for part in wanted)


def _question_marks(part: set[str] | dict[str, bytes]) -> set[str] | dict[str, bytes]:
    """regipy takes one-byte names for ASCII."""

    def told(name: str) -> str:
        pieces = name.replace("|", "/|").split("/")
        pieces = [
            "".join(letter if ord(letter) < 128 else "\ufffd" for letter in piece)
            if all(ord(letter) < 256 for letter in piece)
            else piece
            for piece in pieces
        ]
        return "/".join(pieces).replace("/|", "|")

    if isinstance(part, set):
        return {told(name) for name in part}
    return {told(name): data for name, data in part.items()}


@dataclass
class Pair:
    """A hive that is edited, and the tree that it must be."""

    editor: HiveEditor
    tree: Node = field(default_factory=Node)

    def keys(self) -> list[tuple[str, Node]]:
        """All keys with their paths, the root first."""
        found, pending = [], [("", self.tree)]
        while pending:
            path, node = pending.pop()
            found.append((path, node))
            pending += [(f"{path}\\{name}", child) for name, child in node.keys.items()]
        return found


def _name(dice: random.Random, least: int = 1) -> str:
    return "".join(dice.choice(LETTERS) for _ in range(dice.randint(least, 14)))


def _step(pair: Pair, dice: random.Random) -> None:
    """One random edit, done to both."""
    path, node = dice.choice(pair.keys())
    key = pair.editor.find_key(path)
    assert key is not None
    known_keys = {upper(name): name for name in node.keys}
    known_values = {upper(name): name for name in node.values}
    kind = dice.choice(["set", "set", "set", "add", "add", "unset", "drop", "rename", "guard"])
    if kind == "set":
        name = dice.choice([_name(dice, 0), *node.values])
        size = dice.choice([0, 1, 4, 5, 30, 600, 16344, 16345, 40000])
        number = dice.choice([0, 1, 3, 3, 4, 7, 11, 0x3E9, 0xFFFF0012])
        size = {4: 4, 11: 8, 1: max(size, 6), 7: max(size, 6)}.get(
            number, size
        )  # as all readers tell
        data = dice.randbytes(size)
        pair.editor.set_value(key, name, number, data)
        node.values[known_values.get(upper(name), name)] = (number, data)
    elif kind == "unset":
        name = dice.choice([_name(dice), *node.values])
        assert pair.editor.delete_value(key, name) == (upper(name) in known_values)
        node.values.pop(known_values.get(upper(name), name), None)
    elif kind == "add":
        name = _name(dice)
        pair.editor.add_key(key, name, dice.choice(["", "class of it"]))
        node.keys.setdefault(known_keys.get(upper(name), name), Node())
    elif kind == "guard":
        pair.editor.set_security(key, dice.choice([OTHER_SECURITY, pair.editor.security_of(key)]))
    elif path and kind in ("drop", "rename"):
        above = dict(pair.keys())[path.rpartition("\\")[0]]
        own = path.rpartition("\\")[2]
        if kind == "drop":
            pair.editor.delete_key(key)
            del above.keys[own]
            return
        name = _name(dice)
        if upper(name) in {upper(other) for other in above.keys} and upper(name) != upper(own):
            with pytest.raises(ValueError, match="already"):
                pair.editor.rename_key(key, name)
            return
        pair.editor.rename_key(key, name)
        above.keys[name] = above.keys.pop(own)


@pytest.mark.parametrize("minor", [3, 4, 5, 6])
@pytest.mark.parametrize("seed", range(6))
def test_random_edits_are_read_alike_by_all(tmp_path: Path, minor: int, seed: int) -> None:
    dice = random.Random(f"{minor} {seed}")
    pair = Pair(HiveEditor(new_hive("ROOT", NOW, minor), NOW))
    for _round in range(4):
        for _ in range(60):
            _step(pair, dice)
        raw = pair.editor.build()
        if minor > 3:
            judge(raw, pair.tree, tmp_path)
        else:  # large values lie in one cell there, which other readers do not ask the version for
            assert check_hive(raw) == []
            assert hives.ours(raw) == pair.tree
        pair = Pair(HiveEditor(raw, NOW), pair.tree)


def test_what_hivex_made_is_changed_and_read_by_all(tmp_path: Path) -> None:
    """hivex makes no hive of its own: it fills a bare one."""
    path = tmp_path / "made"
    path.write_bytes(new_hive("$$$PROTO.HIV", NOW, 3))
    hives.fill_by_hivex(path, keys=120, values=5)
    tree = hives.by_hivex(path)
    assert check_hive(path.read_bytes()) == []
    assert hives.ours(path.read_bytes()) == tree
    editor = HiveEditor(path.read_bytes(), NOW)
    key = editor.find_key("SETUP\\key 7")
    assert key is not None
    editor.set_value(
        key, "name", value_types.SZ, value_types.pack(value_types.SZ, "Grace of the quay")
    )
    editor.rename_key(key, "Ferries of the long shore")
    editor.delete_key(editor.find_key("Setup\\key 8") or 0)
    setup = tree.keys["Setup"]
    node = setup.keys.pop("key 7")
    del setup.keys["key 8"]
    node.values["name"] = (1, "Grace of the quay\0".encode("utf-16-le"))
    setup.keys["Ferries of the long shore"] = node
    path.write_bytes(editor.build())
    judge(path.read_bytes(), tree, tmp_path)
    run("hivexsh", "-w", path, feed="cd Setup\nadd Quay\ncommit\nquit\n")
    assert check_hive(path.read_bytes()) == []
    assert "Quay" in hives.ours(path.read_bytes()).keys["Setup"].keys


def test_twenty_thousand_values_lie_in_one_key(tmp_path: Path) -> None:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    key = editor.add_key(editor.root, "Many")
    wanted = {f"value {number}": (3, number.to_bytes(6, "big")) for number in range(20_000)}
    for name, (kind, data) in wanted.items():
        editor.set_value(key, name, kind, data)
    raw = editor.build()
    judge(raw, Node(keys={"Many": Node(wanted)}), tmp_path)
    editor = HiveEditor(raw, NOW)
    key = editor.find_key("many") or 0
    for number in range(300):
        assert editor.delete_value(key, f"VALUE {number}")
        del wanted[f"value {number}"]
    judge(editor.build(), Node(keys={"Many": Node(wanted)}), tmp_path)
    editor.delete_values(key)
    judge(editor.build(), Node(keys={"Many": Node()}), tmp_path)


def test_many_keys_are_listed_in_order(tmp_path: Path) -> None:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    names = [f"S-1-5-21-{number * 7919 % 100_003}" for number in range(1200)]
    for name in names:
        editor.add_key(editor.root, name)
    raw = editor.build()
    judge(raw, Node(keys={name: Node() for name in names}), tmp_path)
    hive = Hive(raw)
    assert all(hive.find_key(name.lower()) for name in names)
    assert hive.cell(hive.root.cell.subkey_list)[:2] == b"ri"


def test_a_renamed_key_has_another_hash_place_and_longest_name() -> None:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    for name in ("alpha", "beta", "gamma"):
        editor.add_key(editor.root, name)
    editor.rename_key(editor.find_key("alpha") or 0, "omega of a great length")
    hive = Hive(editor.build())
    assert [key.name for key in hive.subkeys(hive.root)] == [
        "beta",
        "gamma",
        "omega of a great length",
    ]
    assert hive.root.cell.longest_subkey == 2 * len("omega of a great length")
    leaf = hive.cell(hive.root.cell.subkey_list)
    assert leaf[:2] == b"lh"
    assert int.from_bytes(leaf[24:28], "little") == hash_name("OMEGA of a great length")
    editor.rename_key(editor.find_key("omega of a great length") or 0, "mu")
    assert editor.read().root.cell.longest_subkey == 2 * len("gamma")
    assert check_hive(editor.build()) == []


def test_types_that_nobody_knows_survive_edits_around_them(tmp_path: Path) -> None:
    editor = HiveEditor(new_hive("SAM", NOW), NOW)
    names = editor.add_key(editor.root, "Names")
    editor.set_value(editor.add_key(names, "ada"), "", 0x3E9, b"")  # an account's number
    editor.set_value(names, "a property", 0xFFFF0012, b"s\0h\0\0\0")
    editor = HiveEditor(editor.build(), NOW)
    editor.rename_key(editor.find_key("Names\\ada") or 0, "grace of the quay")
    editor.set_value(editor.find_key("Names") or 0, "another", 3, bytes(50))
    wanted = Node({"a property": (0xFFFF0012, b"s\0h\0\0\0"), "another": (3, bytes(50))})
    wanted.keys["grace of the quay"] = Node({"": (0x3E9, b"")})
    judge(editor.build(), Node(keys={"Names": wanted}), tmp_path)


def test_what_was_removed_is_nowhere_in_the_file() -> None:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    secret = b"canary of " + bytes(range(65, 90))
    key = editor.add_key(editor.root, "Canary key", "canary class")
    for size in (20, 4000, 60_000):
        editor.set_value(key, f"canary {size}", 3, (secret * 3000)[:size])
    editor.set_value(editor.root, "kept", 3, b"kept, and long enough")
    editor.set_security(key, OTHER_SECURITY)
    editor.rename_key(key, "Canary of another and longer name")
    editor.set_value(editor.root, "canary", 3, secret)
    editor.delete_value(editor.root, "canary")
    editor.delete_key(editor.find_key("Canary of another and longer name") or 0)
    raw = editor.build()
    for needle in (b"anary", "anary".encode("utf-16-le"), OTHER_SECURITY[20:]):
        assert needle not in raw
    assert b"kept, and" in raw
    assert check_hive(raw) == []


def test_security_that_was_set_is_read_by_another(tmp_path: Path) -> None:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    for name in ("one", "two", "three"):
        editor.add_key(editor.root, name)
    for name in ("one", "two"):
        editor.set_security(editor.find_key(name) or 0, OTHER_SECURITY)
    assert len(editor.security_cells()) == 2
    changed = OTHER_SECURITY.replace(bytes.fromhex("0512000000"), bytes.fromhex("0513000000"))
    shared = editor.security_cells()[1]
    editor.replace_security(shared, changed)
    path = tmp_path / "hive"
    path.write_bytes(editor.build())
    assert check_hive(editor.build()) == []
    told = dict(line.split(",", 1) for line in run("reglookup", "-s", path).splitlines())
    assert "S-1-5-19:ALLOW" in told["/one"]
    assert told["/one"] == told["/two"]
    assert "S-1-5-32-544:ALLOW" in told["/three"]


def test_free_cells_of_others_are_zeroed() -> None:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    raw = bytearray(editor.build())
    raw[-200:-180] = b"left by someone else"
    editor = HiveEditor(bytes(raw), NOW)
    assert b"someone else" in editor.build()
    editor.zero_free()
    assert b"someone else" not in editor.build()


# -- dirty hives and their logs


def _two_states(grow: int = 0) -> tuple[bytes, bytes, bytes]:
    editor = HiveEditor(new_hive("SYSTEM", NOW), NOW)
    key = editor.add_key(editor.root, "Select")
    for number in range(20):
        editor.set_value(key, f"v{number}", 3, bytes([number]) * 900)
    first = editor.build()
    editor = HiveEditor(first, NOW)
    editor.set_value(key, "v3", 3, b"three".ljust(900, b"3"))
    second = editor.build()
    editor = HiveEditor(second, NOW)
    editor.set_value(key, "v15", 3, b"fifteen".ljust(900, b"5") + bytes(grow))
    return first, second, editor.build()


@pytest.mark.filterwarnings("ignore:unclosed file")  # regipy's
def test_a_dirty_hive_is_refused_then_replayed_from_new_logs(tmp_path: Path) -> None:
    first, second, third = _two_states()
    torn = hives.dirty(first)
    with pytest.raises(NeedsRecoveryError, match="transaction logs"):
        Hive(torn)
    log = hives.new_log(first, second, third)
    assert hives.ours(replay_logs(torn, [log, empty_log(1024)])) == hives.ours(third)
    (tmp_path / "SYSTEM").write_bytes(torn)
    (tmp_path / "LOG1").write_bytes(log)
    hives.replay_by_regipy(tmp_path / "SYSTEM", tmp_path / "LOG1", tmp_path / "restored")
    assert (tmp_path / "restored").read_bytes()[4096:] == third[4096:]
    damaged = bytearray(log)
    damaged[log.rindex(b"HvLE") + 600] ^= 1  # the second write was torn: it is left out
    assert hives.ours(replay_logs(torn, [bytes(damaged)])) == hives.ours(second)
    assert check_hive(replay_logs(torn, [log])) == []


@pytest.mark.filterwarnings("ignore:unclosed file")
def test_logs_that_grow_the_hive_and_old_ones_are_replayed(tmp_path: Path) -> None:
    first, _second, grown = _two_states(grow=9000)
    assert len(grown) > len(first)
    torn = hives.dirty(first)
    assert hives.ours(replay_logs(torn, [hives.new_log(first, grown)])) == hives.ours(grown)
    first, second, _third = _two_states()
    old = hives.old_log(first, second)
    assert hives.ours(replay_logs(hives.dirty(first), [old])) == hives.ours(second)
    (tmp_path / "SYSTEM").write_bytes(hives.dirty(first))
    (tmp_path / "LOG").write_bytes(old)
    hives.replay_by_regipy(tmp_path / "SYSTEM", tmp_path / "LOG", tmp_path / "r")
    assert (tmp_path / "r").read_bytes()[4096:] == second[4096:]


def test_logs_of_another_time_are_refused() -> None:
    first, second, third = _two_states()
    with pytest.raises(DamagedError, match="do not continue"):
        replay_logs(hives.dirty(third), [hives.new_log(first, second)])
    with pytest.raises(DamagedError, match="do not continue"):
        replay_logs(hives.dirty(first), [])


# -- damage


def test_mutated_hives_raise_only_our_errors() -> None:
    opened: list[bool] = []

    @settings(max_examples=300, deadline=None)
    @given(st.data())
    def mutate(data: st.DataObject) -> None:
        raw = bytearray(_SAMPLE)
        for _ in range(data.draw(st.integers(1, 6))):
            place = data.draw(st.integers(0, len(raw) - 4))
            change = data.draw(
                st.sampled_from([b"\0\0\0\0", b"\xff\xff\xff\xff", b"\x01", b"\x80"])
            )
            raw[place : place + len(change)] = change
        head = raw[:512]
        raw[508:512] = layout.checksum_of(bytes(head)).to_bytes(4, "little")
        check_hive(bytes(raw))
        opened.append(_look_at_all(bytes(raw)))

    mutate()
    assert sum(opened) >= len(opened) // 3


def _look_at_all(raw: bytes) -> bool:
    """Reads and changes a hive; whether it could be opened at all."""
    try:
        hive = Hive(raw)
    except ZeroSealError:
        return False
    with suppress(ZeroSealError):
        for _path, key in hive.walk():
            list(hive.values(key))
        editor = HiveEditor(raw, NOW)
        editor.set_value(editor.root, "a", 3, bytes(100))
        editor.delete_key(editor.find_key("Setup") or 0)
    return True


def _sample() -> bytes:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    pair, dice = Pair(editor), random.Random(4)
    editor.add_key(editor.root, "Setup")
    pair.tree.keys["Setup"] = Node()
    for _ in range(60):
        _step(pair, dice)
    return pair.editor.build()


_SAMPLE = _sample()


@pytest.mark.parametrize("count", [2, 1100])
def test_keys_and_lists_that_lead_to_themselves_are_damage(count: int) -> None:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    top = editor.add_key(editor.root, "top")
    for number in range(count):
        editor.add_key(top, f"{number}")
    listed = editor.read().key_at(top).cell.subkey_list
    raw = bytearray(editor.build())
    inside = top if count == 2 else listed  # a key below itself, a list in itself
    raw[4096 + listed + 8 : 4096 + listed + 12] = inside.to_bytes(4, "little")
    assert check_hive(bytes(raw)) != []
    editor = HiveEditor(bytes(raw), NOW)
    with pytest.raises(DamagedError):
        editor.delete_key(top)
    with pytest.raises(DamagedError):
        list(Hive(bytes(raw)).walk())


def test_half_a_letter_in_a_name_is_damage() -> None:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    editor.set_value(editor.root, "日本", 3, b"x")
    raw = bytearray(editor.build())
    place = raw.index(b"vk")
    raw[place + 2] = 3
    hive = Hive(bytes(raw))
    with pytest.raises(DamagedError, match="ends in the middle of a character"):
        list(hive.values(hive.root))
    assert any(
        "ends in the middle of a character" in problem.what for problem in check_hive(bytes(raw))
    )


@pytest.mark.parametrize("cut", [0, 100, 4095, 4096, 6000])
def test_a_hive_that_is_cut_off_is_damaged(cut: int) -> None:
    with pytest.raises(DamagedError):
        Hive(_SAMPLE[:cut])


def test_layered_and_foreign_hives_are_refused() -> None:
    raw = bytearray(new_hive("ROOT", NOW))
    root = 4096 + int.from_bytes(raw[36:40], "little") + 4
    raw[root + 13] |= 1
    with pytest.raises(UnsupportedError, match="layered"):
        _ = Hive(bytes(raw)).root
    raw = bytearray(new_hive("ROOT", NOW))
    raw[24] = 9
    raw[508:512] = layout.checksum_of(bytes(raw[:512])).to_bytes(4, "little")
    with pytest.raises(UnsupportedError, match=r"1\.9"):
        Hive(bytes(raw))


@pytest.mark.parametrize(
    ("find", "at", "told"),
    [
        (b"lh", 8, "hash value"),
        (b"sk", 12, "counts"),
        (b"nk", 52, "longer name"),
        (b"nk", 16, "parent"),
    ],
)
def test_the_checker_finds_damage_done_on_purpose(find: bytes, at: int, told: str) -> None:
    editor = HiveEditor(new_hive("ROOT", NOW), NOW)
    child = editor.add_key(editor.root, "a key")
    editor.add_key(child, "another key")
    raw = bytearray(editor.build())
    place = raw.index(find, 4096 + 32 + 4)
    if told == "parent":
        place = 4096 + child + 4
    raw[place + at : place + at + 2] = b"\x07\x00" if told == "counts" else b"\x01\x00"
    assert any(told in problem.what for problem in check_hive(bytes(raw)))


# -- patterns


class _Files:
    def __init__(self, files: dict[str, bytes]) -> None:
        self._files = files

    def read(self, path: str) -> bytes | None:
        return self._files.get(path.lower())


def _machine() -> _Files:
    def made(*entries: tuple[str, str, int, value_types.Typed]) -> bytes:
        editor = HiveEditor(new_hive("ROOT", NOW), NOW)
        for path, name, kind, content in entries:
            key = editor.root
            for part in path.split("\\"):
                key = editor.add_key(key, part)
            editor.set_value(key, name, kind, value_types.pack(kind, content))
        return editor.build()

    profiles = "Microsoft\\Windows NT\\CurrentVersion\\ProfileList"
    environment = "ControlSet001\\Control\\Session Manager\\Environment"
    config = "/windows/system32/config"
    return _Files(
        {
            f"{config}/system": made(
                (environment, "PROFILES", 2, "%SystemDrive%\\Users"),
                ("ControlSet001\\Services\\Tcpip\\Parameters", "Hostname", 1, "ferry"),
                ("ControlSet002\\Services\\Tcpip\\Parameters", "Hostname", 1, "ferry"),
                ("Select", "Current", 4, 1),
            ),
            f"{config}/software": made(
                (f"{profiles}\\S-1-5-21-1-2-3-1001", "ProfileImagePath", 2, "%Profiles%\\ada"),
                (f"{profiles}\\S-1-5-18", "ProfileImagePath", 2, "%SYSTEMROOT%\\config"),
            ),
            "/users/ada/ntuser.dat": made(("Software\\Quay", "Last", 7, ["one", "two"])),
        }
    )


def test_keys_are_found_by_pattern_over_control_sets_and_profiles() -> None:
    registry = Registry(_machine())
    found = list(registry.values("SYSTEM\\CSn\\Services\\*\\Parameters", "host*"))
    assert [key.path for key, _value in found] == [
        "ControlSet001\\Services\\Tcpip\\Parameters",
        "ControlSet002\\Services\\Tcpip\\Parameters",
    ]
    assert {value_types.typed(value) for _key, value in found} == {"ferry"}
    (quay,) = registry.values("USERS\\**\\Quay", "*")
    assert value_types.typed(quay[1]) == ["one", "two"]
    assert quay[0].file == "/Users/ada/NTUSER.DAT"
    assert list(registry.find("SECURITY\\Policy")) == []
    with pytest.raises(ValueError, match="the hive"):
        list(registry.find("HKLM\\Software"))


def test_values_are_typed_and_packed() -> None:
    samples: list[tuple[int, value_types.Typed]] = [
        (1, "text"),
        (4, 7),
        (5, 7),
        (11, 1 << 40),
        (7, ["a", "", "b"]),
        (3, b"x"),
    ]
    for kind, content in samples:
        packed = value_types.pack(kind, content)
        assert value_types.typed(Value("", kind, packed)) == content
    assert value_types.typed(Value("", 4, b"\1\2")) == b"\1\2"
    assert value_types.expand("%windir%\\x%none%", {"WinDir": "C:\\W"}) == "C:\\W\\x%none%"
    with pytest.raises(ValueError, match="does not fit"):
        value_types.pack(4, 1 << 33)
