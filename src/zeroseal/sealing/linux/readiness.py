"""Is the guest fit to be a template? By its packages, kernels, services, network and leftovers."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from datetime import UTC, datetime

from zeroseal.blocks.sizes import size_text
from zeroseal.blocks.store import MemoryStore
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.kernels import default_kernel, newest_first
from zeroseal.guests.linux.loaders import EfiLoaders, fallback_copies, find_efi_loaders
from zeroseal.guests.linux.packages import pending_updates, read_packages
from zeroseal.guests.linux.static_addresses import find_static_addresses
from zeroseal.messages import sealing_linux as messages
from zeroseal.sealing.house_rules import Requirements, any_pattern_fits
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.linux.account_use import find_services_of_accounts
from zeroseal.sealing.linux.databases import describe_databases
from zeroseal.sealing.linux.left_behind import describe as describe_left_behind
from zeroseal.sealing.linux.name_spread import describe_spread
from zeroseal.sealing.linux.projected import ProjectedLinux
from zeroseal.sealing.linux.snapshots import snapshot_remarks
from zeroseal.sealing.place_finder import LVM_METADATA
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.remark import Remark
from zeroseal.sentences import capitalised, counted, some_of
from zeroseal.traces.linux.histories import histories_of
from zeroseal.traces.linux.initramfs import iter_sealed_boot_images
from zeroseal.traces.linux.swap_files import HEADER_BYTES, iter_swap_files
from zeroseal.volumes.swap import find_swap

_AGENTS = ("/usr/sbin/qemu-ga", "/usr/bin/qemu-ga", "/usr/bin/vmtoolsd", "/usr/sbin/hv_kvp_daemon")
_SSH_UNITS = ("ssh.service", "sshd.service", "ssh.socket", "sshd.socket", "dropbear.service")
_MANY_KERNELS = 2
_DAY = 86400
_ROOMY_BYTES, _ROOMY_TIMES = 40 << 30, 10
_FIREWALLS = ("ufw.service", "firewalld.service", "nftables.service", "iptables.service",
              "netfilter-persistent.service")  # fmt: skip
_MARKERS = ("/.unconfigured", "/etc/reconfigSys", "/.autorelabel", "/var/lib/first-boot")
_CONTAINER_FOLDERS = ("/var/lib/docker/overlay2", "/var/lib/docker/volumes",
                      "/var/lib/containers/storage/overlay", "/var/lib/containerd/io.containerd."
                      "snapshotter.v1.overlayfs/snapshots")  # fmt: skip
_PROXY = re.compile(r"(?i)https?://[^\s/@:'\"]+:[^\s/@'\"]+@")
_PROXY_FILES = ("/etc/environment", "/etc/apt/apt.conf", "/etc/apt/apt.conf.d/*", "/etc/yum.conf",
                "/etc/dnf/dnf.conf", "/etc/profile.d/*.sh", "/etc/sysconfig/proxy")  # fmt: skip
_SELF_MADE = "/etc/ssl/private/ssl-cert-snakeoil.key"
_DIRECTORY = re.compile(r"(?m)^\s*(id_provider\s*=\s*(ad|ipa)|security\s*=\s*(ads|domain))\s*$")


def find_blockers(projected: ProjectedLinux) -> Iterator[Remark]:
    """Remarks about what would be wrong on every clone."""
    guest, policy = projected.guest, projected.policy
    half = [package.name for package in read_packages(guest) if package.is_half_installed]
    if half:
        yield Remark(
            "half-installed-packages",
            messages.HALF_INSTALLED_PACKAGES.format(count=len(half), packages=some_of(half)),
        )
    for path, entries in iter_sealed_boot_images(guest):
        if not any_pattern_fits(policy.residue_places, path):
            yield Remark(
                "signed-boot-image",
                messages.SIGNED_BOOT_IMAGE.format(path=path, list=some_of(list(entries))),
            )
    if not policy.asks_dhcp and not policy.allows_static_address:
        for path, addresses in find_static_addresses(guest):
            yield Remark(
                "static-address",
                messages.STATIC_ADDRESS.format(path=path, addresses=", ".join(addresses)),
            )
    yield from snapshot_remarks(projected.context, policy)
    if not policy.restarts_history:
        for path in histories_of(projected.context):
            yield Remark(
                "version-history",
                messages.VERSION_HISTORY.format(path=path),
            )
    yield from _loader_blockers(projected)
    yield from _account_blockers(projected)
    yield from _named_after_host(projected.inspection, policy)
    yield from _domain(guest)
    homed = guest.glob("/var/lib/systemd/home/*.identity")
    if homed:
        names = [path.rpartition("/")[2].removesuffix(".identity") for path in homed]
        yield Remark(
            "homed-account",
            messages.HOMED_ACCOUNTS.format(names=some_of(names)),
        )
    for path in iter_swap_files(guest):
        area = find_swap(MemoryStore(guest.read_file(path, HEADER_BYTES)))
        if area and area.hibernated:
            yield Remark(
                "sleeping-swap-file",
                messages.HIBERNATED_SYSTEM.format(path=path),
            )


def find_advice(projected: ProjectedLinux, handled: set[str]) -> Iterator[Remark]:
    """Remarks about what is worth knowing before a seal.

    Args:
        projected: what clones will find.
        handled: paths that the plan rewrites.
    """
    guest, image = projected.guest, projected.inspection.get_image()
    yield from _kernels(guest)
    yield from _updates(guest)
    yield from _services(projected)
    yield from _seeding(projected)
    yield from _boot(projected)
    yield from _tpm_secrets(guest)
    yield from _data(projected)
    yield from describe_databases(projected)
    for text in describe_left_behind(projected):
        yield Remark("left-behind-files", text)
    for text in describe_spread(projected, handled):
        yield Remark("name-elsewhere", text)
    stored = sum(file.allocated_bytes for file in image.files)
    if image.size_bytes > _ROOMY_BYTES and stored * _ROOMY_TIMES < image.size_bytes:
        yield Remark(
            "roomy-disk",
            messages.DISK_MUCH_LARGER.format(
                size=size_text(image.size_bytes), used=size_text(stored)
            ),
        )


def _account_blockers(projected: ProjectedLinux) -> Iterator[Remark]:
    users: dict[str, list[str]] = {}
    for name, service in find_services_of_accounts(projected):
        users.setdefault(name, []).append(service)
    for name, services in users.items():
        yield Remark(
            "service-account",
            messages.SERVICE_RUNS_AS_PERSON.format(services=some_of(services), name=name),
        )


def _domain(guest: Guest) -> Iterator[Remark]:
    for path in ("/etc/sssd/sssd.conf", "/etc/samba/smb.conf"):
        text = guest.read_text(path)
        has_secret = guest.exists("/etc/krb5.keytab") or guest.exists(
            "/var/lib/samba/private/secrets.tdb"
        )
        if has_secret and _DIRECTORY.search(text):
            yield Remark(
                "domain-member",
                messages.JOINED_DOMAIN.format(path=path),
            )
            return


def _kernels(guest: Guest) -> Iterator[Remark]:
    kernels = newest_first(guest)
    default = default_kernel(guest)
    if default and kernels and default != kernels[0]:
        yield Remark(
            "default-kernel",
            messages.OLDER_KERNEL_BOOTS.format(default=default, kernels=kernels[0]),
        )
    if len(kernels) > _MANY_KERNELS:
        yield Remark(
            "old-kernels",
            messages.SEVERAL_KERNELS.format(count=len(kernels), older=some_of(kernels[1:])),
        )
    if guest.exists("/var/run/reboot-required") or guest.exists("/run/reboot-required"):
        yield Remark("restart-pending", messages.RESTART_DUE)


def _updates(guest: Guest) -> Iterator[Remark]:
    pending = pending_updates(guest)
    if pending is None:
        return
    day = datetime.fromtimestamp(pending.lists_from, UTC).strftime("%Y-%m-%d")
    if pending.names:
        count = len(pending.names)
        text = (
            f"{counted(count, 'package')} can be updated according to the package "
            f"lists of {day}: {some_of(pending.names)}."
        )
    else:
        text = f"Every package is up to date according to the package lists of {day}."
    yield Remark("pending-updates", text)


def _services(projected: ProjectedLinux) -> Iterator[Remark]:
    guest, services = projected.guest, projected.services
    if not any(guest.exists(path) for path in _AGENTS):
        yield Remark(
            "no-guest-agent",
            messages.NO_GUEST_AGENT_INSTALLED,
        )
    server = guest.exists("/usr/sbin/sshd") or guest.exists("/usr/sbin/dropbear")
    if server and not services.first_enabled(_SSH_UNITS, projected.gone):
        yield Remark("no-ssh-server", messages.SSH_SERVER_INSTALLED_NOT_ENABLED)
    elif not server:
        yield Remark("no-ssh-server", messages.NO_SSH_SERVER_INSTALLED)
    mode = re.search(r"(?m)^SELINUX=(\w+)", guest.read_text("/etc/selinux/config"))
    firewall = services.first_enabled(_FIREWALLS, projected.gone)
    if mode or firewall:
        parts = [f"SELinux is {mode[1]}"] if mode else []
        parts += [f"the firewall is {firewall.removesuffix('.service')}"] if firewall else []
        yield Remark("security-state", messages.SECURITY_STATE.format(parts=" and ".join(parts)))


def _seeding(projected: ProjectedLinux) -> Iterator[Remark]:
    seeding = projected.cloud_init
    if seeding.off_by:
        yield Remark(
            "seeding-off",
            messages.CLOUD_INIT_DISABLED.format(off_by=seeding.off_by),
        )
    for path in _MARKERS:
        if projected.stays(path):
            yield Remark(
                "first-boot-marker",
                messages.START_MARKER.format(path=path),
            )


def _boot(projected: ProjectedLinux) -> Iterator[Remark]:
    guest = projected.guest
    sources = guest.read_text("/etc/apt/sources.list")
    if re.search(r"(?m)^deb cdrom:", sources):
        yield Remark(
            "install-medium",
            messages.INSTALLATION_MEDIUM_AS_SOURCE,
        )
    if re.search(r"(?m)^/dev/(cdrom|sr\d)\s", guest.read_text("/etc/fstab")):
        yield Remark("install-medium", messages.CD_DRIVE_IN_FSTAB)
    loaders = find_efi_loaders(guest)
    if loaders and loaders.needs_entry and not _must_start_by_efi(projected, loaders):
        yield Remark("bios-only", messages.ONLY_BIOS_LOADER.format(esp=loaders.folder))
    command_lines = " ".join(
        guest.read_text(path)
        for path in ("/boot/grub/grub.cfg", "/boot/grub2/grub.cfg", "/etc/default/grub",
                     "/etc/kernel/cmdline", *guest.glob("/boot/loader/entries/*.conf"))
    )  # fmt: skip
    if command_lines.strip() and "console=ttyS" not in command_lines:
        yield Remark(
            "no-serial-console",
            messages.NO_SERIAL_CONSOLE,
        )


def _tpm_secrets(guest: Guest) -> Iterator[Remark]:
    """What only the TPM of this machine opens: clones have another one."""
    lines = guest.read_text("/etc/crypttab").splitlines()
    if any("tpm2-device=" in line for line in lines if not line.lstrip().startswith("#")):
        yield Remark("tpm-secrets", messages.TPM_IN_CRYPTTAB)
    for folder in ("/etc/credstore.encrypted", "/usr/lib/credstore.encrypted"):
        for path in guest.glob(f"{folder}/*"):
            yield Remark("tpm-secrets", messages.SEALED_CREDENTIAL.format(path=path))


def _must_start_by_efi(projected: ProjectedLinux, loaders: EfiLoaders) -> bool:
    machine = projected.policy.machine
    firmware = (machine.hardware or {}).get("firmware") if machine else None
    return firmware == "uefi" or not loaders.starts_by_bios


def _loader_blockers(projected: ProjectedLinux) -> Iterator[Remark]:
    """Clones get firmware variables of their own, which name no loader."""
    policy, loaders = projected.policy, find_efi_loaders(projected.guest)
    if loaders is None or not loaders.needs_entry or policy.plants_fallback_loader:
        return
    if _must_start_by_efi(projected, loaders):
        entries = policy.machine.boot_entries if policy.machine else ()
        copies = fallback_copies(loaders)
        likely = [copies[0].source] if copies else list(loaders.loaders)
        started = some_of(list(entries) or likely)
        way = messages.PLANT_LOADER if copies else messages.INSTALL_LOADER
        text = messages.NO_FALLBACK_LOADER.format(esp=loaders.folder, started=started, way=way)
        yield Remark("no-fallback-loader", text)


def _data(projected: ProjectedLinux) -> Iterator[Remark]:
    guest = projected.guest
    for folder in _CONTAINER_FOLDERS:
        files, size = guest.size_of(folder) if guest.is_folder(folder) else (0, 0)
        if files:
            yield Remark(
                "container-data",
                messages.CONTAINER_FILES.format(
                    folder=folder, files=files, size_text=size_text(size)
                ),
            )
    if guest.exists("/var/lib/snapd/state.json"):
        yield Remark(
            "snap-device",
            messages.SNAPD_IDENTITY,
        )
    if projected.stays(_SELF_MADE):
        yield Remark(
            "shared-certificate",
            messages.SHARED_SNAKEOIL_CERTIFICATE,
        )
    for path in [path for pattern in _PROXY_FILES for path in guest.glob(pattern)]:
        if _PROXY.search(guest.read_text(path)):
            yield Remark("password-in-proxy", messages.PROXY_PASSWORD.format(path=path))
    servers = re.findall(r"(?m)^nameserver\s+(\S+)", guest.read_text("/etc/resolv.conf"))
    fixed = [server for server in servers if not server.startswith(("127.", "::1"))]
    found = guest.find("/etc/resolv.conf", follow_last=False)
    if fixed and found and found.kind.value == "file":
        yield Remark(
            "name-servers",
            messages.FIXED_NAME_SERVERS.format(fixed=", ".join(fixed)),
        )


def _named_after_host(inspection: Inspection, policy: Policy) -> Iterator[Remark]:
    """Names that no seal can change, because boot loader and mounts go by them."""
    host = inspection.facts.host_name.partition(".")[0]
    if not host or not policy.treats_id("identity.host-name") or policy.accepts_residue:
        return
    word = re.compile(rf"(?i)(?<![a-z0-9]){re.escape(host)}(?![a-z0-9])")
    groups = {volume.group for volume in inspection.disk.volumes if volume.group}
    logical = {volume.name for volume in inspection.disk.volumes if volume.logical_name}
    named = [f"the volume group {name}" for name in sorted(groups) if word.search(name)]
    named += [
        f"the logical volume {name}"
        for name in sorted(logical)
        if word.search(name.partition("/")[2])
    ]
    places = [f"{LVM_METADATA}{volume.name}" for volume in inspection.disk.physical_volumes]
    if named and not all(any_pattern_fits(policy.residue_places, place) for place in places):
        yield Remark(
            "named-after-host",
            messages.VOLUME_NAMED_AFTER_HOST.format(
                named=capitalised(some_of(named)), places=places[0]
            ),
        )


def find_unmet(guest: Guest, required: Requirements) -> Iterator[str]:
    """Yields what house rules require of kernel and package lists, and is lacking."""
    if required.newest_kernel:
        yield from _required_kernel(guest)
    if required.lists_not_older_than_days:
        yield from _required_lists(guest, required.lists_not_older_than_days)


def _required_kernel(guest: Guest) -> Iterator[str]:
    kernels, default = newest_first(guest), default_kernel(guest)
    if not kernels:
        yield "The house rules require the newest kernel, but no kernel was found."
    elif default != kernels[0]:
        booted = f"{default} boots" if default else "no bootable kernel was found"
        yield f"The house rules require the newest kernel {kernels[0]}, but {booted}."


def _required_lists(guest: Guest, days: int) -> Iterator[str]:
    pending = pending_updates(guest)
    if pending is None:
        yield (
            f"The house rules require package lists of the last {days} days, but there are none."
        )
    elif time.time() - pending.lists_from > days * _DAY:
        age = int((time.time() - pending.lists_from) // _DAY)
        yield (f"The package lists are {age} days old, but the house rules allow {days}.")
