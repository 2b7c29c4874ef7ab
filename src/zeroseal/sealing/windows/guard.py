"""The lock-out guard for a Windows: after this seal, can anybody use a clone?

Somebody must be able to log in, remote access needs its host keys, the network must come up. A
system that its own pass resealed asks for an account at its next start, or finds one in an answer
file.
"""

from __future__ import annotations

from zeroseal.guests.windows.identity import FirstStart
from zeroseal.guests.windows.network import REMOTE_PORTS, iter_interfaces, read_entrances
from zeroseal.guests.windows.services import WindowsServices
from zeroseal.messages import sealing_windows as messages
from zeroseal.sealing.judge import Guard
from zeroseal.sealing.windows.projected import ProjectedWindows
from zeroseal.traces.windows.context import WindowsContext

_SSH_SERVICE, _DHCP_SERVICE = "sshd", "Dhcp"
_OPEN_TO_ALL = ("Public",)


def guard_windows(projected: ProjectedWindows) -> Guard:
    """Judges what a seal leads to."""
    windows = projected.context
    services = WindowsServices(windows.registry)
    assured, lock_outs, hints = [], [], []
    login = _login(projected, windows)
    if login:
        assured.append(login)
    else:
        lock_outs.append(messages.NO_LOGIN_LEFT)
    if services.is_there(_SSH_SERVICE):
        assured.append(messages.HOST_KEYS_BY_SSHD)
    else:
        assured.append(messages.NO_SSH_SERVER)
    network = _network(projected, windows, services)
    (assured if network.startswith("Network: ") else lock_outs).append(network)
    hints += _closed_entrances(projected, windows)
    if not (projected.policy.has_same_size_clones):
        hints.append(messages.NO_GROWTH_BY_ITSELF)
    return Guard(tuple(assured), tuple(lock_outs), tuple(hints))


def _login(projected: ProjectedWindows, windows: WindowsContext) -> str:
    removed = [] if windows.accounts_stay else windows.accounts_to_remove
    for account in windows.identity.accounts:
        goes = account in removed or (windows.disables_administrator and not account.is_human)
        if account.can_log_in and not goes:
            return f"Login: {account.name} stays and can log in with its password."
    if windows.identity.first_start is FirstStart.RESEALED:
        return (
            "Login: the first start of a resealed Windows guest asks for an account, or takes "
            "it from an answer file."
        )
    if windows.identity.first_start is FirstStart.AUDIT:
        return "Login: audit mode logs in the built-in administrator."
    if projected.policy.expects_seed:
        return "Login: every clone gets an account (--expect-seed)."
    return ""


def _network(
    projected: ProjectedWindows, windows: WindowsContext, services: WindowsServices
) -> str:
    static = [card for card in iter_interfaces(windows.registry) if card.addresses]
    if static and not projected.policy.asks_dhcp:
        return f"Network: the static address {static[0].addresses[0]} stays."
    if services.is_enabled(_DHCP_SERVICE):
        return "Network: the DHCP client is enabled and requests an address."
    return (
        "clones would have no network, because the DHCP client (service Dhcp) is not "
        "enabled: enable it in the guest"
    )


def _closed_entrances(projected: ProjectedWindows, windows: WindowsContext) -> list[str]:
    """Ways in that are closed on a clone, whose network counts as public at first."""
    listed = projected.policy.treats_id("wire.network-lists")
    closed = [
        rule
        for rule in read_entrances(windows.registry)
        if rule.profiles and not set(rule.profiles) & set(_OPEN_TO_ALL)
    ]
    if not listed or not closed:
        return []
    ways = sorted({REMOTE_PORTS[port] for rule in closed for port in rule.ports})
    return [
        (
            "A clone's network is new to it and is treated as public: the firewall "
            f"allows {', '.join(ways)} only on private networks or in a domain. "
            "Firewall rules are not changed: allow it on public networks too, or set "
            "the category of the network on the clone."
        )
    ]
