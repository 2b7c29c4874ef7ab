"""The keys of ``zeroseal.toml``."""

from __future__ import annotations

from zeroseal.documents import Table


class SettingsFile(Table, frozen=True):
    """A file of settings; paths start at its folder.

    Attributes:
        yard: the folder of machines.
        shelf: the folder of templates.
        rules: files of house rules, a later one over those before it.
        trusted: public keys whose signatures on seal records count.
        host: what runs machines: ``qemu``, ``libvirt`` or ``simulated``.
    """

    yard: str = ""
    shelf: str = ""
    rules: list[str] = []  # noqa: RUF012 - msgspec copies it
    trusted: list[str] = []  # noqa: RUF012 - msgspec copies it
    host: str = ""
