"""Clones of a sealed Windows: each is itself, and is told at set-up what its sheet says."""

from __future__ import annotations

import json
import time
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest
from scripts.desk_machine import CURRENT, GUID, RAW_SID, TCPIP, text

from tests.conftest import Command
from tests.oracles import to_raw
from tests.windows import make_windows_disk
from tests.windows_judges import Judged, forms_of_guid, forms_of_sid, forms_of_text
from zeroseal.guests.windows.answer_build import COMPONENTS
from zeroseal.templates.clone_start import answers_after_start

STATE = f"{CURRENT}\\Setup\\State"
RESEALED = text(STATE, "ImageState", "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE")
ANSWERS = "/Windows/Panther/unattend.xml"
SPACE = "{urn:schemas-microsoft-com:unattend}"
KEY = "AAAAA-BBBBB-CCCCC-DDDDD-EEEEE"
SHEET = """\
version = 1
[every]
time_zone = "GMT Standard Time"
locale = "en-IE"
root_password = "${secret:desk}"
commands = ["cmd.exe /c echo <ready> & done"]
[every.windows]
product_key = "AAAAA-BBBBB-CCCCC-DDDDD-EEEEE"
join_domain = "saltmarsh.example"
join_account = "joiner"
join_password = "${secret:join}"
[[clone]]
name = "desk-01"
[[clone.users]]
name = "ada.brine"
full_name = "Ada Brine"
password = "${secret:ada}"
[[clone]]
name = "desk-02"
mac = "02:5a:17:00:00:42"
addresses = ["192.0.2.42/24", "2001:db8::42/64"]
gateways = ["192.0.2.1"]
name_servers = ["192.0.2.3", "2001:db8::3"]
search = ["saltmarsh.example"]
[clone.windows]
keyboard = "1809:00001809"
owner = "Ticket office"
organization = "Saltmarsh Ferries"
"""
SECRETS = {"desk": "Spring-tide-4-piers", "join": "Ebb-and-flow-88", "ada": "Neap-tide-3-oars"}


@pytest.fixture(scope="module")
def plain(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A machine that starts plainly."""
    return make_windows_disk(tmp_path_factory.mktemp("plain") / "purser.raw")


@pytest.fixture(scope="module")
def resealed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A machine that its own pass resealed."""
    path = tmp_path_factory.mktemp("resealed") / "purser.raw"
    variables = "ControlSet001\\Control\\Session Manager\\Environment"
    old = ("SYSTEM", text(variables, "PROCESSOR_ARCHITECTURE", "x86"))
    return make_windows_disk(path, ("SOFTWARE", RESEALED), old)


def _texts(root: ET.Element, path: str) -> list[str]:
    parts = "/".join(f"{SPACE}{part}" for part in path.split("/"))
    return [item.text or "" for item in root.findall(f".//{parts}")]


def _judge_settings(root: ET.Element) -> None:
    """Network, keyboard and owner of the second desk; components where set-up reads them."""
    for settings in root.findall(f"{SPACE}settings"):
        for component in settings.findall(f"{SPACE}component"):
            assert component.get("processorArchitecture") == "x86"
            assert settings.get("pass") in COMPONENTS[component.get("name", "")]
    assert _texts(root, "component/InputLocale") == ["1809:00001809"]
    assert _texts(root, "component/UserLocale") == ["en-IE"]
    assert _texts(root, "component/RegisteredOwner") == ["Ticket office"]
    assert _texts(root, "component/RegisteredOrganization") == ["Saltmarsh Ferries"]
    assert set(_texts(root, "Interface/Identifier")) == {"02-5A-17-00-00-42"}
    assert _texts(root, "UnicastIpAddresses/IpAddress") == ["192.0.2.42/24", "2001:db8::42/64"]
    for version in ("Ipv4Settings", "Ipv6Settings"):
        assert _texts(root, f"{version}/DhcpEnabled") == ["false"]
    assert _texts(root, "Route/NextHopAddress") == ["192.0.2.1"]
    assert _texts(root, "Route/Prefix") == ["0.0.0.0/0"]
    assert _texts(root, "DNSServerSearchOrder/IpAddress") == ["192.0.2.3", "2001:db8::3"]
    assert _texts(root, "DNSSuffixSearchOrder/DomainName") == ["saltmarsh.example"]


def test_clones_of_a_plain_start_differ_in_every_identity_value(
    tmp_path: Path, zeroseal: Command, plain: Path
) -> None:
    sealed, yard = tmp_path / "sealed.qcow2", tmp_path / "yard"
    done = zeroseal("seal", plain, "-o", sealed, "--format", "qcow2", "--reissue-sid")
    assert done.status == 0, done.err
    shared = zeroseal("clone", sealed, "--name", "desk-09", "--to", yard)
    assert "it has the template's security identifier" in " ".join(shared.out.lower().split())
    names = ("--name", "desk-01", "--name", "desk-02")
    for linked in ((), ("--linked",)):
        place = tmp_path / f"yard{len(linked)}"
        made = zeroseal("clone", sealed, *names, "--reissue-sid", "--to", place, *linked)
        assert made.status == 0, made.err
        disks = [place / name / "disk.qcow2" for name in names[1::2]]
        compared = zeroseal("compare", *disks, sealed)
        assert compared.status == 0, compared.out
        judged = []
        for number, disk in enumerate(disks):
            raw = to_raw(disk, tmp_path / f"{len(linked)}{number}.raw")
            judged.append(Judged(raw, tmp_path / f"judged{len(linked)}{number}"))
        template = Judged(to_raw(sealed, tmp_path / "t.raw"), tmp_path / "template")
        sids = {item.machine_sid() for item in (*judged, template)} | {RAW_SID}
        assert len(sids) == 4
        for item in judged:
            item.judge_hives()
            forms = forms_of_sid(template.machine_sid()) | forms_of_sid(RAW_SID)
            assert item.find(forms | forms_of_guid(GUID)) == set()
            assert item.value("SYSTEM", TCPIP, "NV Hostname") == f"desk-0{judged.index(item) + 1}"
            assert item.keys("SOFTWARE", "Zero Seal") == []
            policy = item.value("SECURITY", "Policy\\PolAcDmN")
            assert policy[8:].decode("utf-16-le") == f"desk-0{judged.index(item) + 1}"
            assert policy[:2] == len(policy[8:]).to_bytes(2, "little")
        started = zeroseal("yard", "start", "desk-01", "--yard", place)
        assert "sshd created new SSH host keys" in started.out
        zeroseal("yard", "stop", "desk-01", "--yard", place)
        used = zeroseal("check", place / "desk-01/disk.qcow2")
        assert (used.status, "diary.event-logs" in used.out) == (1, True)


def test_a_sheet_is_told_to_set_up_and_its_passwords_go_again(
    tmp_path: Path, zeroseal: Command, resealed: Path
) -> None:
    sealed, yard, sheet = tmp_path / "s.qcow2", tmp_path / "yard", tmp_path / "desks.toml"
    assert zeroseal("seal", resealed, "-o", sealed, "--format", "qcow2").status == 0
    sheet.write_text(SHEET)
    secrets = tmp_path / "secrets.toml"
    secrets.write_text("".join(f'{name} = "{word}"\n' for name, word in SECRETS.items()))
    secrets.chmod(0o600)
    words = ("--sheet", sheet, "--secrets", secrets, "--to", yard)
    made = zeroseal("clone", sealed, *words)
    assert made.status == 0, made.err
    assert not any(word in made.out + made.err for word in SECRETS.values())
    told = " ".join(made.out.split())
    assert "replaces the template's /Windows/Panther/unattend.xml" in told
    disk = yard / "desk-01/disk.qcow2"
    judged = Judged(to_raw(disk, tmp_path / "one.raw"), tmp_path / "one")
    root = ET.fromstring(judged.files[ANSWERS])
    specialize, first = root.findall(f"{SPACE}settings")
    assert (specialize.get("pass"), first.get("pass")) == ("specialize", "oobeSystem")
    assert _texts(specialize, "component/ComputerName") == ["desk-01"]
    assert _texts(specialize, "component/TimeZone") == ["GMT Standard Time"]
    assert _texts(specialize, "component/ProductKey") == [KEY]
    assert _texts(specialize, "Credentials/Password") == [SECRETS["join"]]
    assert _texts(specialize, "Identification/JoinDomain") == ["saltmarsh.example"]
    assert _texts(first, "component/UserLocale") == ["en-IE"]
    assert _texts(first, "AdministratorPassword/Value") == [SECRETS["desk"]]
    assert _texts(first, "LocalAccount/Name") == ["ada.brine"]
    assert _texts(first, "LocalAccount/Password/Value") == [SECRETS["ada"]]
    second = Judged(to_raw(yard / "desk-02/disk.qcow2", tmp_path / "b.raw"), tmp_path / "b")
    _judge_settings(ET.fromstring(second.files[ANSWERS]))
    lines = _texts(first, "SynchronousCommand/CommandLine")
    assert lines[0] == "cmd.exe /c echo <ready> & done"
    assert "del" in lines[-1]
    assert "Panther\\unattend.xml" in lines[-1]
    assert not any(disk.parent.glob("*.iso"))
    started = zeroseal("yard", "start", "desk-01", "--yard", yard)
    assert "setup gave the machine the security identifier" in started.out
    assert "named the computer desk-01" in " ".join(started.out.split())
    after = Judged(to_raw(disk, tmp_path / "two.raw"), tmp_path / "two")
    assert ANSWERS not in after.files
    assert after.machine_sid() != RAW_SID
    answers = zeroseal("check", disk, "--as", sheet, "--secrets", secrets, "--json")
    assert answers.status == 1  # the simulated set-up makes no accounts and joins no domain
    good = {item["what"]: item["isGood"] for item in json.loads(answers.out)["answers"]}
    assert (good["computer name"], good["account"], good["domain"]) == (True, False, False)
    template = Judged(to_raw(sealed, tmp_path / "t.raw"), tmp_path / "t")
    forms: dict[str, bytes] = {}
    for word in SECRETS.values():
        forms |= forms_of_text(word)
    assert template.find(forms) == set()


@pytest.mark.parametrize(
    ("more", "told"),
    [
        ('root_password = "x-y-z-1234"', "a password, which only setup can do"),
        ('packages = ["x"]', "packages, which cannot be set"),
        ('addresses = ["192.0.2.4/24"]', "addresses, which only setup can do"),
        ('windows = { keyboard = "a keyboard" }', "keyboard"),
        ('windows = { keyboard = "1809:00001809" }', "a keyboard, which only setup can do"),
        ('host_name = "a-name-of-seventeen"', "too long for a Windows"),
        ('windows = { join_domain = "saltmarsh.example" }', "needs a join_account"),
        ('windows = { product_key = "no" }', "product_key"),
    ],
)
def test_what_a_plain_windows_cannot_be_told_is_refused(
    tmp_path: Path, zeroseal: Command, plain: Path, more: str, told: str
) -> None:
    sealed, sheet = tmp_path / "sealed.raw", tmp_path / "sheet.toml"
    assert zeroseal("seal", plain, "-o", sealed, "--reissue-sid").status == 0
    sheet.write_text(f'version = 1\n[[clone]]\nname = "desk-01"\n{more}\n')
    refused = zeroseal("clone", sealed, "--sheet", sheet, "--to", tmp_path / "yard")
    assert refused.status in (2, 4)
    assert told in refused.err
    assert not (tmp_path / "yard").exists() or not list((tmp_path / "yard").iterdir())


def test_a_resealed_template_needs_no_identifier_and_no_blank_password(
    tmp_path: Path, zeroseal: Command, resealed: Path
) -> None:
    sealed = tmp_path / "sealed.raw"
    assert zeroseal("seal", resealed, "-o", sealed).status == 0
    words = ("--name", "desk-01", "--to", tmp_path / "yard")
    refused = zeroseal("clone", sealed, *words, "--reissue-sid")
    assert (refused.status, "leave out --reissue-sid" in refused.err) == (4, True)
    key = tmp_path / "key.pub"
    key.write_text("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ ada\n")
    refused = zeroseal("clone", sealed, *words, "--public-key", key)
    assert (refused.status, "public keys" in refused.err) == (4, True)


def test_two_trial_machines_of_a_windows_become_themselves(
    tmp_path: Path, zeroseal: Command, plain: Path, resealed: Path
) -> None:
    for number, (disk, options) in enumerate(((plain, ("--reissue-sid",)), (resealed, ()))):
        sealed = tmp_path / f"sealed{number}.raw"
        assert zeroseal("seal", disk, "-o", sealed, *options).status == 0
        tried = zeroseal("trial", sealed, "--host", "simulated")
        assert tried.status == 0, tried.out
        words = " ".join(tried.out.split())
        assert "security identifier was created again and differs" in words
        assert "SSH host key was created again and differs" in words
    refused = zeroseal("trial", sealed, "--host", "qemu")
    assert (refused.status, "tried on the simulated host only" in refused.err) == (4, True)


def test_a_sealed_windows_that_was_started_says_so(
    tmp_path: Path, zeroseal: Command, plain: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    sealed, yard = tmp_path / "sealed.raw", tmp_path / "yard"
    assert zeroseal("seal", plain, "-o", sealed, "--reissue-sid").status == 0
    assert zeroseal("yard", "adopt", sealed, "--name", "oops", "--yard", yard).status == 0
    later = time.time() + 3600
    monkeypatch.setattr(time, "time", lambda: later)
    assert zeroseal("yard", "start", "oops", "--yard", yard).status == 0
    found = answers_after_start(
        yard / "oops/disk.raw", (), ("sshd", "QEMU-GA", "NoSuchService"), has_new_ids=False
    )
    answers = {item.what: item.is_good for item in found if item.what.startswith("service")}
    assert answers == {
        "service sshd": True, "service QEMU-GA": True, "service NoSuchService": False,
    }  # fmt: skip
    broken = zeroseal("check", yard / "oops/disk.raw")
    words = " ".join(broken.out.split())
    assert broken.status == 1
    assert "the machine was started: it has event logs, page file, registry, SSH host keys" in words
