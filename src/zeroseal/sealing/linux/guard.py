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


def _login(projected: ProjectedLinux) -> _Answer:
    policy, seeding = projected.policy, projected.cloud_init
    planted = ""
    plants = policy.plants_first_boot and not seeding.takes_seed_media
    if SEED in read_tasks(projected.guest) or (plants and makes_accounts(projected.guest)):
        planted = SEED
    for account in _staying(projected):
        opened_by = _how_opened(projected.guest, account)
        if opened_by:
            text = f"Login: {account.name} stays, with {opened_by}."
            return _Answer(is_good=True, text=text, planted=planted)
    if seeding.takes_seeds:
        return _Answer(
            is_good=True,
            text=(
                "Login: cloud-init is enabled and creates the accounts of the seed that a clone "
                "gets."
            ),
            needs_seed=True,
            planted=planted,
            hint=_limits(projected),
        )
    if planted:
        text = (
            "Login: the planted first-boot script creates the accounts of the seed that a clone "
            "gets."
        )
        return _Answer(is_good=True, text=text, needs_seed=True, planted=planted)
    if policy.expects_seed:
        return _Answer(
            is_good=True, text="Login: you said that every clone gets a seed (--expect-seed)."
        )
    return _Answer(
        is_good=False,
        text=f"nobody could log in to a clone, because no account with a password or key stays and "
        f"{_why_unseeded(projected)}: {_ways_in(projected)}",
    )


def _ways_in(projected: ProjectedLinux) -> str:
    """What would let somebody log in; only what changes the answer."""
    ways = []
    if _would_plant(projected, makes_accounts(projected.guest)):
        ways.append("use --plant-first-boot, which takes a seed")
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
    return ", or ".join([*ways, "--expect-seed if a seed will come all the same"])


def _would_plant(projected: ProjectedLinux, finds_means: bool) -> bool:
    """Whether a planted script would help: it is not chosen yet, could run, and finds its means."""
    can_run = can_run_script(projected.guest, projected.services)
    return not projected.policy.plants_first_boot and can_run and finds_means


def _why_unseeded(projected: ProjectedLinux) -> str:
    seeding = projected.cloud_init
    if seeding.off_by:
        return f"cloud-init is switched off ({seeding.off_by})"
    if seeding.is_installed:
        return f"cloud-init may take no seed ({seeding.sources_from})"
    return "nothing in the guest takes a seed"


def _limits(projected: ProjectedLinux) -> str:
    seeding = projected.cloud_init
    if seeding.takes_seed_media:
        return ""
    return (
        f"cloud-init takes seeds from {', '.join(seeding.sources)} only ({seeding.sources_from}): "
        "a seed medium (NoCloud) is not among them."
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
        return _Answer(is_good=True, text="SSH host keys: the guest has no SSH server.")
    if any(path not in projected.gone for path in iter_host_keys(guest)):
        return _Answer(is_good=True, text="SSH host keys: they are kept.")
    if projected.policy.plants_first_boot and makes_host_keys(guest):
        return _Answer(
            is_good=True, text="SSH host keys: the planted first-boot script makes new ones."
        )
    trace = get_trace("keys.ssh-host")
    unit = regrower(trace, guest, projected.services, projected.gone)
    if unit:
        return _Answer(is_good=True, text=f"SSH host keys: {unit} is enabled and makes new ones.")
    seeding = projected.cloud_init.takes_seeds
    unit = regrower_with_seed(trace, projected.services, projected.gone) if seeding else ""
    if unit and is_seeded:
        return _Answer(
            is_good=True, text=f"SSH host keys: {unit} makes new ones when the clone gets its seed."
        )
    if unit:
        return _Answer(
            is_good=False,
            text=f"clones that get no seed would have no SSH host keys, because only {unit} makes "
            f"new ones, and only with a seed: {_planting(projected, makes_host_keys(guest))}"
            "use --expect-seed if every clone gets one",
        )
    return _Answer(
        is_good=False,
        text="clones would have no SSH host keys, because nothing in the guest makes new ones: "
        f"{_planting(projected, makes_host_keys(guest))}use --skip keys.ssh-host to let all clones "
        "share the old ones",
    )


def _planting(projected: ProjectedLinux, finds_means: bool) -> str:
    return "use --plant-first-boot, or " if _would_plant(projected, finds_means) else ""


def _network(projected: ProjectedLinux, is_seeded: bool) -> _Answer:
    guest, seeding = projected.guest, projected.cloud_init
    lines = guest.read_text("/etc/network/interfaces").splitlines()
    if any(line.split()[:1] == ["iface"] and "loopback" not in line for line in lines):
        return _Answer(is_good=True, text="Network: /etc/network/interfaces configures it.")
    for pattern in _NETWORK_FILES:
        for path in guest.glob(pattern):
            if path not in projected.gone and not path.endswith("/ifcfg-lo"):
                return _Answer(is_good=True, text=f"Network: {path} configures it.")
    unit = projected.services.first_enabled(_NETWORK_SERVICES, projected.gone)
    if unit:
        return _Answer(is_good=True, text=f"Network: {unit} is enabled and asks for an address.")
    by_script = asks_dhcp(guest)
    if by_script and (projected.policy.plants_first_boot or DHCP in read_tasks(guest)):
        text = f"Network: the planted first-boot script asks for an address ({by_script})."
        return _Answer(is_good=True, text=text, planted=DHCP)
    leaves = seeding.leaves_network_by
    if is_seeded and not (leaves and seeding.takes_seeds):
        return _Answer(
            is_good=True, text="Network: it is configured from the seed that a clone gets."
        )
    why = f"{leaves} keeps cloud-init from it" if leaves else "nothing in the guest configures it"
    is_seedable = not (leaves and seeding.takes_seeds)
    seeded = ", or use --expect-seed if a seed brings one" if is_seedable else ""
    return _Answer(
        is_good=False,
        text=f"clones would have no network, because {why}: {_planting(projected, bool(by_script))}"
        f"add a configuration to the reference machine{seeded}",
    )


def _growth(projected: ProjectedLinux) -> _Answer:
    policy = projected.policy
    if not projected.guest.mounts[0].driver.has_volume:
        return _Answer(is_good=True, text="")  # no disk is seen here, so nothing of its size
    if policy.has_same_size_clones:
        return _Answer(
            is_good=True, text="Larger disks: every clone's disk is as large as the template's."
        )
    obstacle = find_obstacle(projected)
    if obstacle:
        return _Answer(is_good=True, text="", hint=obstacle)
    grower = find_grower(projected)
    if grower:
        return _Answer(is_good=True, text=f"Larger disks: {grower} lets the root file system grow.")
    if policy.plants_first_boot and can_plant(projected):
        text = "Larger disks: the planted first-boot script lets the root file system grow."
        return _Answer(is_good=True, text=text, planted=GROWTH)
    if grows_with_seed(projected):
        text = "Larger disks: cloud-init lets the root file system grow on a clone with a seed."
        return _Answer(is_good=True, text=text)
    return _Answer(
        is_good=False,
        text="clones on a larger disk would not use it, because nothing in the guest lets the root "
        f"file system grow: {_planting(projected, can_plant(projected))}install what grows it on "
        "the reference machine (growpart or sfdisk, and resize2fs or xfs_growfs), or use "
        "--same-size-clones if none will be larger",
    )
