"""The lock-out guard for a Windows: after this seal, can anybody use a clone?

Somebody must be able to log in, remote access needs its host keys, the network must come up. A
system that its own pass resealed asks for an account at its next start, or finds one in an answer
file.
"""

from __future__ import annotations

from zeroseal.guests.windows.identity import FirstStart
from zeroseal.guests.windows.network import REMOTE_PORTS, iter_interfaces, read_entrances
from zeroseal.guests.windows.services import WindowsServices
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
        lock_outs.append(
            "nobody could log in to a clone, because no account with a password stays and the "
            "system starts plainly: use --retain-account NAME, or enable the built-in "
            "Administrator with a password in the guest, or run Windows' own generalize pass on a "
            "throwaway copy and seal that"
        )
    if services.is_there(_SSH_SERVICE):
        assured.append("SSH host keys: the service sshd makes those that are missing at its start.")
    else:
        assured.append("SSH host keys: the guest has no SSH server.")
    network = _network(projected, windows, services)
    (assured if network.startswith("Network: ") else lock_outs).append(network)
    hints += _closed_entrances(projected, windows)
    if not (projected.policy.has_same_size_clones):
        hints.append(
            "A clone's larger disk is not used until its system volume is extended there: nothing "
            "in Windows does that by itself."
        )
    return Guard(tuple(assured), tuple(lock_outs), tuple(hints))


def _login(projected: ProjectedWindows, windows: WindowsContext) -> str:
    removed = [] if windows.accounts_stay else windows.accounts_to_remove
    for account in windows.identity.accounts:
        goes = account in removed or (windows.disables_administrator and not account.is_human)
        if account.can_log_in and not goes:
            return f"Login: {account.name} stays, with its password."
    if windows.identity.first_start is FirstStart.RESEALED:
        return (
            "Login: the first start of a resealed Windows asks for an account, or takes it from an "
            "answer file."
        )
    if windows.identity.first_start is FirstStart.AUDIT:
        return "Login: audit mode logs the built-in administrator in."
    if projected.policy.expects_seed:
        return "Login: you said that every clone is given an account (--expect-seed)."
    return ""


def _network(
    projected: ProjectedWindows, windows: WindowsContext, services: WindowsServices
) -> str:
    static = [card for card in iter_interfaces(windows.registry) if card.addresses]
    if static and not projected.policy.asks_dhcp:
        return f"Network: the static address {static[0].addresses[0]} stays."
    if services.is_enabled(_DHCP_SERVICE):
        return "Network: the DHCP client is enabled and asks for an address."
    return (
        "clones would have no network, because the DHCP client (service Dhcp) is not enabled: "
        "enable it in the guest"
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
        f"A clone's network is new to it and counts as public: the firewall lets {', '.join(ways)} "
        "in on private networks or in a domain only. Firewall rules stay as they are: allow it on "
        "public networks too, or set the network's category on the clone."
    ]
