"""Clones from sheets: who they are, how large, on what they hang; and what is refused."""

from __future__ import annotations

import configparser
import json
import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import bcrypt
import pytest
import yaml

from tests.conftest import DEMO_TIME, Command, start, stop
from tests.disks import BARE_GUEST, make_guest_volume
from tests.lvm import lvm_disk, put
from tests.oracles import cut_partition, image_info, judge_ext, judge_qcow2, need, run, to_raw
from tests.templates.conftest import KEY, make
from zeroseal.errors import RefusedError, UsageError
from zeroseal.filesystems.drivers import read_disk
from zeroseal.guests.linux.network_files import FixedAddresses
from zeroseal.images.detect import opened_image
from zeroseal.machines.definition import write_definition
from zeroseal.machines.media import read_seed_medium
from zeroseal.machines.seed import Seed, SeedAccount, SeedFile
from zeroseal.machines.sheet.secret_values import Secrets
from zeroseal.machines.yard import Yard
from zeroseal.templates.clone import CloneBatch, CloneSource, make_clones
from zeroseal.templates.clone_sheet.load import load_clone_sheet
from zeroseal.templates.into_disk import write_identity
from zeroseal.templates.shelf.entry import Template
from zeroseal.templates.shelf.shelf import Shelf

NOW = DEMO_TIME + 300


def words(text: str) -> str:
    return " ".join(text.split())


# -- sheets


def test_two_hundred_clones_from_one_sheet_are_two_hundred_machines(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    sheet, yard = tmp_path / "gates.toml", tmp_path / "yard"
    sheet.write_text(
        'version = 1\ntemplate = "gangway"\n[every]\nlinked = true\ndomain = "saltmarsh.example"\n'
        f'[[every.users]]\nname = "deckhand"\npublic_keys = ["{KEY}"]\n[[clone]]\ncount = 200\n'
        'numbers = { prefix = "gate-", first = 1, last = 500, digits = 3 }\n'
    )
    made = zeroseal("clone", "--sheet", sheet, "--to", yard, "--shelf", shelf.folder, "--table")
    assert made.status == 0, made.err
    table = [line.split("\t") for line in made.out.splitlines()]
    assert [row[0] for row in table] == [f"gate-{number:03}" for number in range(1, 201)]
    assert len({row[1] for row in table}) == 200
    machines = Yard(yard).machines()
    assert len({item.definition.uuid for item in machines}) == 200
    assert len({item.definition.batch for item in machines}) == 1
    for machine in machines[::67]:
        judge_qcow2(machine.disk)
        seed = read_seed_medium(machine.folder / "seed.iso")
        assert seed.host_name == machine.definition.name
    listed = json.loads(zeroseal("shelf", "show", "gangway", "--json", "--shelf", shelf.folder).out)
    assert len(listed["clones"]) == 200
    more = zeroseal("clone", "--sheet", sheet, "--to", yard, "--shelf", shelf.folder, "--table")
    assert more.out.startswith("gate-201\t")
    batch = machines[0].definition.batch
    gone = zeroseal("yard", "remove", "--batch", batch, "--with-disk", "--yes", "--yard", yard)
    assert gone.status == 0
    assert len(Yard(yard).machines()) == 200


def test_a_sheet_says_the_same_in_toml_and_in_csv(tmp_path: Path) -> None:
    (tmp_path / "key.pub").write_text(f"# who\n{KEY}\n")
    (tmp_path / "s.toml").write_text(
        'version = 1\n[every]\nmemory_mib = 2048\n[[clone]]\nname = "one"\nhost_name = "books"\n'
        'addresses = ["192.0.2.21/24", "2001:db8::21/64"]\ngateways = ["192.0.2.1"]\n'
        'disk_size = "40G"\nlinked = true\n[[clone.users]]\nname = "ops"\n'
        'public_key_files = ["key.pub"]\n'
    )
    (tmp_path / "s.csv").write_text(
        "Name,host name,addresses,gateways,disk size,linked,user,public key file,memory mib\n"
        "one,books,192.0.2.21/24 2001:db8::21/64,192.0.2.1,40G,yes,ops,key.pub,2048\n\n"
    )
    toml, table = (load_clone_sheet(tmp_path / f"s.{kind}", Secrets()) for kind in ("toml", "csv"))
    assert toml.wishes == table.wishes
    (wish,) = toml.wishes
    assert (wish.host_name, wish.disk_bytes, wish.row.memory_mib) == ("books", 40 << 30, 2048)
    assert wish.accounts == (SeedAccount("ops", "", (KEY,), "*", admin=True),)


SHEET_FAULTS = {
    "a name that is given twice": (
        '[[clone]]\nname="a"\n[[clone]]\nname="a"', "name a is given twice",
    ),
    "an address that is given twice": (
        '[[clone]]\nname="a"\naddresses=["192.0.2.9/24"]\n[[clone]]\nname="b"\n'
        'addresses=["192.0.2.9/25"]',
        "is given twice, for",
    ),
    "a gateway outside the network": (
        '[[clone]]\nname="a"\naddresses=["192.0.2.9/24"]\ngateways=["198.51.100.1"]',
        "is not in any network of",
    ),
    "a gateway that is the machine": (
        '[[clone]]\nname="a"\naddresses=["192.0.2.9/24"]\ngateways=["192.0.2.9"]',
        "is the machine's own address",
    ),
    "a gateway with DHCP": ('[[clone]]\nname="a"\ngateways=["192.0.2.9"]', "DHCP provides its own"),
    "a broadcast address": (
        '[[clone]]\nname="a"\naddresses=["192.0.2.255/24"]', "broadcast address of its network",
    ),
    "half an address": (
        '[[clone]]\nname="a"\naddresses=["192.0.2"]', "line 4: clone.0.addresses.0",
    ),
    "a key that is none": (
        '[[clone]]\nname="a"\n[[clone.users]]\nname="ops"\npublic_keys=["ssh-dss AAA"]',
        "not in the OpenSSH format",
    ),
    "a group MAC": ('[[clone]]\nname="a"\nmac="03:00:00:00:00:01"', "a group MAC"),
    "a name and numbers": (
        '[[clone]]\nname="a"\nnumbers={prefix="a-",first=1,last=2}', "either a name or numbers",
    ),
    "a name for many": ('[[clone]]\nname="a"\ncount=2', "count goes with numbers"),
    "one MAC for many": (
        '[[clone]]\nnumbers={prefix="a-",first=1,last=9}\ncount=2\nmac="02:00:00:00:00:01"',
        "mac is for one machine, but count asks for 2",
    ),
    "a word that is not known": ('[[clone]]\nname="a"\ncpu=2', "line 4: clone.0.cpu is wrong"),
    "a word for all that is not known": (
        '[every]\ncpu=2\n[[clone]]\nname="a"', "line 3: the table every has no key cpu",
    ),
    "a size that is none": ('[[clone]]\nname="a"\ndisk_size="big"', "disk_size is wrong"),
    "a secret that is not given": (
        '[[clone]]\nname="a"\n[[clone.users]]\nname="ops"\npassword="${secret:gate}"', "gate",
    ),
    "which does not exist": (
        '[[clone]]\nname="a"\nfirst_boot="none.sh"', "cannot read the script",
    ),
    "no clones": ("", "each clone as [[clone]]"),
    "no TOML": ("[[clone", "is not valid TOML"),
}  # fmt: skip


@pytest.mark.parametrize("fault", SHEET_FAULTS)
def test_a_sheet_that_cannot_be_is_refused_by_line_and_key(
    tmp_path: Path, zeroseal: Command, fault: str
) -> None:
    text, told = SHEET_FAULTS[fault]
    sheet = tmp_path / "sheet.toml"
    sheet.write_text(f"version = 1\n{text}\n")
    answer = zeroseal("clone", "gangway", "--sheet", sheet, "--to", tmp_path / "yard")
    assert answer.status in (2, 3), answer
    assert answer.err.count("\n") == 1
    assert told in answer.err
    assert not (tmp_path / "yard").exists()


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("", "is empty"),
        ("name\na,b\n", "row 2: it has more values"),
        ("name,vlan\na,x\n", "row 2: vlan is wrong: 'x' is not a number"),
        ("name,linked\na,maybe\n", "write yes or no"),
        ("name,colour\na,red\n", "row 2: clone.0.colour is wrong: unknown key"),
        ('name\n"a', "not valid CSV"),
    ],
)
def test_a_table_that_cannot_be_is_refused_by_its_row(
    tmp_path: Path, zeroseal: Command, text: str, told: str
) -> None:
    (tmp_path / "s.csv").write_text(text)
    answer = zeroseal("clone", "gangway", "--sheet", tmp_path / "s.csv", "--to", tmp_path / "y")
    assert (answer.status, told in answer.err) == (2, True), answer.err


# -- who each is


def test_what_another_machine_has_is_not_given_again(
    shelf: Shelf, template: Template, tmp_path: Path
) -> None:
    yard, elsewhere = Yard(tmp_path / "yard"), Yard(tmp_path / "elsewhere")
    mac, uuid = "02:5a:17:00:00:09", "4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10"
    make(template, yard, "north", addresses=["192.0.2.9/24"], mac=mac, uuid=uuid, host_name="gate")
    for settings, told in (
        ({"mac": mac}, f"the MAC {mac} for south"),
        ({"uuid": uuid}, f"the UUID {uuid}"),
        ({"host_name": "gate"}, "the host name gate"),
        ({"addresses": ["192.0.2.9/28"]}, r"the address 192.0.2.9 \(of north\)"),
    ):
        with pytest.raises(UsageError, match=told):
            make(template, yard, "south", shelf=shelf, **settings)
    with pytest.raises(UsageError, match=f"the MAC {mac}"):  # a clone of the shelf, in another yard
        make(template, elsewhere, "south", shelf=shelf, mac=mac)
    assert [item.definition.name for item in yard.machines()] == ["north"]
    assert elsewhere.machines() == []


def test_a_password_comes_by_reference_and_is_hashed(
    template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    secrets = tmp_path / "secrets.toml"
    secrets.write_text('gate = "low-water-77"\n')
    secrets.chmod(0o600)
    made = zeroseal(
        "clone", template.disk, "--name", "north", "--to", tmp_path / "yard", "--user", "ops",
        "--password", "gate", "--secrets", secrets,
    )  # fmt: skip
    assert made.status == 0, made.err
    seed = read_seed_medium(tmp_path / "yard/north/seed.iso")
    need("python3")
    assert seed.accounts[0].password_hash.startswith("$2b$")
    for path in (tmp_path / "yard").rglob("*"):
        assert not path.is_file() or b"low-water-77" not in path.read_bytes()


def test_what_a_guest_cannot_be_told_is_refused(template: Template, tmp_path: Path) -> None:
    yard, entry = Yard(tmp_path / "yard"), template.entry
    assert entry.abilities
    for seeded_by, network, settings, told in (
        ("", "ifupdown", {}, "nothing in .* reads a seed medium.*--into-disk"),
        ("first-boot script", "", {"packages": ["nano"]}, "packages, which only cloud-init takes"),
        ("cloud-init", "", {"into_disk": True}, "no supported network service"),
        ("cloud-init", "netplan", {"into_disk": True, "commands": ["true"]}, "a running guest"),
    ):
        abilities = replace(entry.abilities, seeded_by=seeded_by, network=network)
        deaf = replace(template, entry=replace(entry, abilities=abilities))
        with pytest.raises(RefusedError, match=told):
            make(deaf, yard, "north", **settings)
    assert not yard.folder.exists()


# a guest that is configured by each of the services, and how another program reads what was written
ENABLED = "/etc/systemd/system/multi-user.target.wants"
UNIT = "[Service]\nExecStart=/bin/true\n"
CARD = FixedAddresses(
    "02:5a:17:00:00:09", ("192.0.2.9/24", "2001:db8::9/64"), ("192.0.2.1", "2001:db8::1"),
    ("192.0.2.53",), ("saltmarsh.example",),
)  # fmt: skip


def of_netplan(text: str) -> set[str]:
    card = next(iter(yaml.safe_load(text)["network"]["ethernets"].values()))
    assert card["match"]["macaddress"] == CARD.mac
    assert card["nameservers"] == {"addresses": ["192.0.2.53"], "search": ["saltmarsh.example"]}
    assert {route["via"] for route in card["routes"]} == set(CARD.gateways)
    return set(card["addresses"])


def of_networkd(text: str) -> set[str]:
    pairs = [line.partition("=")[::2] for line in text.splitlines() if "=" in line]
    assert ("MACAddress", CARD.mac) in pairs
    assert {value for key, value in pairs if key == "Gateway"} == set(CARD.gateways)
    assert ("DNS", "192.0.2.53") in pairs
    return {value for key, value in pairs if key == "Address"}


def of_keyfile(text: str) -> set[str]:
    parser = configparser.ConfigParser()
    parser.read_string(text)
    assert parser["ethernet"]["mac-address"].lower() == CARD.mac
    both = parser["ipv4"], parser["ipv6"]
    assert {part["method"] for part in both} == {"manual"}
    assert {part["gateway"] for part in both} == set(CARD.gateways)
    return {part["address1"].partition(",")[0] for part in both}


def of_ifcfg(text: str) -> set[str]:
    pairs = dict(line.split("=", 1) for line in text.splitlines() if "=" in line)
    values = {key: value.strip('"') for key, value in pairs.items()}
    assert values["HWADDR"].lower() == CARD.mac
    assert (values["BOOTPROTO"], values["DNS1"]) == ("none", "192.0.2.53")
    assert {values["GATEWAY"], values["IPV6_DEFAULTGW"]} == set(CARD.gateways)
    return {f"{values['IPADDR']}/{values['PREFIX']}", values["IPV6ADDR"]}


def of_interfaces(text: str) -> set[str]:
    assert "iface lo inet loopback" in text
    assert text.count("gateway 192.0.2.1\n") == 1
    found = [line.split()[1] for line in text.splitlines() if line.strip().startswith("address ")]
    return set(found)


SERVICES: dict[str, tuple[dict[str, str], str, Callable[[str], set[str]]]] = {
    "netplan": (
        {"/usr/sbin/netplan": "", "/etc/netplan/50-cloud-init.yaml": "network: {version: 2}\n"},
        "/etc/netplan/60-zeroseal-clone.yaml", of_netplan,
    ),
    "systemd-networkd": (
        {f"{ENABLED}/systemd-networkd.service": "-> /x",
         "/usr/lib/systemd/system/systemd-networkd.service": UNIT},
        "/etc/systemd/network/05-zeroseal-clone.network", of_networkd,
    ),
    "NetworkManager": (
        {f"{ENABLED}/NetworkManager.service": "-> /x",
         "/usr/lib/systemd/system/NetworkManager.service": UNIT,
         "/etc/NetworkManager/system-connections/": ""},
        "/etc/NetworkManager/system-connections/zeroseal-clone.nmconnection", of_keyfile,
    ),
    "ifcfg": (
        {f"{ENABLED}/network.service": "-> /x",
         "/usr/lib/systemd/system/network.service": UNIT,
         "/etc/sysconfig/network-scripts/ifcfg-lo": "DEVICE=lo\n",
         "/etc/sysconfig/network-scripts/ifcfg-eth0": "DEVICE=eth0\nBOOTPROTO=dhcp\n"},
        "/etc/sysconfig/network-scripts/ifcfg-zeroseal-clone", of_ifcfg,
    ),
    "ifupdown": (
        {f"{ENABLED}/networking.service": "-> /x",
         "/usr/lib/systemd/system/networking.service": UNIT, "/sbin/ifup": "",
         "/etc/network/interfaces": "auto lo eth0\niface lo inet loopback\niface eth0 inet dhcp\n"},
        "/etc/network/interfaces", of_interfaces,
    ),
}  # fmt: skip


@pytest.mark.parametrize("service", SERVICES)
def test_who_a_clone_is_can_stand_in_its_disk(tmp_path: Path, service: str) -> None:
    tree, path, addresses_of = SERVICES[service]
    base = {key: value for key, value in BARE_GUEST.items() if "/etc/systemd" not in key}
    zone = {"/usr/share/zoneinfo/Europe/Dublin": "TZif2", "/etc/sudoers.d/": ""}
    disk = make_guest_volume(tmp_path, base | zone | tree)
    account = SeedAccount("deckhand", "Deck Hand", (KEY,), "$2b$10$hash", admin=True)
    seed = Seed(
        "i-1", "north", "saltmarsh.example", (account,), "$2b$10$root", CARD,
        time_zone="Europe/Dublin", locale="en_IE.UTF-8",
        files=(SeedFile("/srv/pier/conf", b"pier = 3\n", 0o640),),
    )  # fmt: skip
    told = write_identity(disk, seed, NOW)
    judge_ext(disk)

    def cat(name: str) -> str:
        return run("debugfs", "-R", f"cat {name}", disk)

    assert f"network: {path} ({service})" in told
    assert addresses_of(cat(path)) == set(CARD.addresses)
    assert cat("/etc/hostname") == "north\n"
    assert "127.0.1.1 north.saltmarsh.example north\n" in cat("/etc/hosts")
    assert KEY in cat("/home/deckhand/.ssh/authorized_keys")
    assert "deckhand:$2b$10$hash:" in cat("/etc/shadow")
    assert "root:$2b$10$root:" in cat("/etc/shadow")
    assert cat("/srv/pier/conf") == "pier = 3\n"
    assert "LANG=en_IE.UTF-8" in cat("/etc/locale.conf")
    assert "Europe/Dublin" in run("debugfs", "-R", "stat /etc/localtime", disk)
    rights = run("debugfs", "-R", "stat /etc/sudoers.d/90-zeroseal-clone", disk)
    assert "Mode:  0440" in rights
    for gone in ("/etc/netplan/50-cloud-init.yaml", "/etc/sysconfig/network-scripts/ifcfg-eth0"):
        assert cat(gone) == ""


# -- disks


def partition_end(raw: Path, number: int) -> int:
    return int(run("sgdisk", "-i", str(number), raw).split("Last sector:")[1].split()[0])


@pytest.mark.parametrize("linked", [False, True])
@pytest.mark.parametrize("grow_last", [False, True])
def test_a_larger_disk_has_its_table_at_its_end_and_the_guest_its_room(
    template: Template, tmp_path: Path, linked: bool, grow_last: bool
) -> None:
    clone = make(
        template, Yard(tmp_path / "yard"), "north",
        linked=linked, disk_size="96M", grow_last=grow_last,
    )[0]  # fmt: skip
    judge_qcow2(clone.disk)
    raw = to_raw(clone.disk, tmp_path / "r.raw")
    assert raw.stat().st_size == 96 << 20
    assert "No problems found" in run("sgdisk", "-v", raw)
    before = to_raw(template.disk, tmp_path / "t.raw")
    end = partition_end(raw, 2)
    assert (end > (94 << 20) // 512) if grow_last else (end == partition_end(before, 2))
    judge_ext(cut_partition(raw, 2, tmp_path / "root.ext4"))


def test_a_physical_volume_on_the_last_partition_grows_with_it(tmp_path: Path) -> None:
    from zeroseal.filesystems.drivers import recognise
    from zeroseal.images.in_place import InPlaceChange
    from zeroseal.volumes.gpt import move_backup
    from zeroseal.volumes.grow import grow_last_partition

    raw = tmp_path / "d.raw"
    with lvm_disk(raw, 40) as disk:
        disk.create("tide", 16)
        put(raw, disk.places("tide"), b"tide" * (4 << 20))
        extents = disk.call("vgs", "--noheadings", "-o", "vg_extent_count,vg_seqno").split()
    with raw.open("r+b") as file:
        file.truncate(128 << 20)
    with InPlaceChange(raw) as change:
        move_backup(change.image)
        assert grow_last_partition(change.image, recognise) == "partition 1"
        change.commit()
    assert "No problems found" in run("sgdisk", "-v", raw)
    device = run(
        "losetup", "--show", "-f", "-o", str(1 << 20), "--sizelimit", str(126 << 20), raw
    ).strip()
    from tests.lvm import LvmDisk

    grown = LvmDisk(raw, {device: 1 << 20})
    try:
        count, seqno = grown.call("vgs", "--noheadings", "-o", "vg_extent_count,vg_seqno").split()
        assert (int(count), int(seqno)) == (124, int(extents[1]) + 1)
        assert int(extents[0]) == 38
        assert grown.call("pvck", device) is not None
        grown.create("late", 80)
        assert len(grown.places("late")) == 1
    finally:
        run("losetup", "-d", device)
    with opened_image(raw) as image:
        (tide,) = [item for item in read_disk(image).volumes if item.name == "tide-vg/tide"]
        assert tide.store.read(0, 4 << 20) == b"tide" * (1 << 20)


@pytest.mark.parametrize("name", ["raw", "vmdk", "vhdx", "vdi", "vhd"])
def test_a_full_clone_comes_in_any_container(template: Template, tmp_path: Path, name: str) -> None:
    clone = make(template, Yard(tmp_path / "yard"), "north", format_name=name)[0]
    assert clone.disk.name == f"disk.{name}"
    run("qemu-img", "compare", "-f", {"vhd": "vpc"}.get(name, name), clone.disk, template.disk)


@pytest.mark.parametrize("absolute", [False, True])
def test_a_linked_clone_names_its_template_and_tells_when_that_is_lost_or_changed(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command, absolute: bool
) -> None:
    yard = tmp_path / "yard"
    more = ("--absolute",) if absolute else ()
    made = zeroseal(
        "clone", "gangway", "--name", "north", "--linked", "--to", yard, "--shelf", shelf.folder,
        *more,
    )  # fmt: skip
    assert made.status == 0, made.err
    disk = yard / "north/disk.qcow2"
    named = str(image_info(disk)["backing-filename"])
    assert Path(named).is_absolute() == absolute
    good = zeroseal("check", disk, "--level", "full")
    assert "which is unchanged since it was sealed (level quick)" in words(good.out)
    template.disk.chmod(0o644)
    kept = tmp_path / "kept"
    shutil.copy(template.disk, kept)
    run("qemu-io", "-c", "write -P 7 9M 64k", template.disk)
    changed = zeroseal("check", disk)
    assert (changed.status, changed.out[:7]) == (1, "UNKNOWN")
    assert "was changed after it was sealed" in words(changed.out)
    refused = zeroseal("clone", "gangway", "--name", "b", "--to", yard, "--shelf", shelf.folder)
    assert (refused.status, "only a sealed template can be cloned" in refused.err) == (4, True)
    template.disk.unlink()
    lost = zeroseal("check", disk)
    assert (lost.status, "needs its backing file" in lost.err) == (3, True)
    shutil.move(kept, template.disk)
    assert zeroseal("clone", "--make-full", "north", "--to", yard).status == 0
    template.disk.unlink()
    assert "backing-filename" not in image_info(disk)
    judge_qcow2(disk)


# -- after the fact


def test_a_clone_is_held_against_its_sheet(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    sheet, yard = tmp_path / "s.toml", Yard(tmp_path / "yard")
    text = (
        'version = 1\n[[clone]]\nname = "north"\nhost_name = "gate"\ndomain = "saltmarsh.example"\n'
        'disk_size = "64M"\naddresses = ["192.0.2.9/24"]\ngateways = ["192.0.2.1"]\n'
        'memory_mib = 768\ntime_zone = "Europe/Dublin"\n[[clone.users]]\nname = "ops"\n'
        f'public_keys = ["{KEY}"]\n'
    )
    sheet.write_text(text)
    source = CloneSource(template.disk, template.entry.title, template)
    wishes = load_clone_sheet(sheet, Secrets()).wishes
    make_clones(CloneBatch(source, wishes, NOW, grow_last=True), yard, shelf)
    disk = yard.get("north").disk

    def answers(*more: str) -> tuple[int, dict[str, bool]]:
        found = zeroseal("check", disk, "--as", sheet, "--json", *more)
        items = json.loads(found.out)["answers"]
        return found.status, {item["what"]: item["isGood"] for item in items}

    status, before = answers()
    assert (status, before["host name"], before["disk"]) == (1, False, True)  # not started yet
    start(yard, "north", NOW + 60)
    status, after = answers()
    assert (status, [what for what, good in after.items() if not good]) == (0, [])
    assert {"host name", "domain", "account", "key of ops", "address", "disk"} <= set(after)
    assert {"time zone", "memory", "room of partition 2"} <= set(after)
    assert yard.get("north").state.address == "192.0.2.9"
    assert after["password of ops"]  # none was asked for, and none is there
    machine = yard.get("north")
    write_definition(machine.folder, replace(machine.definition, host="qemu"))
    # a real host's guest would have grown it; the simulated one does not, and that is seen
    status, real = answers()
    assert [what for what, good in real.items() if not good] == ["root file system"]
    write_definition(machine.folder, machine.definition)
    sheet.write_text(text.replace("192.0.2.9/24", "192.0.2.8/24").replace("768", "512"))
    status, wrong = answers()
    assert status == 1
    assert [what for what, good in wrong.items() if not good] == ["address", "memory"]
    shown = zeroseal("check", disk, "--as", sheet).out
    assert shown.startswith("NOT AS ASKED  north: 2 of 10 settings")
    sheet.write_text(text)
    told = zeroseal("check", disk, "--as", sheet).out
    assert "zeroseal yard detach north" in told
    stop(yard, "north", NOW + 90)
    assert zeroseal("yard", "detach", "north", "--yard", yard.folder).status == 0
    assert not (disk.parent / "seed.iso").exists()
    again = zeroseal("yard", "detach", "north", "--yard", yard.folder)
    assert (again.status, "has no seed medium" in again.err) == (3, True)
    sheet.write_text(text.replace("north", "south"))
    other = zeroseal("check", disk, "--as", sheet)
    assert (other.status, "has no row for north; its rows are south" in other.err) == (2, True)


def test_definitions_for_other_hosts_lie_beside_each_disk_or_nothing_is_made(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    yard, at = tmp_path / "yard", ("--shelf", shelf.folder)
    forms = ("--definition", "domain", "--definition", "ovf")
    refused = zeroseal("clone", "gangway", "--name", "a", "--linked", "--to", yard, *forms, *at)
    assert (refused.status, "but OVF describes complete disks" in refused.err) == (2, True)
    assert not yard.exists()
    assert zeroseal("clone", "gangway", "--name", "north", "--to", yard, *forms, *at).status == 0
    folder = yard / "north"
    machine = Yard(yard).get("north").definition
    need("xmllint")
    run(
        "xmllint", "--noout", "--relaxng", "/usr/share/libvirt/schemas/domain.rng",
        folder / "domain.xml",
    )  # fmt: skip
    domain = (folder / "domain.xml").read_text()
    assert domain.count("cdrom") == 0
    for part in (machine.mac, machine.uuid, str(folder / "disk.qcow2"), str(folder / "seed.iso")):
        assert part in domain
    assert "org.qemu.guest_agent.0" in domain
    assert "<serial" in domain
    ovf = (folder / "machine.ovf").read_text()
    for part in (machine.mac, machine.uuid, 'ovf:href="disk.qcow2"', 'ovf:href="seed.iso"'):
        assert part in ovf
    for name in ("domain.xml", "machine.ovf"):
        adopted = zeroseal(
            "yard", "adopt", folder / "disk.qcow2", "--machine", folder / name,
            "--name", "again", "--yard", tmp_path / name, "--json",
        )  # fmt: skip
        assert adopted.status == 0, adopted.err
        assert json.loads(adopted.out)["definition"]["adapters"][0]["mac"] == machine.mac


def test_passwords_packages_and_commands_are_read_back(tmp_path: Path, zeroseal: Command) -> None:
    """By the hash that is there, dpkg's list, and what cloud-init keeps of its instance."""
    hashed = bcrypt.hashpw(b"tideline", bcrypt.gensalt(4)).decode()
    tree = BARE_GUEST | {
        "/etc/shadow": f"root:{hashed}:1::::::\nops:$6$other$hash:1::::::\nquay:!:1::::::\n",
        "/etc/passwd": "root:x:0:0::/root:/bin/sh\nops:x:1000:1000::/home/ops:/bin/sh\n"
        "quay:x:1001:1001::/home/quay:/bin/sh\n",
        "/var/lib/dpkg/status": "Package: tides\nStatus: install ok installed\nVersion: 1\n\n",
        "/var/lib/cloud/instance/scripts/runcmd": "#!/bin/sh\ntide-enrol\n",
    }
    disk = make_guest_volume(tmp_path, tree)
    (tmp_path / "machine.toml").write_text(
        "version = 2\nname = 'north'\nuuid = '4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10'\n"
        "disk = 'guest.img'\n[[adapters]]\nmac = '02:5a:17:00:00:41'\n"
    )
    sheet = tmp_path / "s.toml"
    sheet.write_text(
        'version = 1\n[[clone]]\nname = "north"\nroot_password = "${secret:root}"\n'
        'packages = ["tides", "quays"]\ncommands = ["tide-enrol", "tide-late"]\n'
        '[[clone.users]]\nname = "ops"\npassword = "${secret:ops}"\n'
        '[[clone.users]]\nname = "quay"\n'
    )
    secrets = tmp_path / "secrets.toml"
    secrets.write_text("root = 'tideline'\nops = 'tideline'\n")
    secrets.chmod(0o600)
    words = ("check", disk, "--as", sheet, "--secrets", secrets)
    items = json.loads(zeroseal(*words, "--json").out)["answers"]
    found = {(item["what"], item["asked"]): item["isGood"] for item in items}
    assert {key: good for key, good in found.items() if key[0] not in ("host name", "account")} == {
        ("password of root", "as asked"): True,
        ("password of ops", "as asked"): False,
        ("password of quay", "none"): True,
        ("package", "tides"): True,
        ("package", "quays"): False,
        ("command", "tide-enrol"): True,
        ("command", "tide-late"): False,
    }
    assert "$2b$" not in zeroseal(*words).out


def test_a_started_clone_is_a_machine_of_its_own(
    shelf: Shelf, template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    sheet, yard = tmp_path / "s.toml", Yard(tmp_path / "yard")
    rows = "".join(f'[[clone]]\nname = "{name}"\n' for name in ("north", "south"))
    sheet.write_text("version = 1\n[every]\nnew_volume_ids = true\nlinked = true\n" + rows)
    source = CloneSource(template.disk, template.entry.title, template)
    make_clones(CloneBatch(source, load_clone_sheet(sheet, Secrets()).wishes, NOW), yard, shelf)
    accept = tmp_path / "gate.toml"
    accept.write_text(
        'version = 1\n[machine]\nname = "gate"\n[origin]\nbase_disk = "s.toml"\n'
        f'sha256 = "{64 * "0"}"\n'
        '[accept]\nservices = ["sshd.service", "tide.service"]\n'
    )
    disk = yard.get("north").disk

    def answers(*more: str | Path) -> tuple[int, dict[str, str]]:
        found = zeroseal("check", disk, "--as", sheet, "--started", "--json", *more)
        items = json.loads(found.out)["answers"]
        return found.status, {item["what"]: item["found"] for item in items if not item["isGood"]}

    status, before = answers()
    assert (status, before["machine ID"], before["SSH host key"]) == (1, "", "")
    for name in ("north", "south"):
        start(yard, name, NOW + 60)
        stop(yard, name, NOW + 90)
    assert answers() == (0, {})
    assert list(answers("--accept", accept)[1]) == ["service tide.service"]
    told = zeroseal("check", disk, "--as", sheet, "--started").out
    assert "shared with gangway@2026-11" in told
    # a twin by hand is found out
    shutil.copyfile(disk, yard.get("south").disk)
    status, twin = answers()
    assert status == 1
    assert "SSH host key" in twin["shared with south"]
    assert "volume UUID" in twin["shared with south"]
    wrong = zeroseal("check", disk, "--started")
    assert (wrong.status, "--started goes with --as SHEET" in wrong.err) == (2, True)
    yard.get("south").disk.write_bytes(b"not a disk")
    assert "not compared: " in answers()[1]["shared with south"]
