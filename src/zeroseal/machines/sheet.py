"""The build sheet: TOML that says what a reference machine is and how it comes to be."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from zeroseal.errors import MissingError, UsageError

NAME_PATTERN = r"^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$"
ACCOUNT_PATTERN = r"^[a-z_][a-z0-9_.-]{0,31}$"
_MAC_PATTERN = r"^[0-9a-f]{2}(:[0-9a-f]{2}){5}$"
_PATH_PATTERN = r"^/[^\x00]+$"


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class MachineSettings(_Table):
    """The machine's hardware and name."""

    name: str = Field(pattern=NAME_PATTERN)
    cpus: int = Field(default=1, ge=1, le=256)
    memory_mib: int = Field(default=1024, ge=64, le=1 << 24)
    mac: str = Field(default="", pattern=_MAC_PATTERN + r"|^$")
    firmware: Literal["bios", "uefi"] = "uefi"
    notes: str = ""


class Origin(_Table):
    """The base disk: a path beside the sheet (or absolute), and its checksum."""

    base_disk: str = Field(min_length=1)
    sha256: str = Field(pattern=r"^[0-9a-f]{64}$")


class SeedUser(_Table):
    """An account that the first boot creates."""

    name: str = Field(pattern=ACCOUNT_PATTERN)
    full_name: str = Field(default="", pattern=r"^[^:\n]*$")
    public_keys: list[str] = []
    password_hash: str = Field(default="!", pattern=r"^[^:\n]*$")
    admin: bool = False


class SeedSettings(_Table):
    """What the first boot is told."""

    host_name: str = Field(pattern=NAME_PATTERN)
    domain: str = Field(default="", pattern=r"^[a-z0-9.-]*$")
    root_password_hash: str = Field(default="", pattern=r"^[^:\n]*$")
    users: list[SeedUser] = []


class UsedFile(_Table):
    """A file that comes to be in use, on the simulated host; ``deleted`` ones go again."""

    path: str = Field(pattern=_PATH_PATTERN)
    text: str
    owner: str = "root"
    repeat: int = Field(default=1, ge=1, le=100_000)
    deleted: bool = False


class Use(_Table):
    """What some weeks of use leave, on the simulated host."""

    days: int = Field(default=0, ge=0, le=3650)
    visitor: str = ""
    swap_text: str = ""
    files: list[UsedFile] = []


class BuildSheet(_Table):
    """A whole sheet; ``docs/build-sheet.md`` describes every key."""

    version: Literal[1]
    machine: MachineSettings
    origin: Origin
    seed: SeedSettings
    use: Use = Use()


def load_sheet(path: Path) -> BuildSheet:
    """Reads and validates a build sheet.

    Raises:
        MissingError: it is not there.
        UsageError: it is no TOML, or a key is unknown, missing or wrong; names the key.
    """
    try:
        document = tomllib.loads(path.read_text("utf-8"))
    except OSError as error:
        reason = (error.strerror or "").lower()
        raise MissingError(f"cannot read the build sheet {path}: {reason}") from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise UsageError(f"the build sheet {path} is no valid TOML: {error}") from error
    try:
        return BuildSheet.model_validate(document)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        key = ".".join(str(part) for part in first["loc"])
        reason = "unknown key" if first["type"] == "extra_forbidden" else first["msg"].lower()
        raise UsageError(f"the build sheet {path} is wrong at {key}: {reason}") from error
