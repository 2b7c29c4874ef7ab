"""Is the guest fit to be a template? By its packages, kernels, services and network.

Blockers are what would be wrong on every clone; hints are what an administrator wants to know.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

from zeroseal.blocks.sizes import size_text
from zeroseal.guests.guest import Guest
from zeroseal.guests.kernels import default_kernel, newest_first
from zeroseal.guests.packages import pending_updates, read_packages
from zeroseal.guests.services import Services
from zeroseal.guests.static_addresses import find_static_addresses
from zeroseal.images.image import Image
from zeroseal.sealing.house_rules import any_pattern_fits
from zeroseal.traces.initramfs_finder import iter_sealed_boot_images

_AGENTS = ("/usr/sbin/qemu-ga", "/usr/bin/qemu-ga", "/usr/bin/vmtoolsd", "/usr/sbin/hv_kvp_daemon")
_SSH_UNITS = ("ssh.service", "sshd.service", "ssh.socket", "sshd.socket", "dropbear.service")
_MANY_KERNELS = 2
_ROOMY_BYTES, _ROOMY_TIMES = 40 << 30, 10
_NAMED = 5


def find_guest_blockers(
    guest: Guest, allows_static: bool, allowed_paths: tuple[str, ...] = ()
) -> Iterator[str]:
    """Sentences about what would be wrong on every clone.

    Args:
        guest: what is judged.
        allows_static: whether clones may begin with the machine's static address.
        allowed_paths: patterns of files that may keep what they hold of the machine.
    """
    half = [package.name for package in read_packages(guest) if package.is_half_installed]
    if half:
        yield (
            f"{len(half)} packages are half installed ({some_of(half)}): start the machine and let "
            "the package manager finish them (dpkg --configure -a)."
        )
    for path, entries in iter_sealed_boot_images(guest):
        if any_pattern_fits(allowed_paths, path):
            continue
        yield (
            f"{path} is a boot image with {some_of(list(entries))} of this machine inside, and "
            "cannot be changed without breaking its signature: build it anew without, remove it, "
            "or allow it in the house rules (allow.residue)."
        )
    if not allows_static:
        for path, addresses in find_static_addresses(guest):
            yield (
                f"{path} gives the machine the static address {', '.join(addresses)}, which every "
                "clone would take: change it to DHCP, or use --allow-static-address."
            )


def find_guest_hints(image: Image, guest: Guest) -> Iterator[str]:
    """Sentences about what is worth knowing before a seal."""
    yield from _kernel_hints(guest)
    yield from _update_hints(guest)
    yield from _service_hints(guest)
    stored = sum(file.allocated_bytes for file in image.files)
    if image.size_bytes > _ROOMY_BYTES and stored * _ROOMY_TIMES < image.size_bytes:
        yield (
            f"The disk of {size_text(image.size_bytes)} holds {size_text(stored)}: clones may not "
            "need so large a disk."
        )


def _kernel_hints(guest: Guest) -> Iterator[str]:
    kernels = newest_first(guest)
    default = default_kernel(guest)
    if default and kernels and default != kernels[0]:
        yield f"It boots the kernel {default} by default, though {kernels[0]} is installed."
    if len(kernels) > _MANY_KERNELS:
        yield f"It keeps {len(kernels)} kernels; the older ones are {some_of(kernels[1:])}."
    if guest.exists("/var/run/reboot-required") or guest.exists("/run/reboot-required"):
        yield "Its package manager asked for a restart that has not happened."


def _update_hints(guest: Guest) -> Iterator[str]:
    pending = pending_updates(guest)
    if pending is None:
        return
    day = datetime.fromtimestamp(pending.lists_from, UTC).strftime("%Y-%m-%d")
    if pending.names:
        count = len(pending.names)
        yield (
            f"{count} package{'' if count == 1 else 's'} could be newer by the package lists of "
            f"{day}: {some_of(pending.names)}."
        )
    else:
        yield f"By the package lists of {day} every package is up to date."


def _service_hints(guest: Guest) -> Iterator[str]:
    if not any(guest.exists(path) for path in _AGENTS):
        yield "No guest agent is installed: hosts cannot ask the clones for their addresses."
    server = guest.exists("/usr/sbin/sshd") or guest.exists("/usr/sbin/dropbear")
    if server and not Services(guest).first_enabled(_SSH_UNITS):
        yield "The SSH server is installed but not enabled."
    elif not server:
        yield "No SSH server is installed."


def some_of(names: list[str]) -> str:
    """The first few of many names, for a sentence."""
    rest = len(names) - _NAMED
    return ", ".join(names[:_NAMED]) + (f" and {rest} more" if rest > 0 else "")
