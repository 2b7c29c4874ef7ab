"""Machines on a real libvirt, whose daemons the tests start: states, refusals, nothing left there.

As root both daemons start without systemd: ``virtlogd -d`` keeps the consoles, ``libvirtd -d``
answers. The package is installed beside the tests where it is not there: it is no part of the
extras that tests bring, because it is compiled against libvirt's headers.
"""

from __future__ import annotations

import fcntl
import importlib
import json
import os
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

from tests.conftest import Command
from tests.long import only_long
from tests.oracles import need, run
from zeroseal.errors import HostError, MissingError, RefusedError
from zeroseal.images.facts import read_image_facts
from zeroseal.images.qcow2.overlay import make_overlay
from zeroseal.machines.definition import (
    MachineDefinition,
    NetworkCard,
    new_mac,
    new_uuid,
    write_definition,
)
from zeroseal.machines.hosts.choose import host_of
from zeroseal.machines.hosts.libvirt.domain import Start, build_start
from zeroseal.machines.hosts.qemu.programs import Firmware
from zeroseal.machines.yard import Yard
from zeroseal.progress import quiet

pytestmark = [pytest.mark.real_guest, pytest.mark.qemu]

SCHEMA = Path("/usr/share/libvirt/schemas/domain.rng")  # package libvirt0
CONNECTION = "qemu:///system"


@pytest.fixture(scope="session")
def libvirt(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    """The package, with daemons that answer; one worker at a time."""
    need("libvirtd", "virtlogd", "qemu-system-x86_64")
    if os.geteuid() != 0:
        pytest.skip("needs root to start libvirt's daemons")
    base = tmp_path_factory.getbasetemp()
    shared = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    with (shared / "libvirt.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        package = _import(shared)
        for daemon, name in (("virtlogd", "virtlogd-sock"), ("libvirtd", "libvirt-sock")):
            if not _answers(name):
                subprocess.run([daemon, "-d"], check=True)
        for _ in range(100):
            if _answers("libvirt-sock"):
                break
            time.sleep(0.1)
        yield package


def _answers(name: str) -> bool:
    """Whether a daemon listens; a socket may be left of one that was killed."""
    with socket.socket(socket.AF_UNIX) as probe:
        return probe.connect_ex(f"/run/libvirt/{name}") == 0


def _import(shared: Path) -> Any:
    try:
        return importlib.import_module("libvirt")
    except ModuleNotFoundError:
        folder = shared / "libvirt-python"
        words = [sys.executable, "-m", "pip", "install", "--quiet", "--target", str(folder)]
        done = subprocess.run([*words, "libvirt-python>=9"], check=False)
        if done.returncode and not os.environ.get("CI"):
            pytest.skip("could not install libvirt-python: no headers of libvirt?")
        assert done.returncode == 0
        sys.path.insert(0, str(folder))
        os.environ["PYTHONPATH"] = str(folder)
        return importlib.import_module("libvirt")


def make(yard: Yard, name: str, disk: Path, **more: Any) -> None:
    with yard.new_machine(name) as folder:
        facts = read_image_facts(disk)
        make_overlay(folder / "disk.qcow2", facts.size_bytes, str(disk), "qcow2")
        definition = MachineDefinition(
            name=name, uuid=new_uuid(), disk="disk.qcow2", adapters=(NetworkCard(new_mac([])),),
            host="libvirt", connection=CONNECTION, memory_mib=256, firmware="bios", **more,
        )  # fmt: skip
        write_definition(folder, definition)


@pytest.fixture
def open_disk(debian: Path) -> Path:
    """A disk that libvirt's own user reaches: folders of tests are for their owner alone."""
    target = Path("/var/tmp") / f"zeroseal-libvirt-{os.getpid()}.qcow2"
    shutil.copyfile(debian, target)
    target.chmod(0o644)
    return target


@pytest.fixture
def yard(open_disk: Path) -> Iterator[Yard]:
    folder = Path("/var/tmp") / f"zeroseal-libvirt-{os.getpid()}"
    folder.mkdir(mode=0o755)
    try:
        yield Yard(folder)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
        open_disk.unlink(missing_ok=True)


def domains(libvirt: Any) -> dict[str, bool]:
    """All domains: name, and whether it runs."""
    connection = libvirt.open(CONNECTION)
    found = {item.name(): bool(item.isActive()) for item in connection.listAllDomains()}
    connection.close()
    return found


@only_long  # without KVM libvirt asks QEMU for its abilities at each start: half a minute
def test_a_machine_is_started_watched_and_stopped_and_nothing_stays(
    libvirt: Any, yard: Yard, open_disk: Path, zeroseal: Command
) -> None:
    make(yard, "pier", open_disk)
    words = ("--yard", yard.folder)
    started = zeroseal("yard", "start", "pier", *words)
    assert started.status == 0, started.err
    assert "libvirt runs it" in started.out
    assert domains(libvirt) == {"pier": True}
    host, machine = host_of(yard.get("pier"), yard, 0), yard.get("pier")
    for _ in range(300):
        if "Debian" in (machine.folder / "console.log").read_text("utf-8", "replace"):
            break
        time.sleep(0.2)  # until the boot loader shows its menu
    assert host.last_line(machine)
    assert host.is_running(machine)
    again = zeroseal("yard", "start", "pier", *words)
    assert (again.status, "already running" in again.err) == (4, True)
    told = json.loads(zeroseal("yard", "list", *words, "--json").out)["machines"]
    assert told[0]["running"]
    assert told[0]["definition"]["host"] == "libvirt"
    stopped = zeroseal("yard", "stop", "pier", *words, "--within", "2")
    assert stopped.status == 0, stopped.err
    assert "its power was cut" in stopped.out
    assert domains(libvirt) == {}
    assert (zeroseal("yard", "stop", "pier", *words)).status == 4
    assert not host.is_running(yard.get("pier"))


@only_long
def test_what_is_somebody_elses_stays_as_it_is(libvirt: Any, yard: Yard, open_disk: Path) -> None:
    make(yard, "quay", open_disk)
    connection = libvirt.open(CONNECTION)
    head = "<domain type='qemu'><name>quay</name><memory>65536</memory>"
    xml = f"{head}<os><type>hvm</type></os></domain>"
    theirs = connection.defineXML(xml)
    try:
        with pytest.raises(RefusedError, match="already has a domain quay"):
            host_of(yard.get("quay"), yard, 0).start(
                yard.get("quay"), is_bound=True, progress=quiet
            )
        assert domains(libvirt) == {"quay": False}
    finally:
        theirs.undefine()
        connection.close()
    assert not yard.get("quay").state.running


def test_what_cannot_be_reached_or_found_is_one_sentence(
    libvirt: Any, yard: Yard, open_disk: Path, zeroseal: Command, tmp_path: Path
) -> None:
    del libvirt
    make(yard, "lost", open_disk)
    machine = yard.get("lost")
    from zeroseal.machines.hosts.libvirt.host import LibvirtHost

    with pytest.raises(HostError, match=r"qemu\+unix.* refused: Failed to connect"):
        LibvirtHost(yard, "qemu+unix:///system?socket=/none").start(machine, is_bound=True)
    with pytest.raises(HostError, match=r"none:/// refused: no connection driver"):
        LibvirtHost(yard, "none:///").check_ready()
    (machine.folder / "disk.qcow2").rename(tmp_path / "disk.qcow2")
    with pytest.raises((HostError, MissingError)):
        LibvirtHost(yard, CONNECTION).start(machine, is_bound=True)

    wrong = zeroseal("trial", open_disk, "--host", "nowhere")
    assert wrong.status == 2


@only_long
def test_a_sealed_debian_is_tried_on_libvirt(
    libvirt: Any, yard: Yard, open_disk: Path, zeroseal: Command
) -> None:
    sealed = yard.folder / "sealed.qcow2"
    assert zeroseal("seal", open_disk, "-o", sealed, "--expect-seed").status == 0
    sealed.chmod(0o644)
    os.environ["LIBVIRT_DEFAULT_URI"] = CONNECTION
    answer = zeroseal("trial", sealed, "--host", "libvirt", "--json", "--within", "1500")
    told = json.loads(answer.out)
    assert {item["kind"]: item["good"] for item in told["regrowth"]}["machine ID"]
    assert all("a login over SSH worked" in item["messages"] for item in told["machines"])
    assert domains(libvirt) == {}


@pytest.mark.parametrize("firmware", ["bios", "uefi"])
def test_the_domain_of_a_start_is_as_libvirt_wants_it(
    tmp_path: Path, firmware: str, debian: Path
) -> None:
    """Judged by libvirt's own schema; what this start adds is in it."""
    need("xmllint")
    make_overlay(tmp_path / "disk.qcow2", 4 << 30, str(debian), "qcow2")
    definition = MachineDefinition(
        name="pier", uuid=new_uuid(), disk="disk.qcow2", firmware=firmware,
        adapters=(NetworkCard(new_mac([])), NetworkCard(new_mac([]), network="piers")),
    )  # fmt: skip
    given = Firmware(Path("/code.fd"), Path("/variables.fd")) if firmware == "uefi" else None
    start = Start(ssh_port=2222, firmware=given, accelerated=False, is_isolated=True)
    xml = build_start(tmp_path, definition, start)
    (tmp_path / "domain.xml").write_text(xml)
    run("xmllint", "--noout", "--relaxng", SCHEMA, tmp_path / "domain.xml")
    root = ElementTree.fromstring(xml)
    assert (root.get("type"), root.findtext("on_reboot")) == ("qemu", "restart")
    assert [item.get("type") for item in root.iterfind("devices/interface")] == ["network"]
    assert "hostfwd=tcp:127.0.0.1:2222-:22,restrict=on" in xml
    assert (root.find("os/loader") is not None) == (firmware == "uefi")
    log = root.find("devices/serial/log")
    assert log is not None
    assert log.get("file") == str(tmp_path / "console.log")


# -- domains that are taken in; libvirt's own test driver has domains and pools, and runs nothing

NODE = """\
<node><cpu><mhz>1000</mhz><model>x86_64</model><active>2</active><nodes>1</nodes><sockets>1</sockets>
<cores>2</cores><threads>1</threads></cpu><memory>8000000</memory>
<domain type='test'><name>pier</name><uuid>4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10</uuid>
<memory unit='MiB'>768</memory><vcpu>3</vcpu><os><type>hvm</type></os>
<cputune><shares>9</shares></cputune>
<devices><disk type='file' device='disk'><driver name='qemu' type='qcow2'/>
<source file='{disk}'/><target dev='vda' bus='virtio'/></disk>
<disk type='volume' device='disk'><source pool='piers' volume='tides'/>
<target dev='vdb' bus='virtio'/></disk>
<interface type='network'><mac address='02:5a:17:00:00:77'/><source network='quays'/></interface>
</devices></domain>
<domain type='test'><name>quay</name><memory>65536</memory><os><type>hvm</type></os></domain>
<network><name>quays</name></network>
<pool type='dir'><name>piers</name><target><path>{folder}</path></target></pool></node>
"""


@pytest.fixture
def test_node(libvirt: Any, tmp_path: Path, demo_disk: Path) -> str:
    """A connection with a domain of two disks, one of them a volume of a pool; all are on."""
    del libvirt
    shutil.copyfile(demo_disk, tmp_path / "root.qcow2")
    (tmp_path / "node.xml").write_text(
        NODE.format(disk=tmp_path / "root.qcow2", folder=tmp_path / "pool")
    )
    return f"test://{tmp_path}/node.xml"


def test_a_domain_that_is_off_is_taken_in_with_all_its_disks(
    test_node: str,
    tmp_path: Path,
    zeroseal: Command,
    monkeypatch: pytest.MonkeyPatch,
    demo_disk: Path,
) -> None:
    from zeroseal.machines.hosts.libvirt import adopting

    def open_off(name: str) -> Any:
        """The test driver starts what its file names."""
        opened = importlib.import_module("libvirt").open(name)
        for domain in opened.listAllDomains():
            domain.destroy()
        pool = opened.storagePoolLookupByName("piers")
        volume = "<volume><name>tides</name><capacity>1048576</capacity></volume>"
        made = pool.createXML(volume, 0)
        Path(made.path()).parent.mkdir(exist_ok=True)
        shutil.copyfile(demo_disk, made.path())
        return opened

    words = ("--connection", test_node, "--yard", tmp_path / "yard")
    runs = zeroseal("yard", "adopt", "--domain", "pier", *words)
    assert (runs.status, "the domain pier runs: shut it down first" in runs.err) == (4, True)
    monkeypatch.setattr(adopting, "open_connection", open_off)
    answer = zeroseal("yard", "adopt", "--domain", "pier", *words)
    assert answer.status == 0, answer.err
    machine = Yard(tmp_path / "yard").get("pier")
    definition = machine.definition
    assert (definition.host, definition.connection) == ("libvirt", test_node)
    assert (definition.cpus, definition.memory_mib, definition.mac) == (3, 768, "02:5a:17:00:00:77")
    assert definition.uuid == "4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10"
    assert any("<shares>9</shares>" in text for text in definition.kept_elements)
    for name in (definition.disk, *definition.more_disks):
        assert (machine.folder / name).read_bytes() == demo_disk.read_bytes()
    missing = zeroseal("yard", "adopt", "--domain", "gone", *words)
    assert missing.status == 3
    assert "has no domain 'gone'; it has pier, quay" in missing.err
    (tmp_path / "root.qcow2").unlink()
    elsewhere = zeroseal("yard", "adopt", "--domain", "pier", "--name", "again", *words)
    assert (elsewhere.status, "is not on this computer" in elsewhere.err) == (3, True)
    both = zeroseal("yard", "adopt", "x.qcow2", "--domain", "pier", *words)
    assert (both.status, "either an image" in both.err) == (2, True)


def test_a_domain_with_snapshots_is_refused_with_their_names(
    test_node: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    from zeroseal.machines.hosts.libvirt import adopting

    opened = importlib.import_module("libvirt").open(test_node)
    domain = opened.lookupByName("pier")
    domain.snapshotCreateXML("<domainsnapshot><name>before</name></domainsnapshot>", 0)
    domain.destroy()
    monkeypatch.setattr(adopting, "open_connection", lambda _name: opened)
    with pytest.raises(RefusedError, match=r"has snapshots \(before\), which keep earlier states"):
        adopting.read_domain(test_node, "pier")
