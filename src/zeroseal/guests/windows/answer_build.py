"""Building an answer file for the first start of a resealed Windows.

Source: Windows' unattended set-up reference (public documentation): components of the passes
``specialize`` and ``oobeSystem``. Only a real set-up can prove that it takes what is asked.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from dataclasses import dataclass
from ipaddress import ip_interface

_NAMESPACE = "urn:schemas-microsoft-com:unattend"
_ACTIONS = "http://schemas.microsoft.com/WMIConfig/2002/State"
_REMOVE = 'cmd.exe /c del /f /q "%WINDIR%\\Panther\\unattend.xml"'
ARCHITECTURES = ("amd64", "x86", "arm64")  # as PROCESSOR_ARCHITECTURE says, in lower case
_COMPONENT = {
    "processorArchitecture": ARCHITECTURES[0],
    "publicKeyToken": "31bf3856ad364e35",
    "language": "neutral",
    "versionScope": "nonSxS",
}
# the components that are written, with the passes in which set-up reads them
COMPONENTS = {
    "Microsoft-Windows-Shell-Setup": ("specialize", "oobeSystem"),
    "Microsoft-Windows-UnattendedJoin": ("specialize",),
    "Microsoft-Windows-TCPIP": ("specialize",),
    "Microsoft-Windows-DNS-Client": ("specialize",),
    "Microsoft-Windows-International-Core": ("specialize", "oobeSystem"),
}


@dataclass(frozen=True)
class DomainJoin:
    """A domain, and the account that may let machines join it."""

    domain: str
    account: str
    password: str


@dataclass(frozen=True)
class LocalAccount:
    """An account that the first start makes."""

    name: str
    password: str
    full_name: str = ""
    admin: bool = False


@dataclass(frozen=True)
class FixedAddresses:
    """Static addresses of the card with a MAC, each with its prefix (``192.0.2.4/24``)."""

    mac: str
    addresses: tuple[str, ...]
    gateways: tuple[str, ...] = ()
    name_servers: tuple[str, ...] = ()
    search: tuple[str, ...] = ()


@dataclass(frozen=True)
class FirstStartAnswers:
    """What a first start is given; what is empty is left to it.

    Attributes:
        locale: of formats, as ``en-IE``; also of the keyboard where ``keyboard`` is empty.
        keyboard: as ``en-IE`` or ``1809:00001809``.
        administrator_password: of the built-in administrator.
        commands: run at the first logon, in order.
        architecture: one of ``ARCHITECTURES``; set-up reads only components of its own.
    """

    computer_name: str
    time_zone: str = ""
    locale: str = ""
    keyboard: str = ""
    owner: str = ""
    organization: str = ""
    product_key: str = ""
    administrator_password: str = ""
    accounts: tuple[LocalAccount, ...] = ()
    join: DomainJoin | None = None
    network: FixedAddresses | None = None
    commands: tuple[str, ...] = ()
    architecture: str = ARCHITECTURES[0]


def build_answer_file(answers: FirstStartAnswers) -> bytes:
    """The file; its last command removes it, with the passwords that it holds."""
    ET.register_namespace("", _NAMESPACE)
    ET.register_namespace("wcm", _ACTIONS)
    root = ET.Element(f"{{{_NAMESPACE}}}unattend")
    _specialize(_settings(root, "specialize"), answers)
    _first_start(_settings(root, "oobeSystem"), answers)
    for component in root.iter(f"{{{_NAMESPACE}}}component"):
        component.set("processorArchitecture", answers.architecture)
    ET.indent(root)
    return b'<?xml version="1.0" encoding="utf-8"?>\n' + ET.tostring(root).strip() + b"\n"


def _specialize(settings: ET.Element, answers: FirstStartAnswers) -> None:
    shell = _component(settings, "Microsoft-Windows-Shell-Setup")
    _text(shell, "ComputerName", answers.computer_name)
    _text(shell, "TimeZone", answers.time_zone)
    _text(shell, "ProductKey", answers.product_key)
    _text(shell, "RegisteredOwner", answers.owner)
    _text(shell, "RegisteredOrganization", answers.organization)
    if answers.network:
        _network(settings, answers.network)
    if answers.join:
        joining = _component(settings, "Microsoft-Windows-UnattendedJoin")
        identity = _below(joining, "Identification")
        rights = _below(identity, "Credentials")
        _text(rights, "Domain", answers.join.domain)
        _text(rights, "Username", answers.join.account)
        _text(rights, "Password", answers.join.password)
        _text(identity, "JoinDomain", answers.join.domain)


def _network(settings: ET.Element, network: FixedAddresses) -> None:
    """Addresses, routes and name servers of one card, which set-up knows by its MAC."""
    identifier = network.mac.replace(":", "-").upper()
    listed = _below(_component(settings, "Microsoft-Windows-TCPIP"), "Interfaces")
    card = _below(listed, "Interface", adds=True)
    versions = {ip_interface(address).version for address in network.addresses}
    for version in sorted(versions):
        _text(_below(card, f"Ipv{version}Settings"), "DhcpEnabled", "false")
    _text(card, "Identifier", identifier)
    given = _below(card, "UnicastIpAddresses")
    for number, address in enumerate(network.addresses, 1):
        _numbered(given, "IpAddress", number).text = address
    if network.gateways:
        routes = _below(card, "Routes")
        for number, gateway in enumerate(network.gateways):
            route = _below(routes, "Route", adds=True)
            _text(route, "Identifier", str(number))
            _text(route, "NextHopAddress", gateway)
            _text(route, "Prefix", "::/0" if ":" in gateway else "0.0.0.0/0")
    if network.name_servers or network.search:
        names = _component(settings, "Microsoft-Windows-DNS-Client")
        if network.search:
            order = _below(names, "DNSSuffixSearchOrder")
            for number, domain in enumerate(network.search, 1):
                _numbered(order, "DomainName", number).text = domain
        card = _below(_below(names, "Interfaces"), "Interface", adds=True)
        _text(card, "Identifier", identifier)
        if network.name_servers:
            order = _below(card, "DNSServerSearchOrder")
            for number, server in enumerate(network.name_servers, 1):
                _numbered(order, "IpAddress", number).text = server


def _first_start(settings: ET.Element, answers: FirstStartAnswers) -> None:
    if answers.locale or answers.keyboard:
        language = _component(settings, "Microsoft-Windows-International-Core")
        _text(language, "InputLocale", answers.keyboard or answers.locale)
        for name in ("SystemLocale", "UserLocale"):
            _text(language, name, answers.locale)
    shell = _component(settings, "Microsoft-Windows-Shell-Setup")
    pages = _below(shell, "OOBE")
    for name in ("HideEULAPage", "HideOnlineAccountScreens", "HideWirelessSetupInOOBE"):
        _text(pages, name, "true")
    _text(pages, "ProtectYourPC", "3")
    _accounts(shell, answers)
    commands = _below(shell, "FirstLogonCommands")
    for order, line in enumerate((*answers.commands, _REMOVE), 1):
        command = _below(commands, "SynchronousCommand", adds=True)
        _text(command, "Order", str(order))
        _text(command, "CommandLine", line)


def _accounts(shell: ET.Element, answers: FirstStartAnswers) -> None:
    if not answers.administrator_password and not answers.accounts:
        return
    accounts = _below(shell, "UserAccounts")
    if answers.administrator_password:
        _password(_below(accounts, "AdministratorPassword"), answers.administrator_password)
    if answers.accounts:
        listed = _below(accounts, "LocalAccounts")
        for account in answers.accounts:
            item = _below(listed, "LocalAccount", adds=True)
            _text(item, "Name", account.name)
            _text(item, "DisplayName", account.full_name)
            _text(item, "Group", "Administrators" if account.admin else "Users")
            _password(_below(item, "Password"), account.password)


def _password(place: ET.Element, password: str) -> None:
    _text(place, "Value", password)
    _text(place, "PlainText", "true")


def _settings(root: ET.Element, name: str) -> ET.Element:
    return ET.SubElement(root, f"{{{_NAMESPACE}}}settings", {"pass": name})


def _component(settings: ET.Element, name: str) -> ET.Element:
    assert settings.get("pass") in COMPONENTS[name]
    return ET.SubElement(settings, f"{{{_NAMESPACE}}}component", {"name": name, **_COMPONENT})


def _below(place: ET.Element, name: str, adds: bool = False) -> ET.Element:
    marks = {f"{{{_ACTIONS}}}action": "add"} if adds else {}
    return ET.SubElement(place, f"{{{_NAMESPACE}}}{name}", marks)


def _numbered(place: ET.Element, name: str, number: int) -> ET.Element:
    """An item of a list whose order counts."""
    marks = {f"{{{_ACTIONS}}}action": "add", f"{{{_ACTIONS}}}keyValue": str(number)}
    return ET.SubElement(place, f"{{{_NAMESPACE}}}{name}", marks)


def _text(place: ET.Element, name: str, text: str) -> None:
    if text:
        ET.SubElement(place, f"{{{_NAMESPACE}}}{name}").text = text
