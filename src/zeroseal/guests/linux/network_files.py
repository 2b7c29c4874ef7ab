"""Writing a card's addresses in the form of the guest's own network service.

Sources: netplan(5), systemd.network(5), nm-settings-keyfile(5), interfaces(5), and the ifcfg files
of initscripts. The card is named by its MAC wherever the format can say it.
"""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import ip_address, ip_interface

import yaml

from zeroseal.errors import RefusedError
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.services import Services
from zeroseal.messages import guests as messages

_HEAD = "# Written for this machine by Zero Seal.\n"
_NAME = "zeroseal-clone"
_ALL = {4: "0.0.0.0/0", 6: "::/0"}
_IFACE = re.compile(r"(?m)^\s*iface\s+(\S+)\s+inet6?\s+(?!loopback)\S+")
_INTERFACES = "/etc/network/interfaces"
_NEW_CARD_NAME = "lan0"


@dataclass(frozen=True)
class FixedAddresses:
    """Addresses of the card with this MAC, each with its prefix; without any, DHCP is asked."""

    mac: str
    addresses: tuple[str, ...]
    gateways: tuple[str, ...] = ()
    name_servers: tuple[str, ...] = ()
    search: tuple[str, ...] = ()

    def of_version(self, version: int) -> tuple[list[str], list[str], list[str]]:
        """(addresses, gateways, name servers) of one version of the protocol."""
        return (
            [item for item in self.addresses if ip_interface(item).version == version],
            [item for item in self.gateways if ip_address(item).version == version],
            [item for item in self.name_servers if ip_address(item).version == version],
        )


@dataclass(frozen=True)
class NetworkFiles:
    """What to write: (path, text, mode) of each file, and paths of files that go."""

    service: str
    files: tuple[tuple[str, str, int], ...]
    gone: tuple[str, ...] = ()


def find_network_service(guest: Guest) -> str:
    """The service that configures the guest's cards; empty where it is none that is known."""
    services = Services(guest)
    if guest.is_folder("/etc/netplan") and any(
        guest.exists(path) for path in ("/usr/sbin/netplan", "/sbin/netplan", "/usr/bin/netplan")
    ):
        return "netplan"
    for names, service in (
        (("NetworkManager.service", "NetworkManager"), "NetworkManager"),
        (("systemd-networkd.service",), "systemd-networkd"),
        (("networking.service", "networking"), "ifupdown"),
        (("network.service", "network"), "ifcfg"),
    ):
        if services.first_enabled(names):
            return service
    if guest.is_file(_INTERFACES) and guest.exists("/sbin/ifup"):
        return "ifupdown"
    return ""


def set_network(guest: Guest, card: FixedAddresses) -> NetworkFiles:
    """Gives a card its addresses, in the files of the service that the guest has.

    Raises:
        RefusedError: it has none that is known.
    """
    plan = plan_network(guest, card)
    for path in plan.gone:
        guest.remove(path)
    for path, text, mode in plan.files:
        guest.put_file(path, text.encode(), mode)
    return plan


def plan_network(guest: Guest, card: FixedAddresses) -> NetworkFiles:
    """What gives a card its addresses, for the service that the guest has.

    Raises:
        RefusedError: it has none that is known.
    """
    service = find_network_service(guest)
    match service:
        case "netplan":
            others = tuple(path for path in guest.glob("/etc/netplan/*.yaml"))
            text = _HEAD + yaml.safe_dump(_netplan(card), sort_keys=False)
            return NetworkFiles(service, ((f"/etc/netplan/60-{_NAME}.yaml", text, 0o600),), others)
        case "NetworkManager":
            path = f"/etc/NetworkManager/system-connections/{_NAME}.nmconnection"
            return NetworkFiles(service, ((path, "\n".join(_keyfile(card)) + "\n", 0o600),))
        case "systemd-networkd":
            path = f"/etc/systemd/network/05-{_NAME}.network"
            return NetworkFiles(
                service, ((path, _HEAD + "\n".join(_networkd(card)) + "\n", 0o644),)
            )
        case "ifupdown":
            return _plan_interfaces(guest, card)
        case "ifcfg":
            folder = "/etc/sysconfig/network-scripts"
            others = tuple(
                path for path in guest.glob(f"{folder}/ifcfg-*") if not path.endswith("-lo")
            )
            text = _HEAD + "\n".join(_ifcfg(card)) + "\n"
            return NetworkFiles(service, ((f"{folder}/ifcfg-{_NAME}", text, 0o644),), others)
        case _:
            raise RefusedError(messages.NO_SUPPORTED_NETWORK_SERVICE)


def _netplan(card: FixedAddresses) -> dict[str, object]:
    device: dict[str, object] = {"match": {"macaddress": card.mac}}
    if not card.addresses:
        device["dhcp4"] = True
    else:
        device["addresses"] = list(card.addresses)
    if card.gateways:
        device["routes"] = [
            {"to": _ALL[ip_address(gateway).version], "via": gateway} for gateway in card.gateways
        ]
    if card.name_servers or card.search:
        device["nameservers"] = {
            "addresses": list(card.name_servers),
            "search": list(card.search),
        }
    return {"network": {"version": 2, "ethernets": {"clone": device}}}


def _networkd(card: FixedAddresses) -> Iterator[str]:
    yield from ("[Match]", f"MACAddress={card.mac}", "", "[Network]")
    if not card.addresses:
        yield "DHCP=yes"
    yield from (f"Address={item}" for item in card.addresses)
    yield from (f"Gateway={item}" for item in card.gateways)
    yield from (f"DNS={item}" for item in card.name_servers)
    if card.search:
        yield f"Domains={' '.join(card.search)}"


def _keyfile(card: FixedAddresses) -> Iterator[str]:
    own = uuid.uuid5(uuid.NAMESPACE_OID, f"zeroseal {card.mac}")
    yield from ("[connection]", f"id={_NAME}", f"uuid={own}", "type=ethernet")
    yield from ("autoconnect-priority=100", "", "[ethernet]", f"mac-address={card.mac.upper()}")
    for version in (4, 6):
        addresses, gateways, servers = card.of_version(version)
        yield from ("", f"[ipv{version}]", "method=manual" if addresses else "method=auto")
        for number, address in enumerate(addresses, 1):
            yield f"address{number}={address}"
        yield from (f"gateway={item}" for item in gateways[:1])
        if servers:
            yield f"dns={';'.join(servers)};"
        if card.search and addresses:
            yield f"dns-search={';'.join(card.search)};"


def _ifcfg(card: FixedAddresses) -> Iterator[str]:
    yield from ("TYPE=Ethernet", f"NAME={_NAME}", f"HWADDR={card.mac.upper()}", "ONBOOT=yes")
    four, gateways, _servers = card.of_version(4)
    yield f"BOOTPROTO={'none' if card.addresses else 'dhcp'}"
    for number, address in enumerate(four):
        interface = ip_interface(address)
        mark = str(number) if number else ""
        yield f"IPADDR{mark}={interface.ip}"
        yield f"PREFIX{mark}={interface.network.prefixlen}"
    yield from (f"GATEWAY={item}" for item in gateways[:1])
    six, six_gateways, _none = card.of_version(6)
    if six:
        yield from ("IPV6INIT=yes", "IPV6_AUTOCONF=no", f"IPV6ADDR={six[0]}")
        if six[1:]:
            yield f'IPV6ADDR_SECONDARIES="{" ".join(six[1:])}"'
        yield from (f"IPV6_DEFAULTGW={item}" for item in six_gateways[:1])
    yield from (f"DNS{number}={item}" for number, item in enumerate(card.name_servers, 1))
    if card.search:
        yield f'DOMAIN="{" ".join(card.search)}"'


def _plan_interfaces(guest: Guest, card: FixedAddresses) -> NetworkFiles:
    """The stanzas of the one card; named as the guest names it, or by a link file of our own."""
    here = [_INTERFACES, *guest.glob("/etc/network/interfaces.d/*")]
    texts = {path: guest.read_text(path) for path in here}
    names = [name for text in texts.values() for name in _IFACE.findall(text)]
    name = names[0] if names else _NEW_CARD_NAME
    lines = [_HEAD.rstrip(), "source /etc/network/interfaces.d/*", ""]
    lines += ["auto lo", "iface lo inet loopback", "", f"auto {name}", *_stanzas(name, card)]
    files = [(_INTERFACES, "\n".join(lines) + "\n", 0o644)]
    gone = tuple(path for path in here[1:] if _IFACE.search(texts[path]))
    if not names:
        link = f"[Match]\nMACAddress={card.mac}\n\n[Link]\nName={_NEW_CARD_NAME}\n"
        files.append((f"/etc/systemd/network/05-{_NAME}.link", _HEAD + link, 0o644))
    resolver = guest.find("/etc/resolv.conf", follow_last=False)
    is_own = resolver is None or guest.is_file("/etc/resolv.conf")
    if card.name_servers and is_own and not guest.exists("/sbin/resolvconf"):
        text = "".join(f"nameserver {item}\n" for item in card.name_servers)
        search = f"search {' '.join(card.search)}\n" if card.search else ""
        files.append(("/etc/resolv.conf", search + text, 0o644))
    return NetworkFiles("ifupdown", tuple(files), gone)


def _stanzas(name: str, card: FixedAddresses) -> Iterator[str]:
    if not card.addresses:
        yield f"iface {name} inet dhcp"
        return
    for version, family in ((4, "inet"), (6, "inet6")):
        addresses, gateways, servers = card.of_version(version)
        for number, address in enumerate(addresses):
            yield f"iface {name} {family} static"
            yield f"  address {address}"
            if number == 0:
                yield from (f"  gateway {item}" for item in gateways[:1])
                if servers:
                    yield f"  dns-nameservers {' '.join(servers)}"
                if card.search:
                    yield f"  dns-search {' '.join(card.search)}"
