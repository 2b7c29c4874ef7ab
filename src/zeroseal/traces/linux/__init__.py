"""Traces of a Linux that no pattern can name: where they are, and what is done there."""

from zeroseal.traces.linux import (
    accounts,
    boot_entries,
    histories,
    host_name,
    initramfs,
    keys,
    snapshots,
    static_addresses,
    swap_files,
)

__all__ = [
    "accounts",
    "boot_entries",
    "histories",
    "host_name",
    "initramfs",
    "keys",
    "snapshots",
    "static_addresses",
    "swap_files",
]
