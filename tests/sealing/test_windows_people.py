"""What a person leaves on a Windows guest besides the profile, and the built-in administrator."""

from __future__ import annotations

import datetime
import json
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import NameOID
from scripts.desk_machine import (
    ADA_SID,
    COMPUTER,
    CURRENT,
    GUID,
    MACHINE,
    SET,
    TOM,
    TOM_SID,
    VERSION,
    account,
    build_hive,
    dice,
    number,
    raw,
    text,
    user_hives,
)

from tests.conftest import Command
from tests.windows import make_windows_disk
from tests.windows_judges import Judged, forms_of_guid, forms_of_text
from zeroseal.guests.windows.certificates import encoded_certificate

ADMIN_SID = MACHINE.account(500)
ADMIN = "Users/Administrator"
RULES = f"{SET}\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\FirewallRules"
WOW = VERSION.replace("Microsoft\\", "WOW6432Node\\Microsoft\\", 1)
REPOSITORY = "ProgramData/Microsoft/Windows/AppRepository"
SECRETS = ("L$_RasDefaultCredentials#0", "RasDialParams!S-1-5-21#0", "L$_SQSA_S-1-5-21", "NL$KM",
           "SCM:{3D14228D}", "M$_MSV1_0", "aspnet_WP_PASSWORD")  # fmt: skip
ADMIN_ROWS = [
    ("SOFTWARE", text(f"{VERSION}\\ProfileList\\{ADMIN_SID}", "ProfileImagePath",
                      "C:\\Users\\Administrator")),
    ("SECURITY", raw(f"Policy\\Accounts\\{ADMIN_SID}", "", b"rights of it")),
]  # fmt: skip
ADMIN_FILES = {
    f"{ADMIN}/{name}": content for name, content in user_hives("Administrator", 500).items()
} | {
    f"{ADMIN}/Desktop/bunker prices.txt": b"not-a-real-price-list-88",
    f"{ADMIN}/AppData/Local/Browser/Login Data": b"not-a-real-login-12",
}


def repository(folder: Path) -> bytes:
    """A state repository with rows of two people, as packaged applications have one."""
    path = folder / "state.srd"
    with closing(sqlite3.connect(path)) as made, made:
        made.execute("CREATE TABLE User(Id INTEGER PRIMARY KEY, Sid TEXT)")
        made.execute("CREATE TABLE App(Id INTEGER PRIMARY KEY, User INTEGER REFERENCES User(Id),"
                     "Path TEXT)")  # fmt: skip
        made.executemany("INSERT INTO User VALUES (?, ?)", [(1, ADA_SID), (2, TOM_SID)])
        made.executemany("INSERT INTO App VALUES (?, ?, ?)",
                         [(1, 1, "C:\\Program Files\\Chart"), (2, 2, "C:\\Program Files\\Clock"),
                          (3, None, "C:\\Users\\ada.brine\\AppData\\Chart")])  # fmt: skip
    return path.read_bytes()


def certificate(name: str) -> bytes:
    """A self-signed certificate as a store of the registry has it, behind another property."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    day = datetime.datetime(2026, 1, 1, tzinfo=datetime.UTC)
    made = (
        x509.CertificateBuilder().subject_name(subject).issuer_name(subject)
        .public_key(key.public_key()).serial_number(7).not_valid_before(day)
        .not_valid_after(day.replace(year=2031)).sign(key, hashes.SHA256())
    )  # fmt: skip
    encoded = made.public_bytes(Encoding.DER)
    head = (3).to_bytes(4, "little") + (1).to_bytes(4, "little") + (20).to_bytes(4, "little")
    own = (32).to_bytes(4, "little") + (1).to_bytes(4, "little")
    return head + bytes(20) + own + len(encoded).to_bytes(4, "little") + encoded


def planned(zeroseal: Command, *words: object) -> str:
    """What a plan shows, on one line."""
    return " ".join(zeroseal(*map(str, words)).out.split())


def test_what_a_person_leaves_beside_the_profile_goes(tmp_path: Path, zeroseal: Command) -> None:
    """Values, rules, rows, caches and containers of somebody who goes; others keep theirs."""
    explorer = "Software\\Microsoft\\Windows\\CurrentVersion\\Explorer"
    default = build_hive(
        text("Control Panel\\International", "LocaleName", "en-IE"),
        text(f"{explorer}\\Shell Folders", "Personal", "C:\\Users\\ada.brine\\Documents"),
        text("Environment", "PIER", "set up by ada.brine in May"),
        text("Environment", "KEPT", "adam.briner is somebody else"),
        raw("Software\\OpenSSH\\Agent\\Keys\\aa11", "", dice("agent of the system", 300)),
        text("Volatile Environment", "LOGONSERVER", f"\\\\{COMPUTER}"),
    )
    toms = build_hive(
        raw("Software\\OpenSSH\\Agent\\Keys\\bb22", "", dice("agent of tom", 300)),
        text("Volatile Environment\\1", "CLIENTNAME", COMPUTER),
        text("Environment", "COLLEAGUE", "ada.brine"),
        owner=MACHINE.raw_account(TOM),
    )
    home, container = "Users/tom.kelp", f"{'5e' * 16}_{GUID}"
    disk = make_windows_disk(
        tmp_path / "d.raw",
        *[("SECURITY", raw(f"Policy\\Secrets\\{name}\\CurrVal", "", dice(name, 60)))
          for name in SECRETS],
        ("SOFTWARE", text(VERSION, "RegisteredOrganization", "Saltmarsh Ferries")),
        ("SOFTWARE", text(WOW, "RegisteredOwner", "Harbour office")),
        ("SOFTWARE", text(VERSION, "ProductId", "00330-80000-00000-AA000")),
        ("SYSTEM", text(RULES, "{of-ada}", f"v2.31|Action=Block|Name=Chart|LUOwn={ADA_SID}|")),
        ("SYSTEM", text(RULES, "{of-tom}", f"v2.31|Action=Block|Name=Clock|LUOwn={TOM_SID}|")),
        extra={
            "Windows/System32/config/DEFAULT": default,
            f"{home}/NTUSER.DAT": toms,
            f"{home}/AppData/Roaming/Microsoft/Crypto/RSA/{TOM_SID}/{container}": dice("c", 900),
            f"{home}/AppData/Local/Microsoft/Windows/Explorer/thumbcache_96.db": dice("t", 500),
            f"{home}/AppData/Local/IconCache.db": dice("i", 500),
            "Windows/System32/wbem/Repository/OBJECTS.DATA": b"\0".join(
                [dice("wmi", 4000), COMPUTER.encode(), dice("wmi 2", 4000)]
            ),
            "Windows/System32/wbem/Repository/INDEX.BTR": dice("index", 8192),
            f"{REPOSITORY}/StateRepository-Machine.srd": repository(tmp_path),
            f"{REPOSITORY}/Packages/Tideline.Chart_1/{ADA_SID}.pckgdep": b"of ada",
        },
    )  # fmt: skip
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid", "--retain-account", "tom.kelp")
    assert done.status == 0, done.err
    words = ("seal", disk, "--dry-run", "--reissue-sid", "--retain-account", "tom.kelp")
    assert "The product ID and the product key stay" in planned(zeroseal, *words)
    after = Judged(sealed, tmp_path / "after")
    after.judge_hives()
    forms = forms_of_text(COMPUTER) | forms_of_guid(GUID) | forms_of_text("ada.brine")
    left = after.find({name: form for name, form in forms.items() if "ada.brine" not in name})
    assert left == set()
    for label in (*SECRETS, "agent of the system", "agent of tom"):
        assert after.find({label: dice(label, 60)[:24]}) == set(), label
    assert after.keys("SECURITY", "Policy\\Secrets") == []
    for key, name in ((VERSION, "RegisteredOwner"), (VERSION, "RegisteredOrganization"),
                      (WOW, "RegisteredOwner")):  # fmt: skip
        assert after.value("SOFTWARE", key, name) == ""
    assert after.value("SYSTEM", RULES, "{of-ada}") is None
    assert "Clock" in after.value("SYSTEM", RULES, "{of-tom}")
    assert after.value("DEFAULT", f"{explorer}\\Shell Folders", "Personal") is None
    assert after.value("DEFAULT", "Environment", "PIER") is None
    assert after.value("DEFAULT", "Environment", "KEPT") == "adam.briner is somebody else"
    assert after.value(f"/{home}/NTUSER.DAT", "Environment", "COLLEAGUE") == "ada.brine"
    assert after.keys(f"/{home}/NTUSER.DAT", "Volatile Environment") == []
    gone = ("wbem/Repository/", "thumbcache", "IconCache", ".pckgdep", GUID)
    assert [path for path in after.files if any(name in path for name in gone[1:])] == []
    assert [path for path in after.files if gone[0] in path] == [
        "/Windows/System32/wbem/Repository/"
    ]
    made = tmp_path / "after.srd"
    made.write_bytes(after.files[f"/{REPOSITORY}/StateRepository-Machine.srd"])
    with closing(sqlite3.connect(made)) as read:
        assert read.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        assert len(read.execute("SELECT * FROM User").fetchall()) == 1
        assert read.execute("SELECT Path FROM App").fetchall() == [("C:\\Program Files\\Clock",)]
    assert zeroseal("check", sealed).out.startswith("SEALED")


def test_the_profile_of_the_administrator_goes_and_the_account_stays(
    tmp_path: Path, zeroseal: Command
) -> None:
    disk = make_windows_disk(tmp_path / "d.raw", *ADMIN_ROWS, extra=ADMIN_FILES)
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    shown = planned(zeroseal, "seal", disk, "--dry-run", "--reissue-sid")
    assert "The profile of Administrator is removed like any other and created again" in shown
    assert "Administrator stays and can log in with its password" in shown
    after = Judged(sealed, tmp_path / "after")
    assert [path for path in after.files if ADMIN in path] == []
    assert after.find({"price": b"price-list-88", "login": b"real-login-12"}) == set()
    assert after.accounts()[500] == "Administrator"
    rights = [name for name in after.keys("SECURITY", "Policy\\Accounts") if name.endswith("-500")]
    assert len(rights) == 1
    assert not [
        name for name in after.keys("SOFTWARE", f"{VERSION}\\ProfileList") if name.endswith("-500")
    ]


@pytest.mark.parametrize("how", ["retained", "copied by set-up"])
def test_the_profile_of_the_administrator_stays_where_it_is_meant_to(
    tmp_path: Path, zeroseal: Command, how: str
) -> None:
    rows, extra, words = list(ADMIN_ROWS), dict(ADMIN_FILES), ["--reissue-sid"]
    if how == "retained":
        words += ["--retain-account", "administrator"]
    else:
        state = "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"
        rows.append(("SOFTWARE", text(f"{CURRENT}\\Setup\\State", "ImageState", state)))
        rows.append(("SYSTEM", number("Setup", "OOBEInProgress", 1)))
        extra["Windows/Panther/unattend.xml"] = (
            b"<unattend><component><CopyProfile> true </CopyProfile></component></unattend>"
        )
        words = []
    disk = make_windows_disk(tmp_path / "d.raw", *rows, extra=extra)
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, *words)
    assert done.status == 0, done.err
    shown = planned(zeroseal, "seal", disk, "--dry-run", *words)
    assert "The profile of Administrator stays" in shown
    after = Judged(sealed, tmp_path / "after")
    assert f"/{ADMIN}/Desktop/bunker prices.txt" in after.files


def test_what_names_a_person_or_the_machine_and_stays_is_reported(
    tmp_path: Path, zeroseal: Command
) -> None:
    shell = "Software\\Microsoft\\Windows\\CurrentVersion\\Explorer\\User Shell Folders"
    home = build_hive(text(shell, "Personal", "D:\\Quay\\ada"), owner=MACHINE.raw_account(1001))
    blob = certificate(f"{COMPUTER}.saltmarsh.example")
    assert len(encoded_certificate(blob)) > 200
    disk = make_windows_disk(
        tmp_path / "d.raw",
        ("SYSTEM", text(f"{SET}\\Services\\GateSync", "ObjectName", f"{COMPUTER}\\ada.brine")),
        ("SOFTWARE", raw(f"Microsoft\\SystemCertificates\\ROOT\\Certificates\\{'D4' * 20}",
                         "Blob", blob)),
        ("SOFTWARE", text(f"{CURRENT}\\EventCollector\\Subscriptions\\Tide gauges", "URI", "w")),
        ("SOFTWARE", text(VERSION, "CurrentBuild", "90000")),
        ("SOFTWARE", text(f"{VERSION}\\ProfileList\\S-1-5-82-3006700770", "ProfileImagePath",
                          "C:\\Users\\TicketPool")),
        ("SOFTWARE", text(f"{VERSION}\\ProfileList\\{MACHINE.account(1009)}", "ProfileImagePath",
                          "E:\\Profiles\\old.hand")),
        extra={"Users/ada.brine/NTUSER.DAT": home},
    )  # fmt: skip
    found = json.loads(zeroseal("survey", disk, "--json", "--as-if", "--reissue-sid").out)
    against = " ".join(found["readiness"]["blockers"])
    assert "The service GateSync logs in as ada.brine, which a seal removes" in against
    shown = json.dumps(found["readiness"], ensure_ascii=False).replace("\\\\", "\\")
    for part in (
        "redirected to D:\\Quay\\ada", f"CN={COMPUTER}.saltmarsh.example in the store ROOT",
        "valid until 2031-01-01", "subscriptions stay (Tide gauges)", "Build 90000 of Windows",
        "Profiles of services stay, without their caches and keys: TicketPool", "old.hand",
    ):  # fmt: skip
        assert part in shown, part
    words = ("seal", disk, "--dry-run", "--reissue-sid", "--remove-account", "ada.brine")
    assert "GateSync logs in" not in zeroseal(*words).out


def test_old_bytes_in_the_reserved_partition_are_zeroed(tmp_path: Path, zeroseal: Command) -> None:
    old = tmp_path / "msr"
    old.write_bytes(bytes(4096) + b"a journal of the last installation, of ada.brine " * 900)
    disk = make_windows_disk(tmp_path / "d.raw", behind=[("0c01", old)])
    surveyed = zeroseal("survey", disk, "--places", "--as-if", "--reissue-sid").out
    assert "in partition 3, which is reserved" in " ".join(surveyed.split())
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    assert b"last installation" in disk.read_bytes()
    assert b"last installation" not in sealed.read_bytes()


@pytest.mark.parametrize(
    ("name", "build"),
    [("Windows 7 Professional", "7601"), ("Windows Server 2022 Standard", "20348")],
)
def test_older_and_newer_versions_are_sealed_alike(
    tmp_path: Path, zeroseal: Command, name: str, build: str
) -> None:
    rows = [("SOFTWARE", text(VERSION, "ProductName", name)),
            ("SOFTWARE", text(VERSION, "CurrentBuild", build))]  # fmt: skip
    disk, sealed = make_windows_disk(tmp_path / "d.raw", *rows), tmp_path / "sealed.raw"
    shown = planned(zeroseal, "survey", disk, "--as-if", "--reissue-sid")
    assert f"{name}, build {build}" in shown
    assert "is not known here" not in shown
    assert zeroseal("seal", disk, "-o", sealed, "--reissue-sid").status == 0
    after = Judged(sealed, tmp_path / "after")
    assert after.find(forms_of_text(COMPUTER) | forms_of_text("ada.brine")) == set()


def test_an_account_with_a_common_name_takes_no_settings_away(
    tmp_path: Path, zeroseal: Command
) -> None:
    default = build_hive(
        text("Environment", "HELP", "ask the user at the desk"),
        text("Environment", "OWNER", "user"),
        text("Environment", "User", "1"),
        text("Environment", "PLACE", f"{COMPUTER}\\User"),
    )
    disk = make_windows_disk(
        tmp_path / "d.raw",
        *[("SAM", row) for row in account("user", 1010, 0x210)],
        extra={"Windows/System32/config/DEFAULT": default},
    )
    found = json.loads(zeroseal("survey", disk, "--json").out)["findings"]
    places = [item["place"] for row in found if row["trace"] == "people.default-settings"
              for item in row["places"]]  # fmt: skip
    assert sorted(places) == ["DEFAULT\\Environment : OWNER", "DEFAULT\\Environment : PLACE"]
