"""The parts of a Windows guest by themselves: identifiers, accounts, tasks, files, settings."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scripts.desk_machine import (
    ADA,
    ADMINISTRATORS,
    COMPUTER,
    CURRENT,
    MACHINE,
    NOW,
    RAW_SID,
    SET,
    SID,
    TASK_ID,
    TCPIP,
    TOM,
    VERSION,
    account_domain,
    answer_file,
    build_hive,
    descriptor,
    dice,
    files,
    group,
    hives,
    number,
    policy_name,
    raw,
    text,
    user_task,
)

from tests.hives import Node, ours
from tests.ntfs import make_ntfs
from tests.windows import make_windows_volume
from tests.xfs import FileStore
from zeroseal.errors import DamagedError, RefusedError
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.registry.paths import Registry
from zeroseal.guests.windows.account_edits import drop_account, without_member
from zeroseal.guests.windows.accounts import (
    members_of,
    nt_hash_of,
    read_accounts,
    read_groups,
    read_machine_sid,
)
from zeroseal.guests.windows.answer_files import count_passwords, iter_answer_files
from zeroseal.guests.windows.hives import HiveSet, find_hives, hive_title, open_registry
from zeroseal.guests.windows.identity import FirstStart, WindowsProfile, read_identity
from zeroseal.guests.windows.issue import policy_text, with_policy_text
from zeroseal.guests.windows.network import iter_interfaces, read_entrances
from zeroseal.guests.windows.reissue import reissue_sid
from zeroseal.guests.windows.services import WindowsServices
from zeroseal.guests.windows.sids import MachineSid, iter_machine_sids, sid_text
from zeroseal.guests.windows.tasks import decode_xml, iter_tasks
from zeroseal.guests.windows.template_mark import SOFTWARE_FILE, is_marked, mark, unmark
from zeroseal.traces.windows.context import guest_patterns
from zeroseal.volumes.volume import Content, Volume

CONFIG = "/Windows/System32/config"


class _Files:
    """The hives of a machine, as a registry asks for them."""

    def __init__(self, made: dict[str, bytes]) -> None:
        self._made = {f"{CONFIG}/{name}": content for name, content in made.items()}

    def read(self, path: str) -> bytes | None:
        return self._made.get(path)


def _registry(*more: tuple[str, tuple[str, str, int, bytes]]) -> Registry:
    return Registry(_Files(hives(*more)))


@pytest.fixture
def guest(tmp_path: Path) -> Iterator[Guest]:
    """The system volume of a machine, to be changed."""
    store = FileStore(make_windows_volume(tmp_path / "v"))
    volume = Volume("partition 2", 2, store, 0, Content("ntfs"))
    yield Guest([Mount("/", volume, NtfsEditor(store, NOW))], folds_case=True)
    store.close()


# -- identifiers


numbers = st.integers(100_000, (1 << 32) - 1)


@given(numbers, numbers, numbers, st.integers(0, (1 << 32) - 1))
def test_identifiers_survive_binary_and_text(a: int, b: int, c: int, rid: int) -> None:
    sid = MachineSid((a, b, c))
    assert MachineSid.parse(sid.raw) == MachineSid.parse_text(sid.text) == sid
    assert sid_text(sid.raw) == sid.text
    assert sid_text(sid.raw_account(rid)) == sid.account(rid)
    assert sid.triplet in sid.raw_account(rid)
    other = sid.another(())
    assert other != sid
    assert [len(str(n)) for n in other.numbers] == [len(str(n)) for n in sid.numbers]
    found = list(iter_machine_sids(b"xx" + sid.raw_account(rid) + b"y" + other.raw_account(7)))
    assert found == [(sid.numbers, rid), (other.numbers, 7)]


@pytest.mark.parametrize(
    "raw_sid",
    [b"", b"\1", b"\1\5\0\0\0\0\0\5", RAW_SID[:-1], b"\2" + RAW_SID[1:], ADMINISTRATORS],
)
def test_what_is_no_identifier_of_a_machine_is_none(raw_sid: bytes) -> None:
    assert MachineSid.parse(raw_sid) is None


@pytest.mark.parametrize("word", ["", "S-1-5-18", "S-1-5-21-1-2", f"{SID}-500", f"x{SID}"])
def test_text_that_is_no_machine_is_none(word: str) -> None:
    assert MachineSid.parse_text(word) is None


def test_an_identifier_that_is_taken_is_not_given_again() -> None:
    sid = MachineSid((100_000, 100_000, 100_000))
    taken = {sid.another(()) for _ in range(20)}
    assert not any(sid.another(taken) in taken for _ in range(20))
    assert MachineSid((99_999, 100_000, 100_000)).can_be_replaced is False


def test_small_numbers_are_refused(guest: Guest) -> None:
    with pytest.raises(RefusedError, match="are too small"):
        reissue_sid(_hives(guest), "S-1-5-21-7-2938471605-3310572948")


def _hives(guest: Guest) -> HiveSet:
    return HiveSet(open_registry(guest), NOW)


# -- accounts


def test_accounts_are_read_with_their_state() -> None:
    registry = _registry()
    found = {item.name: item for item in read_accounts(registry)}
    assert [item.rid for item in found.values()] == [500, 501, 503, ADA, TOM]
    assert found["Administrator"].can_log_in
    assert not found["Guest"].can_log_in
    assert found["ada.brine"].is_human
    assert (found["ada.brine"].is_administrator, found["tom.kelp"].is_administrator) == (
        True,
        False,
    )
    assert len(nt_hash_of(registry, ADA)) > len(nt_hash_of(registry, 501))
    assert read_machine_sid(registry) == MACHINE


def test_the_identifier_is_found_where_the_database_says() -> None:
    padded = account_domain() + bytes(8)
    registry = _registry(("SAM", raw("SAM\\Domains\\Account", "V", padded)))
    assert read_machine_sid(registry) == MACHINE
    broken = _registry(("SAM", raw("SAM\\Domains\\Account", "V", b"short")))
    assert read_machine_sid(broken) is None


def test_groups_are_read_and_lose_members() -> None:
    groups = {item.name: item for item in read_groups(_registry())}
    assert groups["Administrators"].members == (f"{SID}-500", f"{SID}-{ADA}")
    assert groups["Pursers"].members == (f"{SID}-{TOM}",)
    content = group("Builtin", 545, "Users", MACHINE.raw_account(500), MACHINE.raw_account(ADA),
                    MACHINE.raw_account(TOM))[3]  # fmt: skip
    for gone in (500, ADA, TOM):
        left = without_member(content, MACHINE.raw_account(gone))
        kept = [sid for _place, sid in members_of(left)]
        assert kept == [MACHINE.raw_account(rid) for rid in (500, ADA, TOM) if rid != gone]
        assert len(left) == len(content)
        assert without_member(left, MACHINE.raw_account(gone)) == left
    assert without_member(content, MACHINE.raw_account(77)) == content


@given(st.binary(min_size=52, max_size=200))
def test_a_group_that_is_none_is_left_alone(content: bytes) -> None:
    for member in (MACHINE.raw_account(ADA), (513).to_bytes(4, "little")):
        assert len(without_member(content, member)) == len(content)


def test_an_account_goes_with_its_memberships(guest: Guest) -> None:
    changes = _hives(guest)
    drop_account(changes, MACHINE, "ada.brine", ADA)
    changes.finish()
    registry = open_registry(guest)
    assert [item.rid for item in read_accounts(registry)] == [500, 501, 503, TOM]
    assert not any(f"{SID}-{ADA}" in item.members for item in read_groups(registry))
    members = "SAM\\SAM\\Domains\\Builtin\\Aliases\\Members"
    assert [key.key.name for key in registry.find(f"{members}\\{SID}\\*")] == [
        "000001F4",
        "000003EA",
    ]
    (count,) = [value.kind for _key, value in registry.values(f"{members}\\{SID}", "")]
    assert count == 2
    changes = _hives(guest)
    drop_account(changes, MACHINE, "nobody", 4711)
    changes.finish()
    assert len(read_accounts(open_registry(guest))) == 4


# -- set-up, name, network


@pytest.mark.parametrize(
    ("state", "in_setup", "expected"),
    [
        ("IMAGE_STATE_COMPLETE", 0, FirstStart.PLAIN),
        ("IMAGE_STATE_COMPLETE", 1, FirstStart.BETWEEN),
        ("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE", 1, FirstStart.RESEALED),
        ("IMAGE_STATE_GENERALIZE_RESEAL_TO_AUDIT", 0, FirstStart.AUDIT),
        ("IMAGE_STATE_SPECIALIZE_RESEAL_TO_OOBE", 0, FirstStart.BETWEEN),
        ("IMAGE_STATE_UNDEPLOYABLE", 0, FirstStart.BETWEEN),
        ("", 0, FirstStart.UNKNOWN),
    ],
)
def test_set_up_says_how_the_next_start_goes(
    state: str, in_setup: int, expected: FirstStart
) -> None:
    registry = _registry(
        ("SOFTWARE", text(f"{CURRENT}\\Setup\\State", "ImageState", state)),
        ("SYSTEM", number("Setup", "OOBEInProgress", in_setup)),
    )
    assert read_identity(registry).first_start is expected
    assert expected.makes_identity == (expected in (FirstStart.RESEALED, FirstStart.AUDIT))


@pytest.mark.parametrize(
    ("folder", "is_own"),
    [
        ("/Users/ada.brine", True),
        ("/D:/people/ada", True),
        ("/", False),
        ("/Users", False),
        ("/Users/Default", False),
        ("/users/PUBLIC", False),
        ("/Windows/System32/config/systemprofile", False),
        ("/Program Files/x", False),
        ("/Users/../Windows", False),
    ],
)
def test_only_a_folder_of_its_own_is_a_profile(folder: str, is_own: bool) -> None:
    assert WindowsProfile("S-1-5-21-1-2-3-1001", folder).has_own_folder is is_own


def test_policy_names_are_read_and_changed() -> None:
    data = policy_name(COMPUTER)
    assert policy_text(data) == COMPUTER
    for name in ("A", "UNNAMED", "a-longer-name-15"):
        made = with_policy_text(data, name)
        assert policy_text(made) == name
        assert made == policy_name(name)
    assert with_policy_text(b"", "x") == b""
    assert policy_text(b"\xff\xff\0\0") == ""


@given(st.binary(max_size=60))
def test_whatever_a_policy_holds_is_no_trap(data: bytes) -> None:
    policy_text(data)
    assert isinstance(with_policy_text(data, "UNNAMED"), bytes)


def test_cards_services_and_entrances_are_read() -> None:
    card = f"{TCPIP}\\Interfaces\\{{11111111-2222-4333-8444-555566667777}}"
    rule = f"{SET}\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\FirewallRules"
    registry = _registry(
        ("SYSTEM", number(card, "EnableDHCP", 0)),
        ("SYSTEM", (card, "IPAddress", value_types.MULTI_SZ,
                    value_types.pack(value_types.MULTI_SZ, ["192.0.2.8", "0.0.0.0"]))),
        ("SYSTEM", text(rule, "SSH", "v2.3|Action=Allow|Active=TRUE|Dir=In|LPort=22|Name=SSH|")),
        ("SYSTEM", text(rule, "off", "v2.3|Action=Allow|Active=FALSE|Dir=In|LPort=22|")),
        ("SYSTEM", text(rule, "out", "v2.3|Action=Allow|Active=TRUE|Dir=Out|LPort=22|")),
    )  # fmt: skip
    cards = {item.key.rpartition("\\")[2]: item for item in iter_interfaces(registry)}
    assert cards["{11111111-2222-4333-8444-555566667777}"].addresses == ("192.0.2.8",)
    assert cards["{7A6B5C4D-3E2F-4A1B-9C8D-7E6F5A4B3C2D}"].leased == "192.0.2.57"
    entrances = {item.name: item for item in read_entrances(registry)}
    assert set(entrances) == {"SSH", "Remote Desktop"}
    assert (entrances["SSH"].profiles, entrances["Remote Desktop"].profiles) == ((), ("Private",))
    services = WindowsServices(registry)
    assert services.is_enabled("SSHD")
    assert (services.is_there("netkvm"), services.is_enabled("netkvm")) == (True, False)
    assert services.start_of("no such service") is None


# -- files


def test_names_have_no_case_and_no_link_is_followed(guest: Guest) -> None:
    assert guest.is_file("/windows/SYSTEM32/Config/sam")
    assert guest.glob("/WINDOWS/system32/*/S?M") == [f"{CONFIG}/SAM"]
    assert guest.glob("/users/*/.SSH/id_*") == [
        "/Users/ada.brine/.ssh/id_ed25519",
        "/Users/tom.kelp/.ssh/id_ed25519",
    ]
    guest.create_link("/Users/way", "C:\\Windows")
    found = guest.find("/Users/way")
    assert found is not None
    assert found.kind is Kind.LINK
    assert guest.find("/Users/way/System32") is None
    assert guest.glob("/Users/way/*") == []
    assert "/Users/way" in guest.glob("/Users/*")


def test_volumes_stand_beside_the_tree(tmp_path: Path, guest: Guest) -> None:
    store = FileStore(make_ntfs(tmp_path / "data"))
    editor = NtfsEditor(store, NOW)
    folder = editor.create_folder(editor.root, b"$RECYCLE.BIN", 0o755)
    editor.create_file(folder, b"desktop.ini", b"x", 0o644)
    volume = Volume("partition 3", 3, store, 0, Content("ntfs"))
    beside = [Mount("/partition 3:", volume, editor)]
    both = Guest([guest.mounts[0]], beside, folds_case=True)
    assert both.glob("/*:/$Recycle.Bin/*") == ["/partition 3:/$RECYCLE.BIN/desktop.ini"]
    assert both.is_folder("/partition 3:")
    assert "partition 3:" not in both.list_names("/")
    assert not any(path.startswith("/partition") for path, _facts in both.walk("/"))
    both.remove("/partition 3:/$RECYCLE.BIN")
    assert both.list_names("/partition 3:") == []
    store.close()


def test_folders_of_the_environment_are_spelled_out() -> None:
    known = {"ProgramData": "D:\\Shared", "SystemRoot": "C:\\Windows"}
    assert list(guest_patterns("%SystemRoot%/Temp/*", known)) == ["/Windows/Temp/*"]
    assert list(guest_patterns("%PROGRAMDATA%/ssh", known)) == ["/D:/Shared/ssh"]
    assert list(guest_patterns("%AnyVolume%/x", known)) == ["/x", "/*:/x"]
    assert list(guest_patterns("/x", known)) == ["/x"]


def test_hives_are_found_with_their_titles(guest: Guest) -> None:
    found = find_hives(guest)
    assert f"{CONFIG}/SAM" in found
    assert "/Users/Default/NTUSER.DAT" in found
    assert not any(path.endswith((".LOG1", ".LOG2")) for path in found)
    assert hive_title(f"{CONFIG}/software") == "SOFTWARE"
    assert hive_title("/Users/ada/NTUSER.DAT") == "/Users/ada/NTUSER.DAT"


def test_hives_that_nobody_touched_stay_as_they_are(guest: Guest) -> None:
    before = {path: guest.read_file(path) for path in find_hives(guest)}
    changes = _hives(guest)
    changes.editor(f"{CONFIG}/SAM").set_value(
        changes.editor(f"{CONFIG}/sam").root, "", value_types.SZ, b""
    )
    changes.finish()
    after = {path: guest.read_file(path) for path in before}
    assert [path for path in before if before[path] != after[path]] == [f"{CONFIG}/SAM"]
    with pytest.raises(DamagedError, match="was not found in the guest"):
        _hives(guest).editor(f"{CONFIG}/NONE")


def test_the_mark_of_a_template_comes_and_goes(guest: Guest) -> None:
    assert not is_marked(open_registry(guest), SID)
    for identifier in (SID, "A GUID"):
        changes = _hives(guest)
        mark(changes.editor(SOFTWARE_FILE), identifier)
        changes.finish()
    registry = open_registry(guest)
    assert is_marked(registry, SID)
    assert is_marked(registry, "a guid")
    assert not is_marked(registry, SID + "1")
    assert SID.encode("utf-16-le") not in guest.read_file(SOFTWARE_FILE)[-2000:]
    changes = _hives(guest)
    unmark(changes.editor(SOFTWARE_FILE))
    changes.finish()
    assert not is_marked(open_registry(guest), SID)


def test_tasks_are_read_with_what_the_scheduler_keeps(guest: Guest) -> None:
    (task,) = iter_tasks(guest, open_registry(guest))
    assert task.owners == (f"{COMPUTER}\\ada.brine", f"{SID}-{ADA}")
    assert task.belongs_to([f"{SID}-{ADA}"], [])
    assert task.belongs_to([], ["ada.brine"])
    assert not task.belongs_to([f"{SID}-{TOM}"], ["tom.kelp", "ada"])
    assert [key.path.rpartition("\\")[2] for key in task.keys] == [
        "Count the float",
        TASK_ID,
        TASK_ID,
    ]
    assert decode_xml(user_task()).startswith("<?xml")
    assert decode_xml(b"<a/>") == "<a/>"


@pytest.mark.parametrize(
    ("content", "count"),
    [
        (answer_file().decode(), 2),
        ("<Password>*SENSITIVE*DATA*DELETED*</Password>", 0),
        ("<AdministratorPassword>\n  <Value>x</Value></AdministratorPassword>", 1),
        ("<ns:Password><ns:Value>x</ns:Value></ns:Password>", 1),
        ("<Password></Password><Value>x</Value>", 0),
        ("<PasswordHint>not one</PasswordHint>", 0),
    ],
)
def test_passwords_in_answer_files_are_counted(content: str, count: int) -> None:
    assert count_passwords(content) == count


def test_answer_files_are_found_where_set_up_looks(guest: Guest) -> None:
    guest.put_file("/Windows/System32/reseal/unattend.xml", answer_file(), 0o644)
    guest.put_file("/Windows/Panther/Unattend/Unattend.xml", answer_file(), 0o644)
    found = {file.path: file for file in iter_answer_files(guest)}
    assert set(found) == {
        "/unattend.xml",
        "/Windows/Panther/unattend.xml",
        "/Windows/Panther/Unattend/Unattend.xml",
        "/Windows/System32/reseal/unattend.xml",
    }
    assert sorted(path for path, file in found.items() if file.is_cached) == [
        "/Windows/Panther/Unattend/Unattend.xml",
        "/Windows/Panther/unattend.xml",
    ]


# -- what makes the tests' machine credible


def test_the_made_up_machine_is_one_that_others_read() -> None:
    made = files()
    tree = ours(made["Windows/System32/config/SAM"])
    assert isinstance(tree, Node)
    assert len(made) > 50
    own = descriptor(MACHINE.raw_account(ADA))
    assert list(iter_machine_sids(own)) == [(MACHINE.numbers, ADA)] * 3
    editor = HiveEditor(build_hive(text(VERSION, "x", "y")), NOW)
    key = editor.find_key(VERSION)
    assert key is not None
    assert editor.get_value(key, "X") == (value_types.SZ, value_types.pack(value_types.SZ, "y"))
    assert editor.get_value(key, "none") is None
    big = dice("big", 50_000)
    editor.set_value(key, "big", value_types.BINARY, big)
    assert editor.get_value(key, "big") == (value_types.BINARY, big)
    assert editor.subkey_names(editor.root) == ["Microsoft"]
