"""The lab machine, around what Windows wrote: surveyed, sealed plainly and as a resealed one."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest
from Registry import Registry
from scripts.desk_machine import GUID, LEASE, PASSWORD, SQM, UPDATE, dice

from tests.conftest import Command
from tests.hives import by_hivex, known_only, ours
from tests.long import IS_LONG
from tests.oracles import run
from tests.windows_judges import Judged, forms_of_guid, forms_of_sid, forms_of_text
from tests.windows_lab import (
    COMPUTER,
    FEW,
    MANY,
    NUMBERS,
    SECRET_WORDS,
    Lab,
    as_machine,
    make_lab,
)
from tests.xfs import FileStore
from zeroseal.filesystems.ntfs.layout import ROOT
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.guests.registry.check import check_hive
from zeroseal.guests.windows.sids import MachineSid

SID = MachineSid(NUMBERS)
SECRETS = ("host key", "hash ada.brine", "hash tom.kelp", "secret 1", "secret 2", "secret 3",
           "secret 4", "nlkm", "ras", "cached logon", "machine key", "master key", "admin key",
           "service key", "credential", "system credential", "thumbnail", "rdp certificate",
           "certificate", "dump", "wmi")  # fmt: skip
# each remark on the lab machine, and why it is true of it
REMARKS = {
    "A Windows guest is proven offline only": "no Windows was started here",
    "Fast start is on": "the real hive says HiberbootEnabled = 1",
    "GUIDs of 7 network cards stay": "seven interfaces in the real hive",
    "The hosts file has an entry": "hosts names ledger.saltmarsh.example",
    "The profile of Administrator is removed": "Users/Administrator with its hive",
    "The stored passwords of service accounts are removed": "_SC_GateSync among the secrets",
    "Drivers for these types of disk were found": "storahci, stornvme, storvsc in the real hive",
    "Drivers for these types of network card": "netvsc in the real hive",
    "No SSH server is enabled": "the real hive has no sshd",
    "Clones keep Remote Desktop switched off": "fDenyTSConnections = 1",
    "Clones keep the time zone W. Europe": "TimeZoneKeyName",
    "Activation is not changed": "its store is encrypted",
    "1 application is installed for one user only": "Tideline.Chart in ada.brine's list only",
    "Permissions on partition 3 refer to 1 security": "who used the volume that Windows formatted",
    "Profiles of services stay": "GateSQL has a virtual account",
    "Event subscriptions stay (Tide gauges)": "a subscription in the registry",
    "The product ID and the product key stay": "ProductId, DigitalProductId",
    "No guest agent is enabled": "the real hive has no agent of a virtual host that starts",
    "A clone's larger disk is not used": "nothing in Windows grows its volume",
    "A clone's network is new": "rules of the firewall for remote access on private networks",
}
PLAIN = {
    "own generalize pass would stop": "Tideline.Chart is one user's only",
    "Not resealed: no setup pass": "ImageState is complete",
    "A new security identifier breaks": "--reissue-sid",
    "Clones share the template's new": "--reissue-sid",
}


@pytest.fixture(scope="module")
def plain(tmp_path_factory: pytest.TempPathFactory, windows_data: Path) -> Lab:
    """The machine as it would start plainly."""
    components = MANY if IS_LONG else FEW
    return make_lab(tmp_path_factory.mktemp("lab"), windows_data, components=components)


def _forms() -> dict[str, bytes]:
    """What must be nowhere after a seal, in every spelling."""
    found: dict[str, bytes] = {}
    for word in (COMPUTER, "ada.brine", "tom.kelp", UPDATE, SQM.strip("{}"), LEASE, PASSWORD,
                 *SECRET_WORDS, "Saltmarsh Ferries"):  # fmt: skip
        found |= forms_of_text(word)
    found |= forms_of_guid(GUID)
    found |= {label: dice(label, 400)[:16] for label in SECRETS}
    return found


def node_at(tree: NtfsTree, path: str) -> int:
    """The node of a file by its path."""
    node = ROOT
    for part in path.strip("/").split("/"):
        entry = tree.find_child(node, part.encode())
        assert entry is not None
        node = entry.node
    return node


def _values(hive: Path) -> Iterator[tuple[str, str, int, bytes]]:
    """(key, value, type, data) of a whole hive, as python-registry reads it."""
    waiting = [Registry.Registry(str(hive)).root()]
    while waiting:
        key = waiting.pop()
        for value in key.values():
            yield key.path(), value.name(), value.value_type(), value.raw_data()
        waiting += key.subkeys()


def test_the_lab_machine_is_surveyed_without_a_false_remark(plain: Lab, zeroseal: Command) -> None:
    words = ("survey", plain.disk, "--json", "--as-if", "--reissue-sid")
    ready = json.loads(zeroseal(*words).out)["readiness"]
    assert ready["blockers"] == []
    sentences = [item for name in ("advice", "consequences", "hints") for item in ready[name]]
    known = [*REMARKS, *PLAIN]
    assert [text for text in sentences if not any(part in text for part in known)] == []
    assert any("removed like any other" in text for text in sentences)


def test_nothing_is_left_on_the_lab_machine_and_the_rest_is_as_it_was(
    plain: Lab, tmp_path: Path, zeroseal: Command
) -> None:
    before = Judged(plain.disk, tmp_path / "before", plain.system_partition)
    with as_machine(NUMBERS, COMPUTER):
        forms = _forms() | forms_of_sid(SID.raw)
    present = {name.rpartition(" at ")[0] for name in before.find(forms)}
    assert len(present) > 40
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", plain.disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    after = Judged(sealed, tmp_path / "after", plain.system_partition)
    assert after.find(forms) == set()
    assert b"installation before" not in sealed.read_bytes()[: 64 << 20]
    for path in plain.kept:
        assert after.files[path] == before.files[path], path
    trees = [NtfsTree(FileStore(judged.volume)) for judged in (before, after)]
    for path in plain.compact:  # dissect.ntfs does not unpack them
        old, new = (tree.read_file(node_at(tree, path)) for tree in trees)
        assert old == new
        assert len(old) > 30_000
    store = [path for path in before.files if path.startswith("/Windows/WinSxS/")]
    assert len(store) > 1000
    assert {path: after.files.get(path) for path in store} == {
        path: before.files[path] for path in store
    }
    assert after.streams["/ProgramData/Saltmarsh/soundings.dat", "Zone.Identifier"]
    short = run("ntfsinfo", "-F", "/Windows/WinSxS/AMD64_~0", after.volume)
    assert "AMD64_~0" in short
    _judge_system_hive(before, after)
    after.judge_hives("/config/SYSTEM")  # with value types that not all of them know
    again = tmp_path / "again.raw"
    assert zeroseal("seal", sealed, "-o", again, "--reissue-sid").status == 0
    assert again.read_bytes() == sealed.read_bytes()


def _judge_system_hive(before: Judged, after: Judged) -> None:
    """Of the real hive only what names the machine was changed; other parsers read the rest."""
    hive = after.hive("SYSTEM")
    content = hive.read_bytes()
    assert check_hive(content) == []
    assert by_hivex(hive) == known_only(ours(content)) or by_hivex(hive) == ours(content)
    old, new = ({(key.partition("\\")[2], name, kind): data for key, name, kind, data in
                 _values(judged.hive("SYSTEM"))} for judged in (before, after))  # fmt: skip
    changed = {place for place, data in old.items() if place in new and new[place] != data}
    assert len(old) > 70_000
    assert len(new) > len(old) - 400
    texts = (SID.text, COMPUTER)
    for place in changed:
        text = old[place].decode("utf-16-le", "replace") + old[place].decode("latin-1")
        assert any(word in text for word in texts) or SID.triplet in old[place], place


def test_a_resealed_lab_machine_keeps_its_identifier(
    tmp_path: Path, windows_data: Path, zeroseal: Command
) -> None:
    lab = make_lab(tmp_path / "lab", windows_data, components=200, resealed=True)
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", lab.disk, "-o", sealed)
    assert done.status == 0, done.err
    after = Judged(sealed, tmp_path / "after", lab.system_partition)
    with as_machine(NUMBERS, COMPUTER):
        forms = _forms()
    assert after.find({name: form for name, form in forms.items() if PASSWORD not in name}) == set()
    assert after.machine_sid() == SID.raw
