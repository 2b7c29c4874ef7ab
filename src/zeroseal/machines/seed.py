"""What a first boot is told: NoCloud seed data, as a value and as its two text files.

Source: cloud-init's documentation of the NoCloud datasource (``meta-data``, ``user-data``, a medium
labelled ``cidata``).
"""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pycdlib
import yaml
from pycdlib.pycdlibexception import PyCdlibException

from zeroseal.errors import DamagedError

VOLUME_ID = "cidata"
FILE_NAMES = ("meta-data", "user-data")


@dataclass(frozen=True)
class SeedAccount:
    """An account that a first boot creates."""

    name: str
    full_name: str = ""
    public_keys: tuple[str, ...] = ()
    password_hash: str = "!"
    admin: bool = False


@dataclass(frozen=True)
class Seed:
    """What one machine's first boot is told."""

    instance_id: str
    host_name: str
    domain: str = ""
    accounts: tuple[SeedAccount, ...] = ()
    root_password_hash: str = ""

    def texts(self) -> dict[str, str]:
        """The seed's files, by name."""
        meta = {"instance-id": self.instance_id, "local-hostname": self.host_name}
        user: dict[str, Any] = {"hostname": self.host_name}
        if self.domain:
            user["fqdn"] = f"{self.host_name}.{self.domain}"
        if self.accounts:
            user["users"] = [_account_to_yaml(account) for account in self.accounts]
        return {
            "meta-data": yaml.safe_dump(meta, sort_keys=False),
            "user-data": "#cloud-config\n" + yaml.safe_dump(user, sort_keys=False),
        }


def parse_seed(texts: dict[str, str]) -> Seed:
    """Parses the files of a seed.

    Raises:
        DamagedError: they are none.
    """
    try:
        meta = yaml.safe_load(texts["meta-data"])
        user = yaml.safe_load(texts["user-data"])
        host_name = str(meta["local-hostname"])
        accounts = tuple(_account_from_yaml(table) for table in user.get("users", []))
        domain = str(user.get("fqdn", "")).removeprefix(f"{host_name}.")
        return Seed(str(meta["instance-id"]), host_name, domain, accounts)
    except (yaml.YAMLError, KeyError, TypeError, AttributeError) as error:
        raise DamagedError(f"the seed medium holds no seed that we understand: {error}") from error


def read_seed_medium(path: Path) -> Seed:
    """Reads a seed from an ISO 9660 medium.

    Raises:
        DamagedError: it is no such medium.
    """
    medium = pycdlib.PyCdlib()
    try:
        medium.open(str(path))
    except (PyCdlibException, OSError) as error:
        raise DamagedError(f"{path} is no seed medium: {error}") from error
    try:
        texts = {}
        for name in FILE_NAMES:
            content = io.BytesIO()
            medium.get_file_from_iso_fp(content, joliet_path=f"/{name}")
            texts[name] = content.getvalue().decode("utf-8")
        return parse_seed(texts)
    except (PyCdlibException, UnicodeDecodeError) as error:
        raise DamagedError(f"{path} is no seed medium: {error}") from error
    finally:
        medium.close()


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
