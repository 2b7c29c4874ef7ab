"""A remark on a machine: a sentence, and the code by which house rules name its kind."""

from __future__ import annotations

from typing import NamedTuple


class Remark(NamedTuple):
    """What is to be said of a machine."""

    code: str
    text: str


BLOCKERS = {
    "half-installed-packages": "packages are half installed",
    "signed-boot-image": "a signed boot image holds this machine's identity",
    "static-address": "a static address stays",
    "service-account": "an account in the human range runs a service",
    "homed-account": "systemd-homed keeps accounts of its own",
    "domain-member": "the machine belongs to a domain",
    "sleeping-swap-file": "a swap file holds a sleeping system",
}
"""Remarks that stop a seal unless house rules say otherwise: code to what it is about."""

ADVICE = {
    "default-kernel": "an older kernel boots by default",
    "old-kernels": "several kernels are installed",
    "restart-pending": "a restart is due",
    "pending-updates": "newer packages are known",
    "no-guest-agent": "no guest agent",
    "no-ssh-server": "no SSH server, or none that is enabled",
    "roomy-disk": "the disk is much larger than its use",
    "left-behind-files": "files of removed accounts stay elsewhere",
    "name-elsewhere": "the old name or address stands in other files",
    "shared-certificate": "a self-made certificate stays",
    "private-keys": "private keys of services stay",
    "seeding-off": "cloud-init is switched off",
    "first-boot-marker": "a marker makes the next start ask questions or take long",
    "install-medium": "an installation medium is named",
    "no-fallback-loader": "the EFI partition has no fallback loader",
    "no-serial-console": "no serial console",
    "security-state": "what SELinux and the firewall do",
    "container-data": "container images and volumes stay",
    "snap-device": "snapd knows the machine as one device",
    "password-in-proxy": "a proxy is named with its password",
    "name-servers": "name servers are fixed",
}
"""Remarks that do not stop a seal unless house rules say otherwise."""

CODES = {**BLOCKERS, **ADVICE}
