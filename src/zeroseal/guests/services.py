"""Which services the guest starts, from systemd's enablement links (systemd.unit(5))."""

from __future__ import annotations

from zeroseal.guests.guest import Guest

_UNIT_FOLDERS = ("/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system")


def is_unit_enabled(guest: Guest, unit: str) -> bool:
    """Whether some other unit pulls this one in, and nothing masks it.

    A template's instances (``sshd-keygen@rsa.service``) are matched with ``sshd-keygen@*.service``.
    """
    if _is_masked(guest, unit):
        return False
    return any(
        guest.glob(f"{folder}/*.{kind}/{unit}")
        for folder in _UNIT_FOLDERS
        for kind in ("wants", "requires")
    )


def seeding_service(guest: Guest) -> str:
    """The enabled service that takes a seed on a first boot; empty where there is none."""
    if guest.exists("/etc/cloud/cloud-init.disabled"):
        return ""
    for unit in ("cloud-init.service", "cloud-init-main.service"):
        if is_unit_enabled(guest, unit):
            return "cloud-init"
    return ""


def _is_masked(guest: Guest, unit: str) -> bool:
    found = guest.find(f"/etc/systemd/system/{unit}", follow_last=False)
    if found is None:
        return False
    resolved = guest.find(f"/etc/systemd/system/{unit}")
    return (resolved.path if resolved else "/dev/null") == "/dev/null"
