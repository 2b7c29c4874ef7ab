"""Every key of a clone sheet; ``docs/clone-sheet.md`` describes them for people."""

from __future__ import annotations

from ipaddress import ip_address, ip_interface
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from zeroseal.blocks.sizes import parse_size
from zeroseal.documents import Table, WrongValueError
from zeroseal.errors import UsageError
from zeroseal.machines.sheet.model import (
    ACCOUNT_PATTERN,
    MAC_PATTERN,
    NAME_PATTERN,
    NumberRange,
    check_each,
    check_interface,
)
from zeroseal.messages import templates as messages
from zeroseal.templates.addresses import parse_range

_KEY_KINDS = ("ssh-ed25519 ", "ssh-rsa ", "ecdsa-sha2-", "sk-ssh-", "sk-ecdsa-")
_UUID_PATTERN = r"^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}\Z"
_GROUP_PATTERN = r"^[a-zA-Z0-9+_.{][a-zA-Z0-9+_.{}-]{2,126}\Z"
_DOMAIN_PATTERN = r"^[a-z0-9]([a-z0-9.-]{0,251}[a-z0-9])?\Z"


def check_public_key(value: str) -> None:
    """Raises ValueError where a public key is none."""
    if not value.startswith(_KEY_KINDS) or "\n" in value.strip() or len(value.split()) < 2:
        raise ValueError(messages.PUBLIC_KEY_INVALID)


class CloneUser(Table, frozen=True):
    """An account of a clone; a password comes by reference, ``${secret:NAME}``."""

    name: Annotated[str, Meta(pattern=ACCOUNT_PATTERN)]
    full_name: Annotated[str, Meta(pattern=r"^[^:\n]*\Z")] = ""
    public_keys: tuple[str, ...] = ()
    public_key_files: tuple[str, ...] = ()
    password: str = ""
    password_hash: Annotated[str, Meta(pattern=r"^[^:\n]*\Z")] = ""
    admin: bool = True

    def __post_init__(self) -> None:
        check_each("public_keys", self.public_keys, check_public_key)
        if self.password and self.password_hash:
            raise ValueError(messages.GIVE_EITHER_PASSWORD_OR_PASSWORD_HASH)


class CloneFile(Table, frozen=True):
    """A file beside the sheet, and where it goes in the guest."""

    source: Annotated[str, Meta(min_length=1)]
    target: Annotated[str, Meta(pattern=r"^/[^\x00]+\Z")]
    mode: Annotated[str, Meta(pattern=r"^0?[0-7]{3,4}\Z")] = "0644"


# a culture (en-IE), or a language and a layout (1809:00001809), several separated by semicolons
_KEYBOARD_PATTERN = (
    r"^((([a-z]{2,3}(-[A-Za-z0-9]{2,8}){1,2})|([0-9A-Fa-f]{4}:[0-9A-Fa-f]{8}))(;|\Z))*\Z"
)


class WindowsSettings(Table, frozen=True):
    """What only the set-up of a Windows guest takes; secrets come by reference."""

    join_domain: Annotated[str, Meta(pattern=_DOMAIN_PATTERN + r"|^\Z")] = ""
    join_account: str = ""
    join_password: str = ""
    keyboard: Annotated[str, Meta(pattern=_KEYBOARD_PATTERN)] = ""
    owner: Annotated[str, Meta(max_length=64)] = ""
    organization: Annotated[str, Meta(max_length=64)] = ""
    product_key: Annotated[str, Meta(pattern=r"^([A-Z0-9]{5}(-[A-Z0-9]{5}){4})?\Z")] = ""

    def __post_init__(self) -> None:
        if self.join_domain and not (self.join_account and self.join_password):
            raise ValueError(messages.DOMAIN_NEEDS_ACCOUNT)


class CloneSettings(Table, frozen=True):
    """What a clone is to be; the table ``every`` says it for all clones."""

    host_name: Annotated[str, Meta(pattern=NAME_PATTERN + r"|^\Z")] = ""
    domain: Annotated[str, Meta(pattern=_DOMAIN_PATTERN + r"|^\Z")] = ""
    uuid: Annotated[str, Meta(pattern=_UUID_PATTERN + r"|^\Z")] = ""
    mac: Annotated[str, Meta(pattern=MAC_PATTERN + r"|^\Z")] = ""
    network: str = "user"
    vlan: Annotated[int, Meta(ge=0, le=4094)] = 0
    cpus: Annotated[int, Meta(ge=0, le=256)] = 0
    memory_mib: Annotated[int, Meta(ge=0, le=1 << 24)] = 0
    tpm: bool = False
    disk_size: str = ""
    linked: bool = False
    into_disk: bool = False
    new_volume_ids: bool = False
    volume_group: Annotated[str, Meta(pattern=_GROUP_PATTERN + r"|^\Z")] = ""
    addresses: tuple[str, ...] = ()
    address_ranges: tuple[str, ...] = ()
    gateways: tuple[str, ...] = ()
    name_servers: tuple[str, ...] = ()
    search: tuple[Annotated[str, Meta(pattern=_DOMAIN_PATTERN)], ...] = ()
    users: tuple[CloneUser, ...] = ()
    root_password: str = ""
    time_zone: Annotated[str, Meta(pattern=r"^[A-Za-z0-9_+/. ()-]*\Z")] = ""
    locale: Annotated[str, Meta(pattern=r"^[A-Za-z0-9_.@-]*\Z")] = ""
    packages: tuple[str, ...] = ()
    commands: tuple[str, ...] = ()
    files: tuple[CloneFile, ...] = ()
    first_boot: str = ""
    notes: str = ""
    windows: WindowsSettings = WindowsSettings()

    def __post_init__(self) -> None:
        check_each("addresses", self.addresses, check_interface)
        check_each("address_ranges", self.address_ranges, parse_range)
        check_each("gateways", self.gateways, ip_address)
        check_each("name_servers", self.name_servers, ip_address)
        if self.mac and int(self.mac[:2], 16) & 1:
            reason = "it is a group MAC address: the first byte of a network card's address is even"
            raise WrongValueError(("mac",), reason)
        if self.disk_size:
            try:
                parse_size(self.disk_size)
            except UsageError as error:
                raise WrongValueError(("disk_size",), error.message) from None


class CloneRow(CloneSettings, frozen=True):
    """One clone, or ``count`` clones with the next free numbers of a range."""

    name: Annotated[str, Meta(pattern=NAME_PATTERN + r"|^\Z")] = ""
    numbers: NumberRange | None = None
    count: Annotated[int, Meta(ge=1, le=10_000)] = 1

    def __post_init__(self) -> None:
        super().__post_init__()
        if bool(self.name) == bool(self.numbers):
            raise ValueError(messages.GIVE_EITHER_NAME_OR_NUMBERS)
        if self.count > 1 and self.name:
            raise ValueError(messages.COUNT_NEEDS_NUMBERS)
        own = {"host_name": self.host_name, "mac": self.mac, "uuid": self.uuid}
        own["addresses"] = " ".join(self.addresses)
        several = [key for key, value in own.items() if value and self.count > 1]
        if several:
            raise ValueError(
                messages.SETTING_FOR_ONE_MACHINE.format(several=several[0], count=self.count)
            )
        self._check_network()

    def named(self, name: str) -> CloneRow:
        """The row of one clone that got its name."""
        return msgspec.structs.replace(self, name=name, numbers=None, count=1)

    def with_addresses(self, addresses: tuple[str, ...]) -> CloneRow:
        """The row of a clone that got its addresses from ranges."""
        return msgspec.structs.replace(self, addresses=addresses, address_ranges=(), count=1)

    def _check_network(self) -> None:
        networks = [ip_interface(item).network for item in self.addresses]
        if not self.addresses:
            starts = [next(iter(parse_range(item)), "") for item in self.address_ranges]
            networks = [ip_interface(item).network for item in starts if item]
        if self.gateways and not networks:
            raise ValueError(messages.GATEWAYS_FOR_STATIC_ADDRESSES)
        for gateway in self.gateways:
            address = ip_address(gateway)
            is_near = any(address in network for network in networks) or address.is_link_local
            if not is_near:
                shown = ", ".join(self.addresses)
                raise ValueError(
                    messages.GATEWAY_NOT_IN_ANY_NETWORK.format(gateway=gateway, shown=shown)
                )
            if any(address == ip_interface(item).ip for item in self.addresses):
                raise ValueError(messages.GATEWAY_MACHINE_OWN_ADDRESS.format(gateway=gateway))
        for item in self.addresses:
            interface = ip_interface(item)
            network = interface.network
            small = network.prefixlen >= network.max_prefixlen - 1
            if interface.ip in (network.network_address, network.broadcast_address) and not small:
                raise ValueError(messages.NOT_A_MACHINE_ADDRESS.format(item=item))


class CloneSheet(Table, frozen=True, kw_only=True):
    """A whole sheet, its ``every`` laid under each row already."""

    version: Literal[1]
    template: str = ""
    clone: Annotated[tuple[CloneRow, ...], Meta(min_length=1, max_length=10_000)]
