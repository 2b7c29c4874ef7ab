"""A made-up Windows, sealed whole: nothing of it is left, what stays means the same."""

from __future__ import annotations

import base64
import hashlib
import json
import shutil
import uuid
from pathlib import Path

import pytest
from scripts.desk_machine import (
    ADA,
    ADA_SID,
    COMPUTER,
    CURRENT,
    DUID,
    GUID,
    LEASE,
    MACHINE,
    NOW,
    PASSWORD,
    RAW_SID,
    SET,
    SID,
    SQM,
    TASK_ID,
    TCPIP,
    TOM_SID,
    UPDATE,
    VERSION,
    Row,
    answer_file,
    descriptor,
    dice,
    files,
    number,
    raw,
    text,
    user_task,
)

from tests.conftest import Command
from tests.disks import make_disk
from tests.hives import dirty, new_log
from tests.ntfs import add_change_journal, judge_ntfs, judge_security, make_ntfs, streams_by_dissect
from tests.oracles import cut_partition, partition_range, run
from tests.windows import make_windows_disk, make_windows_volume
from tests.windows_judges import Judged, forms_of_guid, forms_of_sid, forms_of_text
from tests.xfs import FileStore
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.edit import NtfsEditor

STATE = f"{CURRENT}\\Setup\\State"
RESEALED = "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"
CARD = f"{TCPIP}\\Interfaces\\{{7A6B5C4D-3E2F-4A1B-9C8D-7E6F5A4B3C2D}}"
CACHE = f"{VERSION}\\Schedule\\TaskCache"


@pytest.fixture(scope="module")
def disk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The machine, ready but for its plain start."""
    path = make_windows_disk(tmp_path_factory.mktemp("desk") / "purser.raw")
    path.chmod(0o444)
    return path


def _forms() -> dict[str, bytes]:
    """What must be nowhere: identifiers, names, secrets."""
    found: dict[str, bytes] = {}
    for word in (COMPUTER, "ada.brine", "tom.kelp", UPDATE, SQM.strip("{}"), LEASE, PASSWORD,
                 "0200000077AA", "Second-mate-9-lamps"):  # fmt: skip
        found |= forms_of_text(word)
    found |= forms_of_sid(RAW_SID) | forms_of_guid(GUID)
    for label in ("host key", "hash ada.brine", "secret 1", "secret 2", "secret 3", "secret 4",
                  "cached logon", "seed", "server guid", "machine key", "master key",
                  "rdp certificate", "certificate", "tracking", "dump"):  # fmt: skip
        content = dice(label, 400)[:16]
        found[label] = content
        found[f"{label} (base64)"] = base64.b64encode(content)[:20]
    found["DUID"] = DUID
    found["gateway"] = bytes.fromhex("02005e10000a")
    return found


def test_nothing_of_a_windows_is_left_and_the_rest_is_as_it_was(
    tmp_path: Path, zeroseal: Command, disk: Path
) -> None:
    before = Judged(disk, tmp_path / "before")
    assert {name.split(" (")[0] for name in before.find(_forms())} >= {COMPUTER, "SID", GUID}
    digest, sealed = hashlib.sha256(disk.read_bytes()).digest(), tmp_path / "sealed.raw"
    planned = zeroseal("seal", disk, "--dry-run", "--reissue-sid")
    assert "A new security identifier breaks" in " ".join(planned.out.split())
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    assert hashlib.sha256(disk.read_bytes()).digest() == digest
    after = Judged(sealed, tmp_path / "after")
    after.judge_hives()
    assert after.find(_forms()) == set()
    assert after.accounts() == {500: "Administrator", 501: "Guest", 503: "DefaultAccount"}
    disabled = "dis/lock"
    built_in = {"Administrator": "ADMIN", "Guest": disabled, "DefaultAccount": disabled}
    assert after.accounts_by_chntpw() == built_in
    people = {"ada.brine": "ADMIN", "tom.kelp": ""}
    assert before.accounts_by_chntpw() == built_in | people
    new = after.machine_sid()
    assert (new[:12], len(new)) == (RAW_SID[:12], 24)
    assert after.groups() == {
        "Administrators": [b"\1\5" + new[2:] + (500).to_bytes(4, "little")],
        "Users": [bytes.fromhex("010100000000000504000000")],
        "Pursers": [],
    }
    kept = [path for path in before.files if path.startswith(("/Program Files/", "/Users/Public"))]
    kept += ["/Windows/System32/ntoskrnl.exe", "/Windows/System32/drivers/etc/hosts",
             "/ProgramData/ssh/sshd_config"]  # fmt: skip
    for path in kept:
        assert after.files[path] == before.files[path]
    logs = (".LOG", ".LOG1", ".LOG2")
    others = [
        path
        for path, content in after.files.items()
        if content[:4] != b"regf" and not path.upper().endswith(logs)
    ]
    assert {path: after.files[path] for path in others} == {
        path: before.files[path] for path in others
    }
    gone = [
        path for path in after.files if "ada" in path or "tom" in path or path.endswith(".evtx")
    ]
    assert gone == []
    assert {"/Windows/Temp/", "/Windows/Panther/", "/Windows/System32/winevt/Logs/"} <= set(
        after.files
    )
    software = "SOFTWARE"
    assert after.value(software, f"{VERSION}\\Winlogon", "Shell") == "explorer.exe"
    assert after.value(software, f"{VERSION}\\Winlogon", "DefaultPassword") is None
    assert len(after.keys(software, "Microsoft\\SystemCertificates\\ROOT\\Certificates")) == 1
    assert after.keys(software, "Microsoft\\SystemCertificates\\MY\\Certificates") == []
    assert after.keys("SECURITY", "Policy\\Secrets") == []
    assert after.value("SECURITY", "Cache", "NL$1") == bytes(200)
    assert after.value("SYSTEM", "MountedDevices", "\\DosDevices\\C:") is not None
    assert after.value("SYSTEM", TCPIP, "NV Hostname") == "UNNAMED"
    assert after.keys("SYSTEM", f"{SET}\\Services\\OneSyncSvc_4f3a1") == []
    checked = zeroseal("check", sealed)
    assert checked.out.startswith("SEALED")
    for told in (done.out, checked.out):
        assert "is not proven here" in " ".join(told.split())
    deep = zeroseal("check", sealed, "--level", "deep", "--against", disk)
    assert deep.out.startswith("SEALED"), deep.out
    again = zeroseal("seal", sealed, "-o", tmp_path / "again.raw")
    assert again.status == 0, again.err
    assert (tmp_path / "again.raw").read_bytes() == sealed.read_bytes()
    compared = zeroseal("compare", disk, sealed)
    assert compared.status == 0, compared.out


def test_accounts_that_stay_mean_the_same_under_another_identifier(
    tmp_path: Path, zeroseal: Command, disk: Path
) -> None:
    sealed = tmp_path / "sealed.qcow2"
    options = ("--reissue-sid", "--retain-account", "ADA.brine")
    told = " ".join(zeroseal("seal", disk, "--dry-run", *options).out.split())
    assert "secrets that Windows protects for ada.brine can no longer be read" in told
    assert "store applications of ada.brine must be registered again" in told
    assert (
        "scheduled tasks with a stored password need it to be entered again (Count the float)"
        in told
    )
    done = zeroseal("seal", disk, "-o", sealed, "--format", "raw", *options)
    assert done.status == 0, done.err
    record = json.loads((tmp_path / "sealed.qcow2.seal.json").read_text())
    assert "can no longer be read" in json.dumps(record)
    before, after = Judged(disk, tmp_path / "before"), Judged(sealed, tmp_path / "after")
    after.judge_hives()
    assert after.find(forms_of_sid(RAW_SID)) == set()
    new = after.machine_sid()
    own = "S-1-5-21-" + "-".join(
        str(int.from_bytes(new[at : at + 4], "little")) for at in (12, 16, 20)
    )
    assert len(own) == len(SID)
    assert after.accounts()[ADA] == "ada.brine"
    assert after.accounts_by_chntpw()["ada.brine"] == "ADMIN"
    admin = [b"\1\5" + new[2:] + rid.to_bytes(4, "little") for rid in (500, ADA)]
    assert after.groups()["Administrators"] == admin
    assert f"{own}-{ADA}" in after.keys("SOFTWARE", f"{VERSION}\\ProfileList")
    assert f"{TOM_SID}" not in after.keys("SOFTWARE", f"{VERSION}\\ProfileList")
    members = "SAM\\Domains\\Builtin\\Aliases\\Members"
    assert after.keys("SAM", f"{members}\\{own}") == ["000001F4", "000003E9"]
    assert after.keys("SECURITY", "Policy\\Accounts") == sorted([f"{own}-{ADA}", "S-1-5-32-544"])
    owners = {path.replace(own, SID): rights for path, rights in after.owners().items()}
    told_before = before.owners()
    profile = [path for path in owners if path.startswith("/Users/ada.brine")]
    assert len(profile) > 10
    for path in owners:
        owner, allowed = owners[path]
        meant = (owner.replace(own, SID), [sid.replace(own, SID) for sid in allowed])
        assert meant == told_before[path]
    assert (
        f"/Users/ada.brine/AppData/Roaming/Microsoft/Protect/{own}-{ADA}/Preferred" in after.files
    )
    task = after.files["/Windows/System32/Tasks/Count the float"]
    assert task == user_task().replace(
        SID.encode("utf-16-le"), own.encode("utf-16-le")
    )  # the same but for the identifier
    digest = hashlib.sha256(task).digest()
    assert after.value("SOFTWARE", f"{CACHE}\\Tasks\\{TASK_ID}", "Hash") == digest
    document = "/Users/ada.brine/Documents/float.txt"
    assert after.files[document] == before.files[document]
    history = "AppData/Roaming/Microsoft/Windows/PowerShell/PSReadLine/ConsoleHost_history.txt"
    assert f"/Users/ada.brine/{history}" not in after.files
    assert zeroseal("check", sealed).out.startswith("SEALED")


def test_what_its_own_pass_resealed_keeps_its_identifier_and_its_answer_file(
    tmp_path: Path, zeroseal: Command
) -> None:
    disk = make_windows_disk(
        tmp_path / "purser.raw", ("SOFTWARE", text(STATE, "ImageState", RESEALED))
    )
    sealed = tmp_path / "sealed.raw"
    told = " ".join(zeroseal("survey", disk).out.split())
    assert "Resealed by Windows' own generalize pass" in told
    assert "/Windows/Panther/unattend.xml stays, because the next start reads it" in told
    assert PASSWORD not in told
    done = zeroseal("seal", disk, "-o", sealed)
    assert done.status == 0, done.err
    after = Judged(sealed, tmp_path / "after")
    assert after.machine_sid() == RAW_SID
    assert after.files["/Windows/Panther/unattend.xml"] == answer_file()
    assert "/unattend.xml" not in after.files
    rest = {name: form for name, form in _forms().items() if "SID" not in name}
    for word in (SID, SID.removeprefix("S-1-5-21-"), PASSWORD):
        rest = {name: form for name, form in rest.items() if not name.startswith(word)}
    assert after.find(rest) == set()
    assert zeroseal("check", sealed).out.startswith("SEALED")


SERVICES = f"{SET}\\Services"
DOMAIN_SID = RAW_SID[:12] + (7).to_bytes(4, "little") + RAW_SID[16:]
SERVICING = f"{CURRENT}\\Component Based Servicing\\RebootPending"


@pytest.mark.parametrize(
    ("hive", "row", "told"),
    [
        ("SYSTEM", text(TCPIP, "Domain", "saltmarsh.example"), "joined the domain saltmarsh."),
        ("SYSTEM", text(TCPIP, "NV Hostname", "purser-two"), "a new computer name, purser-two"),
        ("SYSTEM", number("Setup", "SystemSetupInProgress", 1), "between two passes: finish it"),
        ("SOFTWARE", text(SERVICING, "x", ""), "a restart after servicing"),
        ("SOFTWARE", text(STATE, "ImageState", "IMAGE_STATE_UNDEPLOYABLE"), "between two passes"),
        ("SOFTWARE", number("Microsoft\\Updates", "UpdateExeVolatile", 2), "partly installed"),
        ("SECURITY", raw("Policy\\PolPrDmS", "", DOMAIN_SID), "joined the domain S-1-5-21-7"),
        ("SYSTEM", text(f"{SET}\\Control\\ProductOptions", "ProductType", "LanmanNT"),
         "is a domain controller"),
        ("SYSTEM", text(f"{SET}\\Control\\CloudDomainJoin\\JoinInfo\\A1", "UserEmail", "x"),
         "joined a cloud directory"),
        ("SYSTEM", number(f"{SERVICES}\\Dhcp", "Start", 4), "clones would have no network"),
    ],
)  # fmt: skip
def test_what_stands_against_a_seal_stops_it(
    tmp_path: Path, zeroseal: Command, hive: str, row: Row, told: str
) -> None:
    disk = make_windows_disk(tmp_path / "d.raw", (hive, row))
    refused = zeroseal("seal", disk, "-o", tmp_path / "x", "--reissue-sid")
    assert refused.status == 4
    assert told in refused.err
    assert not (tmp_path / "x").exists()


def test_a_plain_start_is_unsealed_and_refused_with_two_ways_out(
    tmp_path: Path, zeroseal: Command, disk: Path
) -> None:
    refused = zeroseal("seal", disk, "-o", tmp_path / "x")
    assert refused.status == 4
    assert "run Windows' own generalize pass on a throwaway copy" in refused.err
    assert "--reissue-sid" in refused.err
    checked = zeroseal("check", disk)
    assert checked.out.startswith("UNSEALED")
    assert "identity.machine-sid" in checked.out
    rules = tmp_path / "rules.toml"
    rules.write_text('version = 1\n[windows]\nfirst-start = ["resealed"]\n')
    told = zeroseal("seal", disk, "-o", tmp_path / "x", "--reissue-sid", "--rules", rules)
    assert (told.status, "the house rules allow resealed" in told.err) == (4, True)


def test_house_rules_disable_the_administrator_and_nobody_is_locked_out(
    tmp_path: Path, zeroseal: Command, disk: Path
) -> None:
    rules = tmp_path / "rules.toml"
    rules.write_text("version = 1\n[windows]\ndisable-administrator = true\nreissue-sid = true\n")
    refused = zeroseal("seal", disk, "-o", tmp_path / "x", "--rules", rules)
    assert (refused.status, "nobody could log in" in refused.err) == (4, True)
    rules.write_text(rules.read_text() + '[keep]\naccounts = ["tom.kelp"]\n')
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--rules", rules)
    assert done.status == 0, done.err
    assert "Login: tom.kelp stays" in done.out
    after = Judged(sealed, tmp_path / "after")
    assert sorted(after.accounts()) == [500, 501, 503, 1002]
    flags = after.value("SAM", "SAM\\Domains\\Account\\Users\\000001F4", "F")
    assert flags[0x38] & 1
    unknown = zeroseal("seal", disk, "-o", tmp_path / "x", "--retain-account", "nobody")
    assert (unknown.status, "ada.brine, tom.kelp" in unknown.err) == (2, True)


def test_a_static_address_stops_the_seal_or_becomes_dhcp(tmp_path: Path, zeroseal: Command) -> None:
    disk = make_windows_disk(
        tmp_path / "d.raw",
        ("SYSTEM", number(CARD, "EnableDHCP", 0)),
        ("SYSTEM", (CARD, "IPAddress", 7, "192.0.2.44\0\0".encode("utf-16-le"))),
        ("SYSTEM", (CARD, "SubnetMask", 7, "255.255.255.0\0\0".encode("utf-16-le"))),
    )
    refused = zeroseal("seal", disk, "-o", tmp_path / "x", "--reissue-sid")
    assert (refused.status, "static address 192.0.2.44" in refused.err) == (4, True)
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid", "--to-dhcp")
    assert done.status == 0, done.err
    after = Judged(sealed, tmp_path / "after")
    assert after.value("SYSTEM", CARD, "EnableDHCP") == 1
    assert after.value("SYSTEM", CARD, "IPAddress") is None
    assert after.find(forms_of_text("192.0.2.44")) == set()


def test_a_windows_is_sealed_in_place_only_when_asked_twice(
    tmp_path: Path, zeroseal: Command, disk: Path
) -> None:
    copy = tmp_path / "copy.raw"
    shutil.copy(disk, copy)
    copy.chmod(0o644)
    refused = zeroseal("seal", copy, "--in-place", "--reissue-sid")
    assert (refused.status, "--ntfs-in-place" in refused.err) == (4, True)
    done = zeroseal("seal", copy, "--in-place", "--ntfs-in-place", "--reissue-sid")
    assert done.status == 0, done.err
    assert Judged(copy, tmp_path / "after").find(_forms()) == set()


def test_a_hive_that_was_not_closed_is_recovered_first(tmp_path: Path, zeroseal: Command) -> None:
    made = files()
    path = "Windows/System32/config/SYSTEM"
    older = made[path]
    newer = files(("SYSTEM", text(f"{SET}\\Services\\Late", "Comment", "written late")))[path]
    extra = {path: dirty(older), f"{path}.LOG1": new_log(older, newer)}
    disk = make_windows_disk(tmp_path / "d.raw", extra=extra)
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    after = Judged(sealed, tmp_path / "after")
    after.judge_hives()
    assert after.value("SYSTEM", f"{SET}\\Services\\Late", "Comment") == "written late"
    assert after.find(_forms()) == set()
    assert not any(after.files[f"/{path}.LOG1"])


def test_more_of_a_survey_is_told_as_json(zeroseal: Command, disk: Path) -> None:
    answer = json.loads(zeroseal("survey", disk, "--json").out)
    assert answer["system"]["family"] == "windows"
    windows = answer["windows"]
    assert (windows["sid"], windows["machineGuid"], windows["updateId"]) == (SID, GUID, UPDATE)
    assert windows["firstStart"] == "plain"
    assert [item["name"] for item in windows["accounts"] if item["administrator"]] == [
        "Administrator",
        "ada.brine",
    ]
    assert answer["ntfs"][0]["freeBytes"] > answer["ntfs"][0]["sizeBytes"] // 2


def test_strange_rights_are_told(tmp_path: Path, zeroseal: Command) -> None:
    disk = make_windows_disk(
        tmp_path / "d.raw",
        without=[("SAM", "SAM\\Domains\\Account\\Users\\Names\\tom.kelp", "")],
    )
    told = " ".join(zeroseal("survey", disk).out.split())
    assert f"refer to 1 security identifier that no account here has: {TOM_SID}" in told


def test_shadow_copies_go_with_the_header_that_leads_to_them(
    tmp_path: Path, zeroseal: Command
) -> None:
    shadows = "{3808876b-c176-4e48-b7ae-04046e6cc752}"
    guid = uuid.UUID(shadows.strip("{}"))
    copy = f"System Volume Information/{{7b1b3d0e-1111-4222-8333-444455556666}}{shadows}"
    kept = f"old version of everything, {COMPUTER}".encode() * 50
    disk = make_windows_disk(
        tmp_path / "d.raw", extra={copy: kept, f"System Volume Information/{shadows}": kept}
    )
    offset, _length = partition_range(disk, 2)
    with disk.open("r+b") as file:
        file.seek(offset + 0x1E00)
        file.write(guid.bytes_le + bytes(range(200)))
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    after = Judged(sealed, tmp_path / "after")
    header = after.volume.read_bytes()[0x1E00:0x2000]
    assert header == bytes(512)
    assert not any("3808876b" in path for path in after.files)
    assert after.find({"copy": b"old version of everything"}) == set()
    assert zeroseal("check", sealed).out.startswith("SEALED")


def test_what_windows_left_behind_values_in_hives_is_zeroed(
    tmp_path: Path, zeroseal: Command
) -> None:
    name = "Windows/System32/config/SYSTEM"
    hive = bytearray(files()[name])
    place = hive.find(b"sk", 4096) - 4
    length = -int.from_bytes(hive[place : place + 4], "little", signed=True)
    used = 24 + int.from_bytes(hive[place + 20 : place + 24], "little")
    old = COMPUTER.encode()[: length - used]
    hive[place + used : place + used + len(old)] = old
    disk = make_windows_disk(tmp_path / "d.raw", extra={name: bytes(hive)})
    places = zeroseal("survey", disk, "--places").out
    assert ("stale bytes" in places) == bool(old)
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    assert Judged(sealed, tmp_path / "after").find(_forms()) == set()


def test_other_volumes_of_the_disk_are_cleaned_too(tmp_path: Path, zeroseal: Command) -> None:
    reserved = tmp_path / "reserved"
    reserved.write_bytes(bytes(1 << 20))
    data = make_ntfs(tmp_path / "data", "-L", "Float")
    store = FileStore(data)
    editor = NtfsEditor(store, NOW)
    kept = editor.create_folder(editor.root, b"Float", 0o755)
    editor.set_security(kept, descriptor(MACHINE.raw_account(ADA)))
    editor.create_file(kept, b"float.csv", b"pier,float\r\n3,120.00\r\n", 0o644)
    named = editor.create_folder(editor.root, b"$RECYCLE.BIN", 0o755)
    bin_ = editor.create_folder(named, ADA_SID.encode(), 0o755)
    editor.create_file(bin_, b"$R9.txt", f"thrown away by {COMPUTER}".encode() * 60, 0o644)
    volume_files = editor.create_folder(editor.root, b"System Volume Information", 0o755)
    editor.create_file(volume_files, b"tracking.log", dice("tracking d", 3000), 0o644)
    editor.create_file(editor.root, b"pagefile.sys", COMPUTER.encode() * 900, 0o644)
    editor.create_file(kept, b"old", f"deleted on {COMPUTER}".encode() * 90, 0o644)
    editor.finish()
    editor = NtfsEditor(store, NOW, zero_removed=False)
    editor.remove(kept, b"old")
    editor.finish()
    store.close()
    behind = [("0c01", reserved), ("0700", data)]
    disk = make_windows_disk(tmp_path / "d.raw", behind=behind)
    told = zeroseal("survey", disk, "--places")
    assert "/partition 4:/$RECYCLE.BIN/" + ADA_SID in told.out
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    after = Judged(sealed, tmp_path / "after")
    assert after.find(_forms()) == set()
    other = cut_partition(sealed, 4, tmp_path / "after.data")
    judge_ntfs(other)
    judge_security(other)
    left = {path for path, _stream in streams_by_dissect(other)}
    assert left == {"/Float/", "/Float/float.csv", "/$RECYCLE.BIN/", "/System Volume Information/"}
    assert zeroseal("check", sealed).out.startswith("SEALED")


def test_two_systems_on_one_disk_are_refused(tmp_path: Path, zeroseal: Command) -> None:
    second = make_windows_volume(tmp_path / "second")
    disk = make_windows_disk(tmp_path / "d.raw", behind=[("0700", second)])
    refused = zeroseal("seal", disk, "-o", tmp_path / "x", "--reissue-sid")
    assert refused.status == 3
    assert "partition 2 and partition 3 each have a Windows system" in refused.err


def test_a_name_that_stays_in_the_registry_is_told_with_its_key(
    tmp_path: Path, zeroseal: Command
) -> None:
    key = "Saltmarsh\\Till"
    disk = make_windows_disk(
        tmp_path / "d.raw",
        ("SOFTWARE", text(key, "Desk", f"the desk {COMPUTER} on the quay")),
        ("SOFTWARE", text(f"{key}\\of {COMPUTER.lower()}", "Pier", "3")),
    )
    refused = zeroseal("seal", disk, "-o", tmp_path / "x", "--reissue-sid")
    assert refused.status == 5
    for told in (f"SOFTWARE\\{key} : Desk", f"SOFTWARE\\{key}\\of {COMPUTER.lower()}"):
        assert told in refused.err
    rules = tmp_path / "rules.toml"
    allowed = '["/Windows/System32/config/SOFTWARE"]'
    rules.write_text(f"version = 1\n[allow]\nresidue = {allowed}\n")
    done = zeroseal("seal", disk, "-o", tmp_path / "x", "--reissue-sid", "--rules", rules)
    assert done.status == 0, done.err


def test_files_that_somebody_encrypted_are_told_and_kept(tmp_path: Path, zeroseal: Command) -> None:
    path = "Users/ada.brine/Documents/float.zip"
    disk = make_windows_disk(tmp_path / "d.raw", extra={path: dice("ciphertext", 9000)})
    store = FileStore(tmp_path / "d.ntfs")
    editor = NtfsEditor(store, NOW)
    node = editor.root
    for part in path.split("/"):
        found = editor.find_child(node, part.encode())
        assert found is not None
        node = found.node
    data = editor.get_node(node).find(layout.DATA)
    assert data is not None
    data.flags |= layout.ENCRYPTED
    editor.set_flags(node, editor.get_node(node).flags | layout.FILE_ENCRYPTED)
    editor.finish()
    store.close()
    disk = make_disk(
        tmp_path / "e.raw", ("ef00", tmp_path / "d.efi"), ("0700", tmp_path / "d.ntfs")
    )
    options = ("--reissue-sid", "--retain-account", "ada.brine")
    told = " ".join(zeroseal("seal", disk, "--dry-run", *options).out.split())
    assert "can no longer be read" in told
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, *options)
    assert done.status == 0, done.err
    assert f"/{path} could not be read" in " ".join(done.out.split())
    assert dice("ciphertext", 9000) in sealed.read_bytes()


def test_a_change_journal_larger_than_the_disk_is_emptied(
    tmp_path: Path, zeroseal: Command
) -> None:
    volume = make_windows_volume(tmp_path / "v")
    store = FileStore(volume)
    editor = NtfsEditor(store, NOW)
    noted = f"{COMPUTER} {ADA_SID} ada.brine".encode("utf-16-le")
    add_change_journal(editor, noted, hole_clusters=1 << 21)  # 8 GiB
    editor.finish()
    store.close()
    firmware = tmp_path / "esp"
    firmware.write_bytes(bytes(4 << 20))
    run("mkfs.vfat", "-n", "ESP", firmware)
    disk = make_disk(tmp_path / "d.raw", ("ef00", firmware), ("0700", volume))
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    cut = cut_partition(sealed, 2, tmp_path / "after")
    judge_ntfs(cut)
    whole = sealed.read_bytes().lower()
    left = [name for name, form in _forms().items() if form.lower() in whole]
    assert left == []
