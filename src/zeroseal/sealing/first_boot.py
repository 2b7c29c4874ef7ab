"""The small unit that ``--plant-first-boot`` puts into a guest: it makes missing SSH host keys."""

from __future__ import annotations

from zeroseal.errors import RefusedError
from zeroseal.guests.guest import Guest

UNIT_NAME = "zeroseal-first-boot.service"
UNIT_PATH = f"/etc/systemd/system/{UNIT_NAME}"
_WANTS_FOLDER = "/etc/systemd/system/multi-user.target.wants"
_UNIT_TEXT = """\
# Planted by Zero Seal: a sealed machine has no SSH host keys until it first starts.
[Unit]
Description=New SSH host keys for a machine made from a sealed template
ConditionPathExists=!/etc/ssh/ssh_host_ed25519_key
Before=ssh.service sshd.service ssh.socket sshd.socket

[Service]
Type=oneshot
ExecStart=/usr/bin/ssh-keygen -A

[Install]
WantedBy=multi-user.target
"""


def check_plantable(guest: Guest) -> None:
    """Raises RefusedError where the unit could not work."""
    for path, what in (
        ("/etc/systemd/system", "systemd"),
        ("/usr/bin/ssh-keygen", "ssh-keygen"),
    ):
        if not guest.exists(path):
            raise RefusedError(
                f"--plant-first-boot needs {what} in the guest, and {path} is not there: leave the "
                "option out and retain the host keys, or expect a seed"
            )


def plant(guest: Guest) -> None:
    """Puts the unit into the guest and enables it; one that is there already stays."""
    if not guest.exists(UNIT_PATH):
        guest.create_file(UNIT_PATH, _UNIT_TEXT.encode(), 0o644)
    if not guest.exists(_WANTS_FOLDER):
        guest.create_folder(_WANTS_FOLDER, 0o755)
    link = f"{_WANTS_FOLDER}/{UNIT_NAME}"
    if guest.find(link, follow_last=False) is None:
        guest.create_link(link, UNIT_PATH)
