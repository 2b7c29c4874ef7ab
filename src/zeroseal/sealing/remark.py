"""A remark on a machine: a sentence, and the code by which house rules name its kind."""

from __future__ import annotations

from typing import NamedTuple

from zeroseal.sealing.what_stays import SECRET_KINDS


class Remark(NamedTuple):
    """What is to be said of a machine."""

    code: str
    text: str


BLOCKERS = {
    "half-installed-packages": "packages are only partly installed",
    "signed-boot-image": "a signed boot image has this machine's identity inside",
    "named-after-host": "a volume group or logical volume is named after the host",
    "version-history": "a version history of settings or a home folder keeps what the seal removes",
    "snapshots": "snapshots of mounted file systems keep what the seal removes",
    "folder-checksums": "folders lack checksums that the kernel expects",
    "static-address": "a static address stays",
    "no-fallback-loader": "clones with UEFI find no loader: only this machine's firmware knows one",
    "service-account": "an account in the human range runs a service",
    "homed-account": "systemd-homed keeps accounts of its own",
    "domain-member": "the machine belongs to a domain",
    "sleeping-swap-file": "a swap file holds a hibernated system",
    "shared-identifier": "a Windows guest is not resealed: clones share its security identifier",
    "first-start": "the first start of a Windows guest is not one that the house rules allow",
    "work-pending": "a Windows guest has pending work for its next start",
    "cloud-member": "a Windows guest has joined a cloud directory",
    "server-role": "a Windows guest has a role that cannot be copied",
    "volume-not-closed": "an NTFS volume was not closed",
    "no-registry": "the registry of a Windows guest cannot be read",
}
"""Remarks that stop a seal unless house rules say otherwise: code to what it is about."""

ADVICE = {
    "snapshots-dropped": "snapshots are removed",
    "snapshots-sealed": "snapshots are treated like the guest",
    "default-kernel": "an older kernel boots by default",
    "old-kernels": "several kernels are installed",
    "restart-pending": "a restart is due",
    "pending-updates": "newer packages are available",
    "no-guest-agent": "no guest agent",
    "no-ssh-server": "no SSH server is installed or enabled",
    "roomy-disk": "the disk is much larger than its contents",
    "unclaimed-files": "files that no package owns and that look like identity stay",
    "private-keys": "private keys stay",
    "kept-tokens": "files with tokens stay",
    "url-passwords": "passwords in addresses stay",
    "setting-passwords": "passwords in settings stay",
    "mail-passwords": "passwords of a mail relay stay",
    "line-passwords": "passwords of dial-up or tunnel lines stay",
    "source-passwords": "passwords of package sources stay",
    "service-passwords": "passwords of services stay",
    "cloud-credentials": "credentials of cloud and container tools stay",
    "skeleton-secrets": "new accounts get secrets from the skeleton folder",
    "job-secrets": "lines of jobs and units hold secrets",
    "kept-archives": "archives of settings or homes, or database dumps, stay",
    "covered-files": "files are hidden beneath a mount point",
    "shared-databases": "databases stay with their identifiers and accounts",
    "named-databases": "a database is named after the host",
    "storage-targets": "iSCSI targets of the machine stay",
    "left-behind-files": "files of removed accounts stay in other places",
    "name-elsewhere": "the old name or address is still in other files",
    "shared-certificate": "a self-signed certificate stays",
    "seeding-off": "cloud-init is disabled",
    "first-boot-marker": "a marker makes the next start ask questions or take longer",
    "install-medium": "an installation medium is listed as a package source or mount",
    "tpm-secrets": "something is sealed to the TPM of this machine",
    "bios-only": "machines with UEFI find no loader, those with BIOS do",
    "no-serial-console": "no serial console",
    "security-state": "the state of SELinux and of the firewall",
    "container-data": "container images and volumes stay",
    "snap-device": "snapd identifies the machine as one device",
    "password-in-proxy": "a proxy is configured with its password",
    "name-servers": "name servers are fixed",
    "start-mode": "how a Windows guest will start",
    "broken-by-reissue": "what a new security identifier breaks",
    "generalize-pass": "what Windows' own generalize pass would stop at",
    "one-user-applications": "applications are installed for one user only",
    "offline-only": "a Windows guest is proven offline only",
    "answer-passwords": "an answer file that stays holds passwords",
    "strange-identifiers": "permissions refer to unknown security identifiers",
    "fast-start": "Windows shuts down for a fast start",
    "network-is-public": "a new network is treated as public at first",
    "disk-drivers": "drivers for a virtual host's disk or network card",
    "product-ids": "product IDs and product keys of Windows stay",
    "event-subscriptions": "subscriptions to events stay",
    "redirected-folders": "profiles or folders of a person are outside the system volume",
    "service-profiles": "profiles of services stay",
    "machine-certificate": "a certificate that names the computer stays",
    "unknown-version": "the version of Windows is not known",
    "builtin-profile": "whether the profile of a built-in account goes",
    "remote-desktop": "whether Remote Desktop is on",
    "time-zone": "the time zone of the clones",
    "licensing": "activation and re-arm counts",
    "card-guids": "GUIDs of network cards stay",
    "password-in-settings": "settings that look as if they held a password",
    "hosts-file": "the hosts file has entries",
    "kept-secrets": "secrets of services that are removed",
    "review-agents": "agents with identifiers that are not in the catalogue",
}
"""Remarks that do not stop a seal unless house rules say otherwise."""

CONSEQUENCES = (
    *SECRET_KINDS,
    "covered-files",
    "shared-databases",
    "named-databases",
    "storage-targets",
    "broken-by-reissue",
    "answer-passwords",
    "offline-only",
    "snapshots-dropped",
    "snapshots-sealed",
    "unclaimed-files",
)
"""Remarks about what a seal's policy lead to: told first, and kept in the seal record."""

CODES = {**BLOCKERS, **ADVICE}
