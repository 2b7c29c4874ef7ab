"""What is told of a Windows: each remark where its reason is, and nowhere else."""

from __future__ import annotations

from pathlib import Path

import pytest
from scripts.desk_machine import (
    ADA_SID,
    CURRENT,
    SET,
    TCPIP,
    TOM_SID,
    VERSION,
    Row,
    answer_file,
    number,
    raw,
    text,
)

from tests.windows import make_windows_disk
from zeroseal.images.detect import open_image
from zeroseal.sealing.house_rules import parse_house_rules
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.judge import guard
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy, SealOptions, resolve
from zeroseal.sealing.windows.readiness import find_windows_remarks

CONTROL, SERVICES = f"{SET}\\Control", f"{SET}\\Services"
STATE = f"{CURRENT}\\Setup\\State"
APPX = f"{CURRENT}\\Appx\\AppxAllUserStore"
TALKATIVE: list[tuple[str, Row]] = [
    ("SOFTWARE", text(STATE, "ImageState", "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE")),
    ("SYSTEM", number(f"{CONTROL}\\Session Manager\\Power", "HiberbootEnabled", 1)),
    ("SYSTEM", number(f"{CONTROL}\\Terminal Server", "fDenyTSConnections", 1)),
    ("SYSTEM", number(f"{SERVICES}\\QEMU-GA", "Start", 4)),
    ("SYSTEM", number(f"{SERVICES}\\sshd", "Start", 3)),
    ("SYSTEM", number(f"{SERVICES}\\viostor", "Start", 3)),
    ("SYSTEM", text(f"{SERVICES}\\GateSync", "ObjectName", ".\\tom.kelp")),
    ("SYSTEM", number(f"{SERVICES}\\CertSvc", "Start", 2)),
    ("SYSTEM", text(f"{SERVICES}\\CertSvc", "ImagePath", "%systemroot%\\system32\\certsrv.exe")),
    ("SYSTEM", number(f"{SERVICES}\\DHCPServer", "Start", 4)),  # disabled
    ("SYSTEM", text(f"{SERVICES}\\DHCPServer", "ImagePath", "%systemroot%\\system32\\tcpsvcs.exe")),
    ("SYSTEM", number(f"{SERVICES}\\NTDS\\RID Values", "x", 1)),  # of any client
    ("SYSTEM", text(f"{CONTROL}\\ProductOptions", "ProductType", "LanmanNT")),
    ("SYSTEM", text(f"{CONTROL}\\CloudDomainJoin\\JoinInfo\\A1", "TenantId", "t")),
    ("SYSTEM", text(TCPIP, "Domain", "saltmarsh.example")),
    ("SYSTEM", raw("Setup\\Upgrade", "x", b"x")),
    ("SOFTWARE", text("Zabbix\\agent", "HostMetadata", "x")),
    ("SOFTWARE", number(f"{VERSION}\\SoftwareProtectionPlatform", "SkipRearm", 1)),
    ("SYSTEM", text(f"{SERVICES}\\Till", "ImagePath", "C:\\till.exe --password=not-a-real-one")),
    ("SYSTEM", text(f"{CONTROL}\\Session Manager\\Environment", "TILL_TOKEN", "not-real")),
    ("SOFTWARE", text(f"{APPX}\\{TOM_SID}\\Tideline.Two_1", "Path", "C:\\x")),
]


def _subject(disk: Path) -> Inspection:
    return Inspection.read(open_image(disk))


def _remarks(inspection: Inspection, policy: Policy) -> dict[str, str]:
    found: dict[str, str] = {}
    for remark in find_windows_remarks(inspection.judge.project(inspection, [], policy)):
        found[remark.code] = f"{found.get(remark.code, '')} {remark.text}".strip()
    return found


@pytest.fixture(scope="module")
def quiet(tmp_path_factory: pytest.TempPathFactory) -> Inspection:
    """The machine as it is."""
    return _subject(make_windows_disk(tmp_path_factory.mktemp("quiet") / "d.raw"))


@pytest.fixture(scope="module")
def talkative(tmp_path_factory: pytest.TempPathFactory) -> Inspection:
    """A machine with a reason for nearly every remark."""
    policy = "ProgramData/Microsoft/Group Policy/History/{A}/Machine/Preferences/Drives.xml"
    extra = {
        "Windows/WinSxS/pending.xml": b"<x/>",
        "Windows/Panther/unattend.xml": answer_file(),
        policy: b'<Drives cpassword="AAAA"/>',
    }
    path = tmp_path_factory.mktemp("talkative") / "d.raw"
    return _subject(make_windows_disk(path, *TALKATIVE, extra=extra))


def test_a_machine_that_starts_plainly(quiet: Inspection) -> None:
    told = _remarks(quiet, DEFAULT_POLICY)
    assert set(told) == {
        "offline-only", "start-mode", "shared-identifier", "card-guids", "hosts-file",
        "kept-secrets", "disk-drivers", "remote-desktop", "time-zone", "licensing",
        "one-user-applications",
        "generalize-pass",
    }  # fmt: skip
    assert told["remote-desktop"] == "Clones keep Remote Desktop switched on, as on this machine."
    assert "virtio-blk" in told["disk-drivers"]
    assert ADA_SID in told["one-user-applications"]
    assert "The GUID of a network card stays" in told["card-guids"]


def test_a_new_identifier_is_told_with_what_it_breaks(quiet: Inspection) -> None:
    policy = resolve(SealOptions(reissue_sid=True, retained_accounts=("ada.brine",)))
    told = _remarks(quiet, policy)
    assert "shared-identifier" not in told
    for words in ("secrets that Windows protects", "store applications", "scheduled tasks",
                  "unless each gets its own"):  # fmt: skip
        assert words in told["broken-by-reissue"]
    alone = _remarks(quiet, resolve(SealOptions(reissue_sid=True)))
    assert "nothing that was found on this machine" in alone["broken-by-reissue"]


def test_a_machine_with_a_reason_for_nearly_everything(talkative: Inspection) -> None:
    told = _remarks(talkative, resolve(SealOptions(reissue_sid=True)))
    assert {
        "domain-member", "cloud-member", "server-role", "work-pending", "fast-start",
        "answer-passwords", "no-guest-agent", "no-ssh-server", "review-agents", "card-guids",
        "password-in-settings",
    } <= set(told)  # fmt: skip
    assert "shared-identifier" not in told
    assert "broken-by-reissue" not in told
    for place in ("the service Till", "the variable TILL_TOKEN", "Drives.xml"):
        assert place in told["password-in-settings"]
    assert "not-a-real-one" not in told["password-in-settings"]
    assert "SkipRearm is set" in told["licensing"]
    assert "A new security identifier is not needed" in told["start-mode"]
    assert told["server-role"].count("The machine is") == 2
    assert "a servicing plan" in told["work-pending"]
    assert "an upgrade in progress" in told["work-pending"]
    assert told["remote-desktop"] == "Clones keep Remote Desktop switched off, as on this machine."
    assert "viostor is not started at boot" in told["disk-drivers"]
    assert "contains 2 passwords" in told["answer-passwords"]
    assert "Zabbix" in told["review-agents"]
    assert told["one-user-applications"].startswith("2 applications are installed")


@pytest.mark.parametrize(
    ("rules", "is_told"),
    [
        ('first-start = ["plain"]', False),
        ('first-start = ["resealed", "audit"]', True),
        ("reissue-sid = true", False),
    ],
)
def test_house_rules_choose_how_it_may_start(quiet: Inspection, rules: str, is_told: bool) -> None:
    parsed = parse_house_rules(f"version = 1\n[windows]\n{rules}\n", "rules")
    assert ("first-start" in _remarks(quiet, resolve(rules=parsed))) is is_told


def test_the_guard_says_who_can_log_in_and_what_is_closed(
    quiet: Inspection, talkative: Inspection
) -> None:
    sure = guard(quiet, [], DEFAULT_POLICY)
    assert sure.lock_outs == ()
    assert any("Administrator stays and can log in" in text_ for text_ in sure.assured)
    assert any("is treated as public" in hint for hint in sure.hints)
    open_still = guard(quiet, [], resolve(SealOptions(skip=("wire.network-lists",))))
    assert not any("is treated as public" in hint for hint in open_still.hints)
    small = guard(quiet, [], resolve(SealOptions(same_size_clones=True)))
    assert not any("larger disk" in hint for hint in small.hints)
    rules = parse_house_rules("version = 1\n[windows]\ndisable-administrator = true\n", "rules")
    locked = guard(quiet, [], resolve(rules=rules))
    assert any("nobody could log in" in text_ for text_ in locked.lock_outs)
    vouched = guard(quiet, [], resolve(SealOptions(expect_seed=True), rules))
    assert vouched.lock_outs == ()
    kept = guard(quiet, [], resolve(SealOptions(retained_accounts=("tom.kelp",)), rules))
    assert any("tom.kelp stays" in text_ for text_ in kept.assured)
    resealed = guard(talkative, [], resolve(rules=rules))
    assert any("asks for an account" in text_ for text_ in resealed.assured)
