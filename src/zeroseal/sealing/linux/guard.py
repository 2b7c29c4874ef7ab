"""The lock-out guard: after this seal, can anybody use a clone?

Four things must hold: somebody can log in or be seeded, SSH host keys regrow, the network comes up,
and the root file system takes the room of a larger disk. The answers are read from the guest; only
``--expect-seed`` and ``--same-size-clones`` take the administrator's word. Cloud-init does nothing
on a clone that gets no seed: where the login rests on a seed, the rest may rest on it too.
"""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.accounts import Account, has_login_key
from zeroseal.guests.linux.host_key_files import iter_host_keys
from zeroseal.guests.linux.loaders import fallback_copies, find_efi_loaders
from zeroseal.messages import sealing_linux as messages
from zeroseal.sealing.judge import Guard
from zeroseal.sealing.linux.first_boot import (
    DHCP,
    GROWTH,
    HISTORY,
    SEED,
    asks_dhcp,
    can_run_script,
    makes_accounts,
    makes_host_keys,
    read_tasks,
    restarts_history,
)
from zeroseal.sealing.linux.growth import can_plant, find_grower, find_obstacle, grows_with_seed
from zeroseal.sealing.linux.projected import ProjectedLinux
from zeroseal.traces.finders import regrower, regrower_with_seed
from zeroseal.traces.linux.histories import histories_of
from zeroseal.traces.load import get_trace

_NETWORK_FILES = (
    "/etc/network/interfaces.d/*",
    "/etc/netplan/*.yaml",
    "/etc/systemd/network/*.network",
    "/etc/NetworkManager/system-connections/*",
    "/etc/sysconfig/network-scripts/ifcfg-*",
    "/etc/sysconfig/network/ifcfg-*",
)
_NETWORK_SERVICES = (
    "NetworkManager.service",
    "dhcpcd.service",
    "connman.service",
    "wicked.service",
)
_SERVERS = ("/usr/sbin/sshd", "/usr/bin/sshd", "/usr/sbin/dropbear", "/usr/bin/dropbear")


def guard_linux(projected: ProjectedLinux) -> Guard:
    """Judges what a seal leads to."""
    login = _login(projected)
    is_seeded = login.needs_seed or projected.policy.expects_seed
    answers = (
        login,
        _host_keys(projected, is_seeded),
        _network(projected, is_seeded),
        _growth(projected),
        _start(projected),
    )
    return Guard(
        assured=tuple(answer.text for answer in answers if answer.is_good and answer.text),
        lock_outs=tuple(answer.text for answer in answers if not answer.is_good),
        hints=tuple(answer.hint for answer in answers if answer.hint),
        planted=tuple(answer.planted for answer in answers if answer.planted) + _history(projected),
    )


def _history(projected: ProjectedLinux) -> tuple[str, ...]:
    """What a planted script does about a version history of /etc that was removed."""
    if not projected.policy.restarts_history or not histories_of(projected.context):
        return ()
    return (HISTORY,) if restarts_history(projected.guest, projected.services) else ()


@dataclass(frozen=True)
class _Answer:
    is_good: bool
    text: str
    needs_seed: bool = False
    planted: str = ""
    hint: str = ""


def _start(projected: ProjectedLinux) -> _Answer:
    """Says what is planted for the firmware of clones; that it is lacking is a blocker."""
    loaders = find_efi_loaders(projected.guest)
    if loaders is None or not loaders.needs_entry or not projected.policy.plants_fallback_loader:
        return _Answer(is_good=True, text="")
    copies = fallback_copies(loaders)
    if not copies:
        return _Answer(is_good=True, text="")  # refused where it is to be planted
    source = copies[0].source.rpartition("/")[2]
    return _Answer(is_good=True, text=f"Start: {copies[0].target} becomes a copy of {source}, "
                   "which any UEFI firmware finds.")  # fmt: skip


def _login(projected: ProjectedLinux) -> _Answer:
    policy, seeding = projected.policy, projected.cloud_init
    planted = ""
    plants = policy.plants_first_boot and not seeding.takes_seed_media
    if SEED in read_tasks(projected.guest) or (plants and makes_accounts(projected.guest)):
        planted = SEED
    for account in _staying(projected):
        opened_by = _how_opened(projected.guest, account)
        if opened_by:
            text = f"Login: {account.name} stays and can log in with {opened_by}."
            return _Answer(is_good=True, text=text, planted=planted)
    if seeding.takes_seeds:
        return _Answer(
            is_good=True,
            text=(messages.LOGIN_BY_CLOUD_INIT),
            needs_seed=True,
            planted=planted,
            hint=_limits(projected),
        )
    if planted:
        text = "Login: the planted first-boot script creates the accounts of the clone's seed."
        return _Answer(is_good=True, text=text, needs_seed=True, planted=planted)
    if policy.expects_seed:
        return _Answer(is_good=True, text=messages.LOGIN_BY_EXPECTED_SEED)
    return _Answer(
        is_good=False,
        text=messages.NO_LOGIN_LEFT.format(
            why_unseeded=_why_unseeded(projected), ways_in=_ways_in(projected)
        ),
    )


def _ways_in(projected: ProjectedLinux) -> str:
    """What would let somebody log in; only what changes the answer."""
    ways = []
    if _would_plant(projected, makes_accounts(projected.guest)):
        ways.append("use --plant-first-boot, which reads a seed")
    context, guest = projected.context, projected.guest
    opened = [
        item
        for item in context.accounts_to_remove
        if _how_opened(guest, item) and item.has_login_shell
    ]
    if opened:
        ways.append(f"--retain-account {opened[0].name}")
    roots = [item for item in context.accounts if item.uid == 0 and _how_opened(guest, item)]
    if roots and not projected.policy.keeps_root_login:
        ways.append("--keep-root-login")
    return ", or ".join([*ways, "--expect-seed if every clone gets a seed anyway"])


def _would_plant(projected: ProjectedLinux, finds_means: bool) -> bool:
    """Whether a planted script would help: it is not chosen yet, could run, and finds its means."""
    can_run = can_run_script(projected.guest, projected.services)
    return not projected.policy.plants_first_boot and can_run and finds_means


def _why_unseeded(projected: ProjectedLinux) -> str:
    seeding = projected.cloud_init
    if seeding.off_by:
        return f"cloud-init is disabled ({seeding.off_by})"
    if seeding.is_installed:
        return f"cloud-init is not allowed to read a seed ({seeding.sources_from})"
    return "nothing in the guest reads a seed"


def _limits(projected: ProjectedLinux) -> str:
    seeding = projected.cloud_init
    if seeding.takes_seed_media:
        return ""
    return (
        f"cloud-init reads seeds only from {', '.join(seeding.sources)} ("
        f"{seeding.sources_from}), not from a seed medium (NoCloud)."
    )


def _staying(projected: ProjectedLinux) -> list[Account]:
    context, policy = projected.context, projected.policy
    removed = {account.name for account in context.accounts_to_remove}
    if not policy.treats(get_trace("people.accounts")):
        removed = set()
    root_stays = policy.keeps_root_login or not policy.treats(get_trace("people.root-password"))
    return [
        account
        for account in context.accounts
        if account.name not in removed
        and account.has_login_shell
        and not account.is_expired
        and (account.uid != 0 or root_stays)
    ]


def _how_opened(guest: Guest, account: Account) -> str:
    if account.has_password:
        return "its password"
    return "its login key" if has_login_key(guest, account) else ""


def _host_keys(projected: ProjectedLinux, is_seeded: bool) -> _Answer:
    guest = projected.guest
    if not any(guest.exists(path) for path in _SERVERS):
        return _Answer(is_good=True, text=messages.NO_SSH_SERVER)
    if any(path not in projected.gone for path in iter_host_keys(guest)):
        return _Answer(is_good=True, text=messages.HOST_KEYS_KEPT)
    if projected.policy.plants_first_boot and makes_host_keys(guest):
        return _Answer(is_good=True, text=messages.HOST_KEYS_BY_PLANTED_SCRIPT)
    trace = get_trace("keys.ssh-host")
    unit = regrower(trace, guest, projected.services, projected.gone)
    if unit:
        return _Answer(is_good=True, text=messages.HOST_KEYS_BY_UNIT.format(unit=unit))
    seeding = projected.cloud_init.takes_seeds
    unit = regrower_with_seed(trace, projected.services, projected.gone) if seeding else ""
    if unit and is_seeded:
        return _Answer(is_good=True, text=messages.HOST_KEYS_BY_UNIT_WITH_SEED.format(unit=unit))
    if unit:
        return _Answer(
            is_good=False,
            text=messages.HOST_KEYS_NEED_SEED.format(
                unit=unit, planting=_planting(projected, makes_host_keys(guest))
            ),
        )
    return _Answer(
        is_good=False,
        text=messages.NO_HOST_KEYS_LEFT.format(
            planting=_planting(projected, makes_host_keys(guest))
        ),
    )


def _planting(projected: ProjectedLinux, finds_means: bool) -> str:
    return "use --plant-first-boot, or " if _would_plant(projected, finds_means) else ""


def _network(projected: ProjectedLinux, is_seeded: bool) -> _Answer:
    guest, seeding = projected.guest, projected.cloud_init
    lines = guest.read_text("/etc/network/interfaces").splitlines()
    if any(line.split()[:1] == ["iface"] and "loopback" not in line for line in lines):
        return _Answer(is_good=True, text=messages.NETWORK_BY_INTERFACES)
    for pattern in _NETWORK_FILES:
        for path in guest.glob(pattern):
            if path not in projected.gone and not path.endswith("/ifcfg-lo"):
                return _Answer(is_good=True, text=messages.NETWORK_BY_FILE.format(path=path))
    unit = projected.services.first_enabled(_NETWORK_SERVICES, projected.gone)
    if unit:
        return _Answer(is_good=True, text=messages.NETWORK_BY_UNIT.format(unit=unit))
    by_script = asks_dhcp(guest)
    if by_script and (projected.policy.plants_first_boot or DHCP in read_tasks(guest)):
        text = f"Network: the planted first-boot script requests an address ({by_script})."
        return _Answer(is_good=True, text=text, planted=DHCP)
    leaves = seeding.leaves_network_by
    if is_seeded and not (leaves and seeding.takes_seeds):
        return _Answer(is_good=True, text=messages.NETWORK_BY_SEED)
    why = (
        f"{leaves} prevents cloud-init from configuring it"
        if leaves
        else "nothing in the guest configures it"
    )
    is_seedable = not (leaves and seeding.takes_seeds)
    seeded = ", or use --expect-seed if a seed configures it" if is_seedable else ""
    return _Answer(
        is_good=False,
        text=messages.NO_NETWORK_LEFT.format(
            why=why, planting=_planting(projected, bool(by_script)), seeded=seeded
        ),
    )


def _growth(projected: ProjectedLinux) -> _Answer:
    policy = projected.policy
    if not projected.guest.mounts[0].driver.has_volume:
        return _Answer(is_good=True, text="")  # no disk is seen here, so nothing of its size
    if policy.has_same_size_clones:
        return _Answer(is_good=True, text=messages.GROWTH_NOT_NEEDED)
    obstacle = find_obstacle(projected)
    if obstacle:
        return _Answer(is_good=True, text="", hint=obstacle)
    grower = find_grower(projected)
    if grower:
        return _Answer(is_good=True, text=messages.GROWTH_BY_SERVICE.format(grower=grower))
    if policy.plants_first_boot and can_plant(projected):
        text = "Larger disks: the planted first-boot script grows the root file system."
        return _Answer(is_good=True, text=text, planted=GROWTH)
    if grows_with_seed(projected):
        text = "Larger disks: cloud-init grows the root file system of a clone with a seed."
        return _Answer(is_good=True, text=text)
    return _Answer(
        is_good=False,
        text=messages.NO_GROWTH_LEFT.format(planting=_planting(projected, can_plant(projected))),
    )
