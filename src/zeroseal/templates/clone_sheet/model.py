"""Every key of a clone sheet; ``docs/clone-sheet.md`` describes them for people."""

from __future__ import annotations

from ipaddress import ip_address, ip_interface
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, model_validator

from zeroseal.blocks.sizes import parse_size
from zeroseal.errors import UsageError
from zeroseal.machines.sheet.model import (
    ACCOUNT_PATTERN,
    MAC_PATTERN,
    NAME_PATTERN,
    Address,
    InterfaceAddress,
    NumberRange,
    Table,
)

_KEY_KINDS = ("ssh-ed25519 ", "ssh-rsa ", "ecdsa-sha2-", "sk-ssh-", "sk-ecdsa-")
_UUID_PATTERN = r"^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$"
_DOMAIN_PATTERN = r"^[a-z0-9]([a-z0-9.-]{0,251}[a-z0-9])?$"


def _size(value: str) -> str:
    try:
        parse_size(value)
    except UsageError as error:
        raise ValueError(error.message) from error
    return value


def _public_key(value: str) -> str:
    if not value.startswith(_KEY_KINDS) or "\n" in value.strip() or len(value.split()) < 2:
        raise ValueError(
            "the public key is none that OpenSSH writes, such as 'ssh-ed25519 AAAA...'"
        )
    return value.strip()


def _unicast_mac(value: str) -> str:
    if int(value[:2], 16) & 1:
        raise ValueError("it is a group's MAC: the first byte of a card's is even")
    return value


Size = Annotated[str, AfterValidator(_size)]
PublicKey = Annotated[str, AfterValidator(_public_key)]
Mac = Annotated[str, Field(pattern=MAC_PATTERN), AfterValidator(_unicast_mac)]


class CloneUser(Table):
    """An account of a clone; a password comes by reference, ``${secret:NAME}``."""

    name: str = Field(pattern=ACCOUNT_PATTERN)
    full_name: str = Field(default="", pattern=r"^[^:\n]*$")
    public_keys: list[PublicKey] = []
    public_key_files: list[str] = []
    password: str = ""
    password_hash: str = Field(default="", pattern=r"^[^:\n]*$")
    admin: bool = True

    @model_validator(mode="after")
    def _has_one_password(self) -> CloneUser:
        if self.password and self.password_hash:
            raise ValueError("give either a password or a password_hash")
        return self


class CloneFile(Table):
    """A file beside the sheet, and where it goes in the guest."""

    source: str = Field(min_length=1)
    target: str = Field(pattern=r"^/[^\x00]+$")
    mode: str = Field(default="0644", pattern=r"^0?[0-7]{3,4}$")


class WindowsSettings(Table):
    """What only the set-up of a Windows is told; secrets come by reference."""

    join_domain: str = Field(default="", pattern=_DOMAIN_PATTERN + r"|^$")
    join_account: str = ""
    join_password: str = ""
    product_key: str = Field(default="", pattern=r"^([A-Z0-9]{5}(-[A-Z0-9]{5}){4})?$")

    @model_validator(mode="after")
    def _has_all_to_join(self) -> WindowsSettings:
        if self.join_domain and not (self.join_account and self.join_password):
            raise ValueError("to join a domain takes a join_account and a join_password")
        return self


class CloneSettings(Table):
    """What a clone is to be; the table ``every`` says it for all clones."""

    host_name: str = Field(default="", pattern=NAME_PATTERN + r"|^$")
    domain: str = Field(default="", pattern=_DOMAIN_PATTERN + r"|^$")
    uuid: str = Field(default="", pattern=_UUID_PATTERN + r"|^$")
    mac: Mac | Literal[""] = ""
    network: str = "user"
    vlan: int = Field(default=0, ge=0, le=4094)
    cpus: int = Field(default=0, ge=0, le=256)
    memory_mib: int = Field(default=0, ge=0, le=1 << 24)
    disk_size: Size | Literal[""] = ""
    linked: bool = False
    into_disk: bool = False
    addresses: list[InterfaceAddress] = []
    gateways: list[Address] = []
    name_servers: list[Address] = []
    search: list[Annotated[str, Field(pattern=_DOMAIN_PATTERN)]] = []
    users: list[CloneUser] = []
    root_password: str = ""
    time_zone: str = Field(default="", pattern=r"^[A-Za-z0-9_+/. ()-]*$")
    locale: str = Field(default="", pattern=r"^[A-Za-z0-9_.@-]*$")
    packages: list[str] = []
    commands: list[str] = []
    files: list[CloneFile] = []
    first_boot: str = ""
    notes: str = ""
    windows: WindowsSettings = WindowsSettings()


class CloneRow(CloneSettings):
    """One clone, or ``count`` clones with the next free numbers of a range."""

    name: str = Field(default="", pattern=NAME_PATTERN + r"|^$")
    numbers: NumberRange | None = None
    count: int = Field(default=1, ge=1, le=10_000)

    @model_validator(mode="after")
    def _is_whole(self) -> CloneRow:
        if bool(self.name) == bool(self.numbers):
            raise ValueError("give either a name or numbers")
        if self.count > 1 and self.name:
            raise ValueError("count goes with numbers, not with a name")
        own = {"host_name": self.host_name, "mac": self.mac, "uuid": self.uuid}
        own["addresses"] = " ".join(self.addresses)
        several = [key for key, value in own.items() if value and self.count > 1]
        if several:
            raise ValueError(f"{several[0]} is for one machine, and count asks for {self.count}")
        self._check_network()
        return self

    def _check_network(self) -> None:
        networks = [ip_interface(item).network for item in self.addresses]
        if self.gateways and not self.addresses:
            raise ValueError("gateways go with addresses: DHCP gives its own")
        for gateway in self.gateways:
            address = ip_address(gateway)
            is_near = any(address in network for network in networks) or address.is_link_local
            if not is_near:
                shown = ", ".join(self.addresses)
                raise ValueError(f"the gateway {gateway} is in no network of {shown}")
            if any(address == ip_interface(item).ip for item in self.addresses):
                raise ValueError(f"the gateway {gateway} is the machine's own address")
        for item in self.addresses:
            interface = ip_interface(item)
            network = interface.network
            small = network.prefixlen >= network.max_prefixlen - 1
            if interface.ip in (network.network_address, network.broadcast_address) and not small:
                raise ValueError(
                    f"{item} is the name or the broadcast of its network, no machine's"
                )


class CloneSheet(Table):
    """A whole sheet, its ``every`` laid under each row already."""

    version: Literal[1]
    template: str = ""
    clone: list[CloneRow] = Field(min_length=1, max_length=10_000)
