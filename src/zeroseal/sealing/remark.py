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
    "named-after-host": "a volume group or logical volume is named after the host",
    "version-history": "a version history over settings or a home keeps what the seal removes",
    "folder-checksums": "folders lack checksums that the kernel wants",
    "static-address": "a static address stays",
    "service-account": "an account in the human range runs a service",
    "homed-account": "systemd-homed keeps accounts of its own",
    "domain-member": "the machine belongs to a domain",
    "sleeping-swap-file": "a swap file holds a sleeping system",
    "shared-identifier": "a Windows starts plainly: clones would share its security identifier",
    "first-start": "a Windows will start in another way than house rules allow",
    "work-pending": "a Windows has work to do at its next start",
    "cloud-member": "a Windows has joined a directory in a cloud",
    "server-role": "a Windows has a role that cannot be copied",
    "volume-not-closed": "a volume of Windows was not closed",
    "no-registry": "the registry of a Windows cannot be read",
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
    "first-start-told": "how a Windows will start",
    "broken-by-reissue": "what a new security identifier breaks",
    "one-user-applications": "applications are installed for one user only",
    "offline-only": "what is proven of a Windows is proven offline",
    "answer-passwords": "an answer file that stays holds passwords",
    "strange-identifiers": "rights name security identifiers that are unknown",
    "fast-start": "Windows shuts down for a fast start",
    "network-is-public": "a new network counts as public at first",
    "disk-drivers": "drivers for a virtual host's disk or network card",
    "remote-desktop": "whether Remote Desktop is on",
    "time-zone": "the time zone that clones keep",
    "licensing": "activation and re-arm counts",
    "card-guids": "GUIDs of network cards stay",
    "password-in-settings": "settings that look as if they held a password",
    "hosts-file": "the hosts file names machines",
    "kept-secrets": "secrets of services that are removed",
    "review-agents": "ids of agents that are not known here",
}
"""Remarks that do not stop a seal unless house rules say otherwise."""

CONSEQUENCES = ("broken-by-reissue", "answer-passwords", "offline-only")
"""Remarks about what a seal's policy lead to: told first, and kept in the seal record."""

CODES = {**BLOCKERS, **ADVICE}
