"""What ``--plant-first-boot`` puts into a guest: a script that runs once on a clone's first boot.

It makes anew what nothing else in the guest regrows, takes a seed where nothing else does, and
removes itself. The script itself is ``first_boot.sh``: plain shell, for systemd and OpenRC.
"""

from __future__ import annotations

from importlib import resources

from zeroseal.errors import RefusedError
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.services import Services
from zeroseal.messages import sealing_linux as messages

UNIT_NAME = "zeroseal-first-boot.service"
UNIT_PATH = f"/etc/systemd/system/{UNIT_NAME}"
SCRIPT_FOLDER = "/etc/zeroseal-first-boot"
SCRIPT_PATH = f"{SCRIPT_FOLDER}/first-boot"
INIT_SCRIPT_PATH = "/etc/init.d/zeroseal-first-boot"
PLANTED_LINKS = (
    f"/etc/systemd/system/multi-user.target.wants/{UNIT_NAME}",
    "/etc/runlevels/boot/zeroseal-first-boot",
)
ALWAYS = ("make_machine_id", "make_host_keys", "make_certificate", "make_storage_name")
SEED, DHCP, GROWTH, HISTORY = "take_seed", "ask_dhcp", "grow_root", "restart_history"
_ETCKEEPER = ("/usr/bin/etckeeper", "/usr/sbin/etckeeper", "/bin/etckeeper")
# before everything that needs a name, a network or keys; no default dependencies, because services
# that come before sysinit.target may wait for the network
_UNIT_TEXT = f"""\
# Planted by Zero Seal: makes anew what the seal of this machine's template removed.
[Unit]
Description=First boot of a machine made from a sealed template
DefaultDependencies=no
After=local-fs.target systemd-remount-fs.service systemd-udevd.service
Wants=network-pre.target
Before=network-pre.target ssh.service sshd.service ssh.socket sshd.socket dropbear.service
Before=iscsid.service open-iscsi.service shutdown.target
Conflicts=shutdown.target

[Service]
Type=oneshot
RemainAfterExit=yes
ExecStart=/bin/sh {SCRIPT_PATH}
StandardOutput=journal+console

[Install]
WantedBy=multi-user.target
"""
_INIT_SCRIPT_TEXT = f"""\
#!/sbin/openrc-run
# Planted by Zero Seal: makes anew what the seal of this machine's template removed.
description="First boot of a machine made from a sealed template"

depend() {{
  need localmount
  after hwdrivers modules
  before net hostname sshd dropbear
}}

start() {{
  ebegin "First boot of a machine made from a sealed template"
  /bin/sh {SCRIPT_PATH}
  eend $?
}}
"""


def check_plantable(guest: Guest, services: Services) -> None:
    """Raises RefusedError where a planted script could not run."""
    if not services.has_systemd and not services.has_openrc:
        raise RefusedError(messages.PLANT_FIRST_BOOT_NEEDS_SYSTEMD)
    if not guest.exists("/bin/sh"):
        raise RefusedError(messages.PLANT_FIRST_BOOT_NEEDS_SHELL)


def makes_host_keys(guest: Guest) -> bool:
    """Whether a planted script finds what it needs for SSH host keys."""
    return any(
        guest.exists(f"{folder}/{name}")
        for folder in ("/usr/bin", "/bin", "/usr/local/bin")
        for name in ("ssh-keygen", "dropbearkey")
    )


def makes_accounts(guest: Guest) -> bool:
    """Whether a planted script finds what it needs for accounts."""
    return any(
        guest.exists(f"{folder}/{name}")
        for folder in ("/usr/sbin", "/sbin", "/usr/bin", "/bin")
        for name in ("useradd", "adduser")
    )


def asks_dhcp(guest: Guest) -> str:
    """The network service that a planted script would configure; empty where it knows none."""
    for path, name in (
        ("/etc/NetworkManager/system-connections", "NetworkManager"),
        ("/etc/network/interfaces", "ifupdown"),
        ("/etc/systemd/network", "systemd-networkd"),
    ):
        if guest.exists(path):
            return name
    return ""


def can_run_script(guest: Guest, services: Services) -> bool:
    """Whether something in a guest would start a planted script, and a shell would run it."""
    return (services.has_systemd or services.has_openrc) and guest.exists("/bin/sh")


def restarts_history(guest: Guest, services: Services) -> bool:
    """Whether a planted script could run, and finds what begins a history of /etc again."""
    return can_run_script(guest, services) and any(guest.exists(path) for path in _ETCKEEPER)


def planted_paths(guest: Guest, services: Services) -> tuple[str, ...]:
    """The files and links that ``plant`` makes in a guest."""
    if is_planted(guest):
        return ()
    if services.has_systemd:
        return SCRIPT_PATH, UNIT_PATH, PLANTED_LINKS[0]
    return SCRIPT_PATH, INIT_SCRIPT_PATH, PLANTED_LINKS[1]


def is_planted(guest: Guest) -> bool:
    """Whether a script is there already."""
    return guest.exists(SCRIPT_PATH)


def read_tasks(guest: Guest) -> tuple[str, ...]:
    """The tasks of the script that is in the guest; none where there is none."""
    for line in guest.read_text(SCRIPT_PATH).splitlines():
        if line.startswith('TASKS="'):
            return tuple(line[7:].rstrip('"').split())
    return ()


def plant(
    guest: Guest, tasks: tuple[str, ...], services: Services, also_always: bool = True
) -> None:
    """Puts script and service into the guest and enables them; what is there already stays.

    Args:
        guest: opened with trees that can be changed.
        tasks: what the script does beside ``ALWAYS``, a choice of ``SEED``, ``DHCP``,
            ``GROWTH``, ``HISTORY``.
        services: of the guest, which say what starts the script.
        also_always: whether it does what is in ``ALWAYS`` too.
    """
    if is_planted(guest):
        return
    text = (resources.files("zeroseal.sealing.linux") / "first_boot.sh").read_text("utf-8")
    text = text.replace("@TASKS@", " ".join((*(ALWAYS if also_always else ()), *tasks)))
    guest.make_folders(SCRIPT_FOLDER, 0o755)
    guest.create_file(SCRIPT_PATH, text.encode(), 0o755)
    if services.has_systemd:
        _put(guest, UNIT_PATH, _UNIT_TEXT, 0o644)
        _enable(guest, PLANTED_LINKS[0], UNIT_PATH)
    else:
        _put(guest, INIT_SCRIPT_PATH, _INIT_SCRIPT_TEXT, 0o755)
        _enable(guest, PLANTED_LINKS[1], INIT_SCRIPT_PATH)


def _put(guest: Guest, path: str, text: str, mode: int) -> None:
    if guest.find(path, follow_last=False) is None:
        guest.create_file(path, text.encode(), mode)


def _enable(guest: Guest, link: str, target: str) -> None:
    guest.make_folders(link.rpartition("/")[0], 0o755)
    if guest.find(link, follow_last=False) is None:
        guest.create_link(link, target)
