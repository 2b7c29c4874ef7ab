"""What a guest's settings say is never trusted: any text is read, and raises only our errors."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.plain.tree import PlainNode, PlainTree
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.linux.cloud_init import read_cloud_init
from zeroseal.guests.linux.host_key_files import iter_host_keys
from zeroseal.guests.linux.services import Services
from zeroseal.guests.linux.static_addresses import find_static_addresses, to_dhcp
from zeroseal.volumes.volume import Content, Volume

PLACES = (
    "etc/systemd/system/multi-user.target.wants/a.service", "etc/systemd/system/a.service",
    "etc/systemd/system/a.service.d/b.conf", "usr/lib/systemd/system/b@.service",
    "usr/lib/systemd/system/sockets.target.wants/b@x.service", "etc/cloud/cloud.cfg",
    "etc/cloud/cloud.cfg.d/9.cfg", "etc/ssh/sshd_config", "etc/netplan/1.yaml",
    "etc/network/interfaces", "etc/NetworkManager/system-connections/a",
    "etc/systemd/network/a.network", "etc/sysconfig/network-scripts/ifcfg-a", "etc/dhcpcd.conf",
)  # fmt: skip
WORDS = st.sampled_from([
    "[Unit]", "[Match]", "[ipv4]", "Wants=a.service b@y.service", "Condition", "PathExists=|!", "=",
    "User=a", "ExecStart=-/opt/x", "\\\n", "network:", "  ethernets:", "    a:", "addresses:",
    "- 192.0.2.9/24", "[192.0.2.9/24]", "{192.0.2.9/24: {label: a}}", "iface a inet static",
    "address 192.0.2.9", "address1=192.0.2.9/24", "Include", "HostKey /etc/ssh/k", "*", "&a [*a]",
    "IPADDR=192.0.2.9", "static ip_address=192.0.2.9/24", "datasource_list:", "\n", " ", "\t", "%i",
])  # fmt: skip
TEXTS = st.lists(WORDS | st.text(max_size=6), max_size=14).map("".join)


def guest_of(files: dict[str, str | None]) -> Guest:
    """A guest in memory; None makes a link that leads in a circle."""
    tree, folders = PlainTree("memory"), {"": 1}
    for path, text in files.items():
        folder = ""
        for part in path.split("/")[:-1]:
            below = f"{folder}/{part}"
            if below not in folders:
                node = PlainNode(Kind.FOLDER, 0o755, 0, 0, 0, 0)
                folders[below] = tree.add(folders[folder], part.encode(), node)
            folder = below
        name = path.rpartition("/")[2].encode()
        node = PlainNode(Kind.LINK, 0o777, 0, 0, 1, 0, target=name)
        if text is not None:
            content = text.encode("utf-8", "replace")
            node = PlainNode(Kind.FILE, 0o644, 0, 0, len(content), 0, content=content)
        tree.add(folders[folder], name, node)
    return Guest([Mount("/", Volume("files", 0, MemoryStore(b""), 0, Content("tree")), tree)])


@settings(max_examples=150, deadline=None)
@given(st.dictionaries(st.sampled_from(PLACES), TEXTS | st.none(), min_size=1))
def test_any_text_is_read_and_only_our_errors_are_raised(files: dict[str, str | None]) -> None:
    guest = guest_of(files)
    services = Services(guest)
    services.is_enabled("a.service")
    services.find_caller(["x"])
    list(services.iter_users())
    for read in (
        lambda: read_cloud_init(guest, services),
        lambda: list(iter_host_keys(guest)),
        lambda: rewritten(guest),
    ):
        try:
            read()
        except ZeroSealError as error:
            assert (
                "too many symbolic links" in error.message
            )  # a link in a circle is told as damage


def rewritten(guest: Guest) -> None:
    """What becomes DHCP gives no address any more, whatever it looked like."""
    for path, _addresses in list(find_static_addresses(guest)):
        text = to_dhcp(path, guest.read_text(path))
        again = guest_of({path.lstrip("/"): text})
        assert list(find_static_addresses(again)) == [], (path, text)
