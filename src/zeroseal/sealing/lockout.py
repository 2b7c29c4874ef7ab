"""The lock-out guard: after this seal, can anybody use a clone?

Three things must hold: somebody can log in or be seeded, SSH host keys regrow, and the network
comes up. The answers are read from the guest; only ``--expect-seed`` takes the administrator's
word. Cloud-init does nothing on a clone that gets no seed: where the login rests on a seed, host
keys and network may rest on it too, else they may not.
"""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.guests.accounts import Account, has_login_key
from zeroseal.guests.guest import Guest
from zeroseal.guests.services import is_unit_enabled, seeding_service
from zeroseal.sealing.choices import SealChoices
from zeroseal.traces.changes import RemovePath
from zeroseal.traces.context import FindContext
from zeroseal.traces.finders import regrower, regrower_with_seed
from zeroseal.traces.finding import Finding
from zeroseal.traces.load import get_trace

_NETWORK_FILES = (
    "/etc/network/interfaces.d/*",
    "/etc/netplan/*.yaml",
    "/etc/systemd/network/*.network",
    "/etc/NetworkManager/system-connections/*",
    "/etc/sysconfig/network-scripts/ifcfg-*",
    "/etc/sysconfig/network/ifcfg-*",
)
_NETWORK_SERVICES = ("NetworkManager.service", "dhcpcd.service", "connman.service")


@dataclass(frozen=True)
class Guard:
    """What the guard found.

    Attributes:
        assured: sentences that say how a clone will be usable.
        lock_outs: sentences that say why it would not be, with the way out.
    """

    assured: tuple[str, ...]
    lock_outs: tuple[str, ...]


def guard(context: FindContext, treated: list[Finding], choices: SealChoices) -> Guard:
    """Judges what a seal with these findings treated would lead to."""
    assured: list[str] = []
    lock_outs: list[str] = []
    gone = {item.change.path for item in treated if isinstance(item.change, RemovePath)}
    login = _login(context, choices)
    is_seeded = login.needs_seed or choices.expect_seed
    for answer in (
        login,
        _host_keys(context.guest, gone, choices, is_seeded),
        _network(context.guest, gone, is_seeded),
    ):
        (assured if answer.is_good else lock_outs).append(answer.text)
    return Guard(tuple(assured), tuple(lock_outs))


@dataclass(frozen=True)
class _Answer:
    is_good: bool
    text: str
    needs_seed: bool = False


def _login(context: FindContext, choices: SealChoices) -> _Answer:
    for account in _staying(context, choices):
        opened_by = _how_opened(context.guest, account)
        if opened_by:
            return _Answer(True, f"Login: {account.name} stays, with {opened_by}.")
    seeded_by = seeding_service(context.guest)
    if seeded_by:
        text = (
            f"Login: {seeded_by} is enabled and creates the accounts of the seed that a clone gets."
        )
        return _Answer(True, text, needs_seed=True)
    if choices.expect_seed:
        return _Answer(True, "Login: you said that every clone gets a seed (--expect-seed).")
    return _Answer(
        False,
        "nobody could log in to a clone, because no account with a password or key stays and "
        "nothing in the guest takes a seed: use --retain-account NAME or --keep-root-login, or "
        "--expect-seed if a seed will come all the same",
    )


def _staying(context: FindContext, choices: SealChoices) -> list[Account]:
    doomed = {account.name for account in context.doomed}
    if not choices.treats(get_trace("people.accounts")):
        doomed = set()
    root_stays = choices.keeps_root or not choices.treats(get_trace("people.root-password"))
    return [
        account
        for account in context.accounts
        if account.name not in doomed
        and account.has_login_shell
        and (account.uid != 0 or root_stays)
    ]


def _how_opened(guest: Guest, account: Account) -> str:
    if account.has_password:
        return "its password"
    return "its login key" if has_login_key(guest, account) else ""


def _host_keys(guest: Guest, gone: set[str], choices: SealChoices, is_seeded: bool) -> _Answer:
    server = next(
        (path for path in ("/usr/sbin/sshd", "/usr/sbin/dropbear") if guest.exists(path)), ""
    )
    if not server:
        return _Answer(True, "SSH host keys: the guest has no SSH server.")
    keys = [path for path in guest.glob("/etc/ssh/ssh_host_*key") if path not in gone]
    if keys:
        return _Answer(True, "SSH host keys: they are kept.")
    if choices.plant_first_boot:
        return _Answer(True, "SSH host keys: the planted first-boot unit makes new ones.")
    trace = get_trace("keys.ssh-host")
    unit = regrower(trace, guest)
    if unit:
        return _Answer(True, f"SSH host keys: {unit} is enabled and makes new ones.")
    unit = regrower_with_seed(trace, guest)
    if unit and is_seeded:
        return _Answer(True, f"SSH host keys: {unit} makes new ones when the clone gets its seed.")
    if unit:
        return _Answer(
            False,
            f"clones that get no seed would have no SSH host keys, because only {unit} makes new "
            "ones, and only with a seed: use --plant-first-boot, or --expect-seed if every clone "
            "gets one",
        )
    return _Answer(
        False,
        "clones would have no SSH host keys, because nothing in the guest makes new ones: use "
        "--plant-first-boot, or --skip keys.ssh-host to let all clones share the old ones",
    )


def _network(guest: Guest, gone: set[str], is_seeded: bool) -> _Answer:
    lines = guest.read_text("/etc/network/interfaces").splitlines()
    if any(line.split()[:1] == ["iface"] and "loopback" not in line for line in lines):
        return _Answer(True, "Network: /etc/network/interfaces configures it.")
    for pattern in _NETWORK_FILES:
        for path in guest.glob(pattern):
            if path not in gone and not path.endswith("/ifcfg-lo"):
                return _Answer(True, f"Network: {path} configures it.")
    for unit in _NETWORK_SERVICES:
        if is_unit_enabled(guest, unit):
            return _Answer(True, f"Network: {unit} is enabled and asks for an address.")
    if is_seeded:
        return _Answer(True, "Network: it is configured from the seed that a clone gets.")
    return _Answer(
        False,
        "clones would have no network, because nothing in the guest configures it: add a "
        "configuration to the reference machine, or use --expect-seed if a seed brings one",
    )
