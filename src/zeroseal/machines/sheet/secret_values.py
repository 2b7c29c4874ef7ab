"""Secrets that a build sheet refers to by name, ``${secret:NAME}``, and never holds.

They come from a TOML file of names and texts, or from the environment (``ZEROSEAL_SECRET_NAME``).
What a guest prints is redacted before it reaches a log, an error or a screen.
"""

from __future__ import annotations

import re
import stat
import sys
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from zeroseal.errors import MissingError, RefusedError, UsageError
from zeroseal.messages import machines as messages

ENVIRONMENT_PREFIX = "ZEROSEAL_SECRET_"
_REFERENCE = re.compile(r"\$\{secret:([A-Za-z0-9_.-]+)\}")
_SHORTEST_REDACTED = 4  # a shorter text stands everywhere by accident
_REDACTED = "[secret]"


@dataclass(frozen=True)
class Secrets:
    """Named secrets; the representation shows none of them."""

    values: Mapping[str, str] = field(default_factory=dict, repr=False)

    def fill(self, value: Any, where: str) -> Any:
        """A copy of a parsed TOML value with every reference replaced.

        Raises:
            UsageError: a secret is not known; names it, and how to give it.
        """
        if isinstance(value, dict):
            return {key: self.fill(item, f"{where}.{key}") for key, item in value.items()}
        if isinstance(value, list):
            return [self.fill(item, where) for item in value]
        if isinstance(value, str):
            return _REFERENCE.sub(lambda match: self._get(match[1], where), value)
        return value

    def redact(self, text: str) -> str:
        """A text without any of the secrets."""
        for secret in sorted(self.values.values(), key=len, reverse=True):
            if len(secret) >= _SHORTEST_REDACTED:
                text = text.replace(secret, _REDACTED)
        return text

    def _get(self, name: str, where: str) -> str:
        if name not in self.values:
            raise UsageError(
                messages.SECRET_NOT_FOUND.format(
                    name=name,
                    key=where.lstrip("."),
                    environment_prefix=ENVIRONMENT_PREFIX,
                    variable=_variable(name),
                )
            )
        return self.values[name]


def read_secrets(path: Path | None, environ: Mapping[str, str]) -> Secrets:
    """Reads secrets; the environment goes before the file.

    Raises:
        MissingError, UsageError: the file cannot be read, or is no table of names and texts.
        RefusedError: others may read the file.
    """
    values = {} if path is None else _read_file(path)
    names = {_variable(name): name for name in values}
    for key, value in environ.items():
        if key.startswith(ENVIRONMENT_PREFIX):
            variable = key.removeprefix(ENVIRONMENT_PREFIX)
            values[names.get(variable, variable.lower())] = value
    return Secrets(values)


def _read_file(path: Path) -> dict[str, str]:
    try:
        mode = path.stat().st_mode
        document = tomllib.loads(path.read_text("utf-8"))
    except OSError as error:
        reason = (error.strerror or "").lower()
        raise MissingError(messages.CANNOT_READ_SECRETS.format(path=path, reason=reason)) from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise UsageError(messages.SECRETS_NOT_TOML.format(path=path)) from error
    if sys.platform != "win32" and stat.S_IMODE(mode) & 0o077:
        raise RefusedError(messages.OTHER_USERS_CAN_READ_SECRETS.format(path=path))
    wrong = next((key for key, value in document.items() if not isinstance(value, str)), None)
    if wrong is not None:
        raise UsageError(messages.SECRET_NOT_TEXT.format(wrong=wrong, path=path))
    return document


def _variable(name: str) -> str:
    return re.sub(r"[^A-Z0-9]", "_", name.upper())
