"""What a guest's files say of packages, kernels, services and addresses, and what follows."""

from __future__ import annotations

import subprocess
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_guest_volume
from tests.oracles import need
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.failures import failed_on_console, read_failed_services
from zeroseal.guests.linux.kernels import default_kernel, newest_first
from zeroseal.guests.linux.packages import (
    changed_packages,
    pending_updates,
    read_packages,
    set_package_version,
    version_key,
    versions_of,
)
from zeroseal.guests.linux.static_addresses import find_static_addresses
from zeroseal.images.detect import open_image
from zeroseal.sealing.inspection import Inspection

CHOICES = ("--expect-seed", "--plant-first-boot")
STATUS = (
    "Package: tide\nStatus: install ok installed\nPriority: optional\nDescription: a tide\n"
    " Version: not here\nVersion: 1.4-2\n\n"
    "Package: ebb\nStatus: install ok half-configured\nVersion: 2:0.9~rc1-1\n\n"
    "Package: gone\nStatus: deinstall ok config-files\nVersion: 1\n\n"
)


class Opened:
    """A guest volume with these files, opened for reading."""

    def __init__(self, folder: Path, files: dict[str, str]) -> None:
        self.path = make_guest_volume(folder, BARE_GUEST | files)
        self.image = open_image(self.path)

    def __enter__(self) -> Guest:
        return Inspection.read(self.image).guest

    def __exit__(self, *_error: object) -> None:
        self.image.close()


def test_installed_packages_are_read_from_dpkg_apk_and_pacman(tmp_path: Path) -> None:
    files = {
        "/var/lib/dpkg/status": STATUS,
        "/lib/apk/db/installed": "C:Q1x=\nP:musl\nV:1.2.4-r2\nA:x86_64\n\nP:flood\nV:3\n",
        "/var/lib/pacman/local/quay-5-1/desc": "%NAME%\nquay\n\n%VERSION%\n5-1\n\n%BASE%\nq\n",
    }
    with Opened(tmp_path, files) as guest:
        found = read_packages(guest)
        assert versions_of(found) == {
            "ebb": "2:0.9~rc1-1", "flood": "3", "musl": "1.2.4-r2", "quay": "5-1", "tide": "1.4-2",
        }  # fmt: skip
        assert [package.name for package in found if package.is_half_installed] == ["ebb"]
        raised = set_package_version(guest, "tide", "2.0").decode()
        assert "Version: 2.0\n" in raised
        assert raised.count("Package: ") == 3
        assert set_package_version(guest, "new", "1").decode().count("Package: ") == 4


def test_changes_between_two_lists_are_told_in_a_line_each() -> None:
    before = {"tide": "1", "ebb": "2", "old": "3"}
    after = {"tide": "1", "ebb": "2.1", "new": "1"}
    assert changed_packages(before, after) == ["ebb 2 -> 2.1", "new 1 added", "old 3 removed"]
    assert changed_packages(after, after) == []


VERSION_PARTS = st.lists(
    st.sampled_from(["1", "2", "10", "09", "a", "b", "Z", "~", "+", ".", "rc", "~~", "dfsg"]),
    min_size=1,
    max_size=6,
).map("".join)
VERSIONS = st.builds(
    lambda epoch, upstream, revision: f"{epoch}1{upstream}{revision}",
    st.sampled_from(["", "0:", "1:", "2:"]),
    VERSION_PARTS,
    st.sampled_from(["", "-1", "-2~bpo1", "-1+b2", "-0ubuntu3"]),
)


@given(st.lists(VERSIONS, min_size=2, max_size=8))
def test_versions_are_ordered_as_dpkg_orders_them(versions: list[str]) -> None:
    need("dpkg")
    for low, high in pairwise(sorted(versions, key=version_key)):
        done = subprocess.run(["dpkg", "--compare-versions", low, "le", high], check=False)
        assert done.returncode == 0, (low, high)


def test_pending_updates_are_told_with_the_day_of_the_lists(
    tmp_path: Path, zeroseal: Command
) -> None:
    lists = {
        "/var/lib/dpkg/status": STATUS.replace("half-configured", "installed"),
        "/var/lib/apt/lists/main_Packages": "Package: tide\nSection: sea\nVersion: 1.4-10\n\n"
        "Package: ebb\nVersion: 2:0.9~rc1-1\n\nPackage: never\nVersion: 9\n",
        "/var/lib/apt/lists/security_Packages": "Package: ebb\nVersion: 2:0.9-1\n",
    }
    with Opened(tmp_path, lists) as guest:
        pending = pending_updates(guest)
        assert pending is not None
        assert pending.names == ["ebb", "tide"]
    surveyed = zeroseal("survey", tmp_path / "guest.img", "--as-if", *CHOICES)
    assert "can be updated according to the package lists of" in surveyed.out
    (tmp_path / "b").mkdir()
    newest = lists["/var/lib/dpkg/status"].replace("1.4-2", "1.4-10").replace("0.9~rc1", "0.9")
    with Opened(tmp_path / "b", lists | {"/var/lib/dpkg/status": newest}) as guest:
        pending = pending_updates(guest)
        assert pending is not None
        assert pending.names == []
    surveyed = zeroseal("survey", tmp_path / "b/guest.img", "--as-if", *CHOICES)
    assert "Every package is up to date" in surveyed.out
    (tmp_path / "c").mkdir()
    with Opened(tmp_path / "c", {}) as guest:
        assert pending_updates(guest) is None


def test_half_installed_packages_stop_a_seal(tmp_path: Path, zeroseal: Command) -> None:
    image = make_guest_volume(tmp_path, BARE_GUEST | {"/var/lib/dpkg/status": STATUS})
    answer = zeroseal("seal", image, "-o", tmp_path / "o.img", *CHOICES)
    assert answer.status == 4
    assert "packages are only partly installed" in answer.err
    assert zeroseal("survey", image, "--as-if", *CHOICES).status == 1


def test_kernels_are_told_where_an_older_one_boots(tmp_path: Path, zeroseal: Command) -> None:
    files = {f"/boot/vmlinuz-{name}": "kernel" for name in ("6.1.0-9", "6.1.0-10", "5.10.0-30")}
    files["/boot/grub/grub.cfg"] = (
        "set default=0\nmenuentry 'Tide' {\n  linux /boot/vmlinuz-6.1.0-9 root=UUID=1 ro\n}\n"
        "menuentry 'Old' {\n  linux /boot/vmlinuz-5.10.0-30 ro\n}\n"
    )
    with Opened(tmp_path, files | {"/boot/vmlinuz-0-rescue-77": "r"}) as guest:
        assert newest_first(guest) == ["6.1.0-10", "6.1.0-9", "5.10.0-30"]
        assert default_kernel(guest) == "6.1.0-9"
    told = " ".join(zeroseal("survey", tmp_path / "guest.img", "--as-if", *CHOICES).out.split())
    assert "The kernel 6.1.0-9 boots by default, although 6.1.0-10 is installed." in told
    assert "3 kernels are installed; the older ones are 6.1.0-9, 5.10.0-30." in told


STATIC = {
    "/etc/network/interfaces": (
        "auto lo\niface lo inet loopback\niface eth0 inet static\n  address 192.0.2.9/24\n"
        "  gateway 192.0.2.1\niface eth1 inet dhcp\n  address 192.0.2.10\n",
        ["192.0.2.9/24"],
    ),
    "/etc/network/interfaces.d/v6": (
        "iface eth0 inet6 static\naddress 2001:db8::9/64\n", ["2001:db8::9/64"],
    ),
    "/etc/systemd/network/20-pier.network": (
        "[Match]\nName=en*\n[Network]\nAddress = 192.0.2.11/24\nAddress=127.0.0.5/8\n",
        ["192.0.2.11/24"],
    ),
    "/etc/netplan/01-pier.yaml": (
        "network:\n  version: 2\n  ethernets:\n    eth0:\n      addresses: [192.0.2.12/24]\n"
        "      nameservers: {addresses: [192.0.2.53]}\n",
        ["192.0.2.12/24"],
    ),
    "/etc/NetworkManager/system-connections/pier.nmconnection": (
        "[connection]\nid=pier\n[ipv4]\nmethod=manual\naddress1=192.0.2.13/24,192.0.2.1\n"
        "dns=192.0.2.53;\n",
        ["192.0.2.13/24"],
    ),
    "/etc/sysconfig/network-scripts/ifcfg-eth0": (
        'DEVICE=eth0\nBOOTPROTO=none\nIPADDR="192.0.2.14"\nPREFIX=24\n', ["192.0.2.14"],
    ),
}  # fmt: skip


def test_static_addresses_are_found_in_every_format(tmp_path: Path) -> None:
    with Opened(tmp_path, {path: text for path, (text, _found) in STATIC.items()}) as guest:
        assert dict(find_static_addresses(guest)) == {
            path: found for path, (_text, found) in STATIC.items()
        }
    (tmp_path / "b").mkdir()
    harmless = {
        "/etc/network/interfaces": "iface eth0 inet dhcp\n",
        "/etc/netplan/02.yaml": ": [broken",
        "/etc/NetworkManager/system-connections/x": "no section\n",
        "/etc/systemd/network/30-a.network": "[Network]\nDHCP=yes\nAddress=\n",
        "/etc/sysconfig/network-scripts/ifcfg-lo": "IPADDR=127.0.0.1\n",
    }
    with Opened(tmp_path / "b", harmless) as guest:
        assert list(find_static_addresses(guest)) == []


@pytest.mark.parametrize("path", list(STATIC))
def test_a_static_address_stops_a_seal_unless_it_is_allowed(
    tmp_path: Path, zeroseal: Command, path: str
) -> None:
    text, found = STATIC[path]
    image = make_guest_volume(tmp_path, BARE_GUEST | {path: text})
    refused = zeroseal("seal", image, "-o", tmp_path / "o.img", *CHOICES)
    assert refused.status == 4
    assert f"{path} gives the machine the static address {found[0]}" in refused.err
    words = (*CHOICES, "--allow-static-address")
    assert zeroseal("seal", image, "-o", tmp_path / "o.img", *words).status == 0


def test_services_that_failed_are_read_from_journal_log_and_console(tmp_path: Path) -> None:
    journal = (
        "LPKSHHRH\0\0MESSAGE=Failed to start tide.service - The tide.\0\0PRIORITY=3\0"
        "MESSAGE=Started ebb.service.\0MESSAGE=Failed to start flood.\0"
    )
    files = {
        "/var/log/journal/0123456789abcdef0123456789abcdef/system.journal": journal,
        "/var/log/syslog": "Nov 23 pier systemd[1]: Failed to start quay.service - The quay.\n"
        "Nov 23 pier app[7]: Failed to start something of its own.\n",
    }
    with Opened(tmp_path, files) as guest:
        assert read_failed_services(guest) == [
            "flood", "quay.service - The quay", "tide.service - The tide",
        ]  # fmt: skip
    lines = ["[  OK  ] Started a.", "[FAILED] Failed to start tide.service - The tide.", ""]
    assert failed_on_console(lines) == ["tide.service - The tide"]


def test_hints_are_told_and_do_not_stop_a_seal(tmp_path: Path, zeroseal: Command) -> None:
    files = BARE_GUEST | {"/usr/sbin/sshd": "x", "/var/run/reboot-required": ""}
    image = make_guest_volume(tmp_path, files)
    surveyed = zeroseal("survey", image, "--as-if", *CHOICES)
    told = " ".join(surveyed.out.split())
    assert surveyed.status == 0
    for sentence in (
        "No guest agent is installed",
        "The SSH server is installed but not enabled",
        "requested a restart that has not taken place",
    ):
        assert sentence in told
