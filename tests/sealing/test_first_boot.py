"""The planted script: its parts run by a real shell, what they write judged by other readers."""

from __future__ import annotations

import configparser
import subprocess
from pathlib import Path

import pytest

from zeroseal.blocks.store import MemoryStore
from zeroseal.filesystems.plain.tree import PlainNode, PlainTree
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.linux.network_files import FixedAddresses
from zeroseal.guests.linux.static_addresses import find_static_addresses
from zeroseal.machines.seed import Seed, SeedAccount
from zeroseal.sealing.linux import first_boot
from zeroseal.volumes.volume import Content, Volume

SCRIPT = Path(first_boot.__file__).with_suffix(".sh")
ADDRESSES = ("192.0.2.17/24", "2001:db8::17/64")
SEED = Seed(
    "i-1",
    "north",
    "saltmarsh.example",
    accounts=(
        SeedAccount("ada.brine", "Ada  Brine", ("ssh-ed25519 AAAA ada", "ssh-rsa BBBB ada"),
                    "$6$salt$hash", admin=True),
        SeedAccount("tom.kelp"),
    ),
    root_password_hash="$6$root$hash",
    network=FixedAddresses("02:5a:17:00:00:42", ADDRESSES, ("192.0.2.1",), ("192.0.2.3",)),
    time_zone="Europe/Lisbon",
)  # fmt: skip


def shell(folder: Path, commands: str) -> str:
    """Runs commands after the script's functions, with the guest's paths below a folder."""
    text = SCRIPT.read_text().partition("# -- all of it")[0]
    for place in ("/etc", "/usr/share/zoneinfo", "/run/zeroseal-seed"):
        text = text.replace(place, f"{folder}{place}")
    text = text.replace("PATH=/usr/sbin", f"PATH={folder}/bin:/usr/sbin")
    done = subprocess.run(
        ["sh", "-eu", "-c", text.replace("@TASKS@", "") + commands],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return done.stdout


@pytest.fixture
def root(tmp_path: Path) -> Path:
    """A guest's files as far as a seed changes them, with stand-ins for what needs a real one."""
    for name in ("etc/sudoers.d", "usr/share/zoneinfo/Europe", "run/zeroseal-seed", "home", "bin"):
        (tmp_path / name).mkdir(parents=True)
    (tmp_path / "usr/share/zoneinfo/Europe/Lisbon").write_text("zone")
    (tmp_path / "etc/passwd").write_text("root:x:0:0:root:/root:/bin/sh\n")
    (tmp_path / "etc/hosts").write_text("127.0.0.1 localhost\n")
    (tmp_path / "run/zeroseal-seed/first-boot").write_text(SEED.texts()["first-boot"])
    stubs = {
        "useradd": f"for name; do :; done; mkdir -p {tmp_path}/home/$name; "
        f'echo "$name:x:1001:1001::{tmp_path}/home/$name:/bin/sh" >> {tmp_path}/etc/passwd',
        "usermod": f'echo "$@" >> {tmp_path}/told',
        "chpasswd": f'[ "$1" = -e ]; cat >> {tmp_path}/passwords',
        "hostname": f'echo "$1" > {tmp_path}/running-name',
        "chown": f'echo "$@" >> {tmp_path}/owners',
        "umount": "true",
    }
    for name, body in stubs.items():
        (tmp_path / "bin" / name).write_text(f"#!/bin/sh\n{body}\n")
        (tmp_path / "bin" / name).chmod(0o755)
    return tmp_path


def test_a_seed_in_plain_lines_makes_name_accounts_keys_and_rights(root: Path) -> None:
    for _twice in range(2):  # a step that failed makes the whole run again
        shell(root, "open_seed() { :; }; set_addresses() { :; }; take_seed")
    assert (root / "etc/hostname").read_text() == "north\n"
    assert (root / "running-name").read_text() == "north\n"
    assert (root / "etc/hosts").read_text().splitlines() == [
        "127.0.0.1 localhost", "127.0.1.1 north.saltmarsh.example north",
    ]  # fmt: skip
    assert (root / "etc/localtime").resolve() == root / "usr/share/zoneinfo/Europe/Lisbon"
    assert (root / "etc/passwd").read_text().count("ada.brine") == 2  # its name and its home
    keys = root / "home/ada.brine/.ssh/authorized_keys"
    assert keys.read_text().splitlines() == ["ssh-ed25519 AAAA ada", "ssh-rsa BBBB ada"]
    assert keys.stat().st_mode & 0o777 == 0o600
    assert "1001:1001" in (root / "owners").read_text()
    rights = root / "etc/sudoers.d/90-zeroseal-seed"
    assert rights.read_text() == "ada.brine ALL=(ALL) NOPASSWD:ALL\n"
    assert rights.stat().st_mode & 0o777 == 0o440
    assert (root / "told").read_text().splitlines()[0] == "-c Ada Brine ada.brine"
    passwords = (root / "passwords").read_text().splitlines()
    for line in ("ada.brine:*", "ada.brine:$6$salt$hash", "tom.kelp:*", "root:$6$root$hash"):
        assert line in passwords
    assert not (root / "home/tom.kelp/.ssh").exists()


def guest_with(path: str, text: str) -> Guest:
    """A guest of one file, in memory."""
    tree, folder = PlainTree("memory"), 1
    *folders, name = path.strip("/").split("/")
    for part in folders:
        folder = tree.add(folder, part.encode(), PlainNode(Kind.FOLDER, 0o755, 0, 0, 0, 0))
    content = text.encode()
    node = PlainNode(Kind.FILE, 0o644, 0, 0, len(content), 0, content=content)
    tree.add(folder, name.encode(), node)
    return Guest([Mount("/", Volume("files", 0, MemoryStore(b""), 0, Content("tree")), tree)])


@pytest.mark.parametrize(
    ("function", "path"),
    [
        ("nm_profile", "/etc/NetworkManager/system-connections/a.nmconnection"),
        ("ifupdown_stanzas", "/etc/network/interfaces"),
        ("networkd_file", "/etc/systemd/network/05-a.network"),
    ],
)
def test_the_network_that_it_writes_says_what_the_seed_says(
    root: Path, function: str, path: str
) -> None:
    given = f'{function} eth7 "{" ".join(ADDRESSES)}" 192.0.2.1 192.0.2.3'
    text = shell(root, given)
    ((found, addresses),) = find_static_addresses(guest_with(path, text))
    assert found == path
    assert sorted(address.partition(",")[0] for address in addresses) == sorted(ADDRESSES)
    assert "192.0.2.1" in text
    whole = text + (root / "etc/resolv.conf").read_text() if "stanzas" in function else text
    assert "192.0.2.3" in whole
    dynamic = shell(root, f'{function} eth7 "" "" ""')
    assert list(find_static_addresses(guest_with(path, dynamic))) == []
    assert "eth7" in dynamic
    if function != "ifupdown_stanzas":
        configparser.ConfigParser(strict=False).read_string(text)


def test_a_profile_of_networkmanager_has_each_version_by_itself(root: Path) -> None:
    parser = configparser.ConfigParser()
    parser.read_string(shell(root, 'nm_profile eth7 "192.0.2.17/24" 192.0.2.1 192.0.2.3'))
    assert dict(parser["ipv4"]) == {
        "address1": "192.0.2.17/24", "method": "manual", "gateway": "192.0.2.1",
        "dns": "192.0.2.3;",
    }  # fmt: skip
    assert dict(parser["ipv6"]) == {"method": "auto"}


def test_a_step_is_told_and_kept_for_the_next_boot_when_it_fails(root: Path) -> None:
    text = SCRIPT.read_text()
    for place in ("/etc/", "/run/"):
        text = text.replace(place, f"{root}{place}")
    text = text.replace("PATH=/usr/sbin", f"PATH={root}/bin:/usr/sbin")
    own = root / "etc/zeroseal-first-boot"
    own.mkdir()
    (root / "etc/ssh").mkdir()
    keygen = root / "bin/ssh-keygen"
    keygen.write_text("#!/bin/sh\nexit 1\n")
    keygen.chmod(0o755)
    script = text.replace("@TASKS@", "make_host_keys")

    def boot() -> subprocess.CompletedProcess[str]:
        return subprocess.run(["sh", "-c", script], capture_output=True, text=True, check=False)

    failed = boot()
    assert failed.returncode == 1
    assert "make_host_keys failed" in failed.stdout
    assert own.exists()
    keygen.write_text(f"#!/bin/sh\ntouch {root}/etc/ssh/ssh_host_rsa_key\n")
    assert boot().stdout.splitlines()[-1] == "zeroseal-first-boot: done"
    assert (root / "etc/ssh/ssh_host_rsa_key").exists()
    assert not own.exists()
