"""What a first boot is told: NoCloud seed data, as a value and as its text files.

Source: cloud-init's documentation of the NoCloud datasource (``meta-data``, ``user-data``,
``network-config`` of version 2, a medium labelled ``cidata``) and of its cloud-config modules.
"""

from __future__ import annotations

import base64
from collections.abc import Iterator
from dataclasses import dataclass, replace
from ipaddress import ip_address
from typing import Any

import yaml

from zeroseal.errors import DamagedError
from zeroseal.guests.linux.network_files import FixedAddresses
from zeroseal.messages import machines as messages

VOLUME_ID = "cidata"
FILE_NAMES = ("meta-data", "user-data")
NETWORK_NAME = "network-config"
PLAIN_NAME, PLAIN_MAGIC = "first-boot", "zeroseal-seed 1"
# cloud-init runs what lies there, once an instance, in its last stage
_SCRIPT_PATH = "/var/lib/cloud/scripts/per-instance/zeroseal-first-boot"
_EVERY_NETWORK = {4: "0.0.0.0/0", 6: "::/0"}


@dataclass(frozen=True)
class SeedAccount:
    """An account that a first boot creates."""

    name: str
    full_name: str = ""
    public_keys: tuple[str, ...] = ()
    password_hash: str = "!"
    admin: bool = False


@dataclass(frozen=True)
class SeedFile:
    """A file that a first boot writes."""

    path: str
    content: bytes
    mode: int = 0o644


@dataclass(frozen=True)
class Seed:
    """What one machine's first boot is told; an empty field is left to the guest.

    Attributes:
        files: what is written, and ``script`` what is run at the end, once.
    """

    instance_id: str
    host_name: str
    domain: str = ""
    accounts: tuple[SeedAccount, ...] = ()
    root_password_hash: str = ""
    network: FixedAddresses | None = None
    packages: tuple[str, ...] = ()
    time_zone: str = ""
    locale: str = ""
    commands: tuple[str, ...] = ()
    files: tuple[SeedFile, ...] = ()
    script: bytes = b""

    def needs_more_than_lines(self) -> str:
        """What only cloud-init takes from a seed, not the planted script; empty for nothing."""
        wanted = {
            "packages": self.packages,
            "commands": self.commands,
            "files": self.files,
            "a first-boot script": self.script,
            "a locale": self.locale,
        }
        return ", ".join(name for name, value in wanted.items() if value)

    def texts(self) -> dict[str, str]:
        """The seed's files, by name."""
        meta = {"instance-id": self.instance_id, "local-hostname": self.host_name}
        texts = {
            "meta-data": yaml.safe_dump(meta, sort_keys=False),
            "user-data": "#cloud-config\n" + yaml.safe_dump(self._user_data(), sort_keys=False),
        }
        if self.network:
            texts[NETWORK_NAME] = yaml.safe_dump(_network_data(self.network), sort_keys=False)
        texts[PLAIN_NAME] = "".join(f"{line}\n" for line in self._plain_lines())
        return texts

    def _plain_lines(self) -> Iterator[str]:
        """The seed in lines of a word and its value, for the planted first-boot script."""
        yield PLAIN_MAGIC
        full = f"{self.host_name}.{self.domain}" if self.domain else self.host_name
        yield f"host-name {self.host_name} {full}"
        if self.time_zone:
            yield f"time-zone {self.time_zone}"
        for account in self.accounts:
            yield f"account {account.name}"
            if account.full_name:
                yield f"full-name {' '.join(account.full_name.split())}"
            if account.password_hash != "!":
                yield f"password {account.password_hash}"
            if account.admin:
                yield "admin yes"
            for key in account.public_keys:
                yield f"key {' '.join(key.split())}"
        if self.root_password_hash:
            yield f"root-password {self.root_password_hash}"
        if self.network:
            yield f"mac {self.network.mac}"
            yield from (f"address {item}" for item in self.network.addresses)
            yield from (f"gateway {item}" for item in self.network.gateways)
            yield from (f"name-server {item}" for item in self.network.name_servers)

    def _user_data(self) -> dict[str, Any]:
        # its own name in /etc/hosts, or each sudo on the machine asks the network for it
        user: dict[str, Any] = {"hostname": self.host_name, "manage_etc_hosts": "localhost"}
        if self.domain:
            user["fqdn"] = f"{self.host_name}.{self.domain}"
        if self.accounts:
            user["users"] = [_account_to_yaml(account) for account in self.accounts]
        if self.root_password_hash:
            root = {"name": "root", "password": self.root_password_hash, "type": "hash"}
            user["chpasswd"] = {"expire": False, "users": [root]}
        if self.time_zone:
            user["timezone"] = self.time_zone
        if self.locale:
            user["locale"] = self.locale
        if self.packages:
            user |= {"package_update": True, "packages": list(self.packages)}
        if self.commands:
            user["runcmd"] = list(self.commands)
        files = list(self.files)
        if self.script:
            files.append(SeedFile(_SCRIPT_PATH, self.script, 0o755))
        if files:
            user["write_files"] = [_file_to_yaml(file) for file in files]
        return user


def parse_seed(texts: dict[str, str]) -> Seed:
    """Parses the files of a seed, as far as the simulated guest understands them.

    Raises:
        DamagedError: they are none.
    """
    try:
        meta = yaml.safe_load(texts["meta-data"])
        user = yaml.safe_load(texts["user-data"])
        host_name = str(meta["local-hostname"])
        accounts = tuple(_account_from_yaml(table) for table in user.get("users", []))
        domain = str(user.get("fqdn", "")).removeprefix(f"{host_name}.")
        passwords = user.get("chpasswd", {}).get("users", [])
        root = next((item["password"] for item in passwords if item["name"] == "root"), "")
        seed = Seed(str(meta["instance-id"]), host_name, domain, accounts, str(root))
        network = _parse_network(texts.get(NETWORK_NAME, ""))
        zone, language = str(user.get("timezone", "")), str(user.get("locale", ""))
        return replace(seed, network=network, time_zone=zone, locale=language)
    except (yaml.YAMLError, KeyError, TypeError, AttributeError) as error:
        raise DamagedError(messages.SEED_MEDIUM_NO_READABLE_SEED.format(error=error)) from error


def _file_to_yaml(file: SeedFile) -> dict[str, Any]:
    return {
        "path": file.path,
        "permissions": f"{file.mode:04o}",
        "encoding": "b64",
        "content": base64.b64encode(file.content).decode(),
    }


def _account_to_yaml(account: SeedAccount) -> dict[str, Any]:
    table: dict[str, Any] = {"name": account.name, "shell": "/bin/bash"}
    if account.full_name:
        table["gecos"] = account.full_name
    if account.public_keys:
        table["ssh_authorized_keys"] = list(account.public_keys)
    if account.admin:
        table["sudo"] = "ALL=(ALL) NOPASSWD:ALL"
    if account.password_hash != "!":
        table |= {"passwd": account.password_hash, "lock_passwd": False}
    return table


def _account_from_yaml(table: dict[str, Any]) -> SeedAccount:
    return SeedAccount(
        name=str(table["name"]),
        full_name=str(table.get("gecos", "")),
        public_keys=tuple(str(key) for key in table.get("ssh_authorized_keys", [])),
        password_hash=str(table.get("passwd", "!")),
        admin=bool(table.get("sudo")),
    )


def _parse_network(text: str) -> FixedAddresses | None:
    """The one card of a network configuration as we write it; None where there is none."""
    if not text:
        return None
    card = next(iter(yaml.safe_load(text)["ethernets"].values()))
    servers = card.get("nameservers", {})
    return FixedAddresses(
        mac=str(card["match"]["macaddress"]),
        addresses=tuple(str(item) for item in card["addresses"]),
        gateways=tuple(str(route["via"]) for route in card.get("routes", [])),
        name_servers=tuple(str(item) for item in servers.get("addresses", [])),
        search=tuple(str(item) for item in servers.get("search", [])),
    )


def _network_data(network: FixedAddresses) -> dict[str, Any]:
    card: dict[str, Any] = {
        "match": {"macaddress": network.mac},
        "addresses": list(network.addresses),
    }
    if network.gateways:
        card["routes"] = [
            {"to": _EVERY_NETWORK[ip_address(gateway).version], "via": gateway}
            for gateway in network.gateways
        ]
    if network.name_servers or network.search:
        card["nameservers"] = {
            "addresses": list(network.name_servers),
            "search": list(network.search),
        }
    return {"version": 2, "ethernets": {"primary": card}}
