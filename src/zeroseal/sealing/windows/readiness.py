"""Is a Windows fit to be a template? By its set-up state, domain, pending work, roles, drivers."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeroseal.errors import ZeroSealError
from zeroseal.guests.guest import Mount
from zeroseal.guests.registry import value_types
from zeroseal.guests.windows.answer_files import iter_answer_files
from zeroseal.guests.windows.identity import CURRENT, FirstStart, read_number, read_text
from zeroseal.guests.windows.network import iter_interfaces
from zeroseal.guests.windows.services import WindowsServices
from zeroseal.guests.windows.sids import CONSTANT_DOMAINS, MachineSid, iter_machine_sids
from zeroseal.guests.windows.tasks import iter_tasks
from zeroseal.guests.windows.template_mark import is_marked
from zeroseal.messages import sealing_windows as messages
from zeroseal.sealing.remark import Remark
from zeroseal.sealing.windows.kept_names import find_kept_names
from zeroseal.sealing.windows.projected import ProjectedWindows
from zeroseal.sentences import capitalised, counted, some_of
from zeroseal.traces.windows.context import WindowsContext

OFFLINE_ONLY = (
    "A Windows guest is proven offline only: that a clone boots and completes its "
    "first start is not proven here."
)
_CONTROL, _SERVICES = "SYSTEM\\CSn\\Control", "SYSTEM\\CSn\\Services"
_ROLES = (
    ("NTDS", "a domain controller"),
    ("ClusSvc", "a cluster node"),
    ("CertSvc", "a certificate authority"),
    ("DHCPServer", "a DHCP server"),
)
_SERVICE_PASSWORDS = "SECURITY\\Policy\\Secrets\\_SC_*\\CurrVal"
_AGENTS = {
    "QEMU-GA": "QEMU",
    "VMTools": "VMware",
    "vmicheartbeat": "Hyper-V",
    "VBoxService": "VirtualBox",
}
_DISK_DRIVERS = {"viostor": "virtio-blk", "vioscsi": "virtio-scsi", "storahci": "SATA",
                 "stornvme": "NVMe", "storvsc": "Hyper-V", "pvscsi": "VMware"}  # fmt: skip
_CARD_DRIVERS = {"netkvm": "virtio", "e1iexpress": "e1000e", "netvsc": "Hyper-V",
                 "vmxnet3ndis6": "VMware"}  # fmt: skip
_PASSWORD = re.compile(r"(?i)[/-]{1,2}(password|passwd|pwd|pass|secret|token)[=: ]\s*\S+")
_SECRET_NAME = re.compile(r"(?i)(password|passwd|secret|token|api_?key)")
_POLICY_FILES = ("/ProgramData/Microsoft/Group Policy/History/**/*.xml",)
_MOST_POLICY_BYTES = 1 << 20
_LICENSING = "SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\SoftwareProtectionPlatform"
_APPX = f"{CURRENT}\\Appx\\AppxAllUserStore"
_REVIEWED = ("Azure Connected Machine Agent", "Microsoft SQL Server", "InetStp", "Veeam",
             "CrowdStrike", "SentinelOne", "Zabbix", "Salt Project", "Puppet Labs",
             "Elastic")  # fmt: skip


def find_windows_remarks(projected: ProjectedWindows) -> Iterator[Remark]:
    """Remarks that stop a seal, and those that do not; their codes say which."""
    windows = projected.context
    yield Remark("offline-only", OFFLINE_ONLY)
    yield from _volumes(projected)
    yield from _first_start(projected, windows)
    yield from _membership(windows)
    yield from _pending(windows)
    yield from _addresses(projected, windows)
    yield from _accounts(projected, windows)
    yield from _host(windows)
    yield from _settings(projected, windows)
    yield from _passwords(projected, windows)
    alone = _one_user_packages(windows)
    yield from _applications(alone)
    yield from _generalize_pass(windows, alone)
    yield from _strange_identifiers(projected, windows)
    yield from find_kept_names(projected, windows)


def _volumes(projected: ProjectedWindows) -> Iterator[Remark]:
    for mount in projected.guest.mounts:
        state = mount.driver.read_state(mount.tree)
        if state and state.against_changing:
            yield Remark(
                "volume-not-closed", _sentence(f"{state.volume}: {state.against_changing}")
            )


def _first_start(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    identity, allowed_starts = windows.identity, projected.policy.first_starts
    start = identity.first_start
    yield Remark("start-mode", _sentence(start.value))
    word = {FirstStart.AUDIT: "audit", FirstStart.PLAIN: "plain"}.get(start, "resealed")
    if start in (FirstStart.BETWEEN, FirstStart.UNKNOWN):
        yield Remark("first-start", _sentence(start.value))
    elif allowed_starts and word not in allowed_starts:
        allowed = " or ".join(allowed_starts)
        yield Remark(
            "first-start", messages.FIRST_START_NOT_ALLOWED.format(word=word, allowed=allowed)
        )
    issued = is_marked(windows.registry, identity.sid)
    if start is FirstStart.PLAIN and not issued and not windows.reissues_sid:
        yield Remark(
            "shared-identifier",
            messages.PLAIN_START.format(sid=identity.sid),
        )
    if windows.reissues_sid and start.makes_identity:
        yield Remark(
            "start-mode",
            messages.NO_NEW_SID_NEEDED,
        )
    if windows.reissues_sid and not issued and start is FirstStart.PLAIN:
        broken = list(_broken_by_reissue(projected, windows))
        text = "; ".join(broken) if broken else "nothing that was found on this machine"
        yield Remark("broken-by-reissue", messages.BROKEN_BY_NEW_SID.format(effects=text))
    if start is FirstStart.PLAIN and (issued or windows.reissues_sid):
        yield Remark(
            "broken-by-reissue",
            messages.CLONES_SHARE_NEW_SID,
        )


def _broken_by_reissue(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[str]:
    """What is bound to the identifiers of accounts that stay, half-sentences."""
    guest = projected.guest
    for profile in windows.identity.profiles:
        if windows.is_removed(profile.folder):
            continue
        kept = guest.glob(f"{profile.folder}/AppData/Roaming/Microsoft/Protect/S-1-5-21-*")
        if kept:
            yield f"secrets that Windows protects for {profile.name} can no longer be read"
        encrypted = guest.count_encrypted(profile.folder)
        if encrypted:
            files = "a file" if encrypted == 1 else f"{encrypted} files"
            yield f"{files} that {profile.name} encrypted can no longer be read"
        if any(True for _key in windows.registry.find(f"{_APPX}\\{profile.sid}")):
            yield f"store applications of {profile.name} must be registered again"
    staying = [
        account
        for account in windows.identity.accounts
        if account not in windows.accounts_to_remove
    ]
    sids = [windows.identity.sid_of(account) for account in staying if account.is_human]
    names = [account.name.lower() for account in staying if account.is_human]
    tasks = [
        task.path.rpartition("/")[2]
        for task in iter_tasks(guest, windows.registry)
        if task.belongs_to(sids, names)
    ]
    if tasks:
        yield (
            f"scheduled tasks with a stored password need it to be entered again ({some_of(tasks)})"
        )
    services = [
        found.key.name
        for found, value in windows.registry.values(f"{_SERVICES}\\*", "ObjectName")
        if str(value_types.typed(value)).startswith((".\\",))
    ]
    if services:
        named = some_of(services)
        yield (f"services that log in as a local account may need their passwords again ({named})")


def _membership(windows: WindowsContext) -> Iterator[Remark]:
    identity = windows.identity
    if identity.domain:
        yield Remark(
            "domain-member",
            messages.JOINED_DOMAIN.format(domain=identity.domain),
        )
    joins = windows.registry.values(f"{_CONTROL}\\CloudDomainJoin\\JoinInfo\\*", "*")
    if any(value_types.typed(value) for _found, value in joins):
        yield Remark(
            "cloud-member",
            messages.JOINED_CLOUD,
        )
    product = read_text(windows.registry, f"{_CONTROL}\\ProductOptions", "ProductType")
    services = WindowsServices(windows.registry)
    roles = _installed_roles(services)
    if product.lower() == "lanmannt" and "a domain controller" not in roles:
        roles.append("a domain controller")
    for role in roles:
        yield Remark(
            "server-role",
            messages.SERVER_ROLE.format(role=role),
        )


def _installed_roles(services: WindowsServices) -> list[str]:
    return [what for service, what in _ROLES if services.is_installed(service)]


def _pending(windows: WindowsContext) -> Iterator[Remark]:
    pending = windows.identity.pending
    if pending:
        yield Remark(
            "work-pending",
            messages.WORK_PENDING.format(pending=", ".join(pending)),
        )
    fast = f"{_CONTROL}\\Session Manager\\Power"
    if read_number(windows.registry, fast, "HiberbootEnabled"):
        yield Remark(
            "fast-start",
            messages.FAST_START,
        )


def _addresses(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    policy = projected.policy
    stated = set()
    for card in iter_interfaces(windows.registry):
        stays = card.addresses and not policy.asks_dhcp and not policy.allows_static_address
        if stays and card.addresses not in stated:
            stated.add(card.addresses)
            yield Remark(
                "static-address",
                messages.STATIC_ADDRESS.format(addresses=", ".join(card.addresses)),
            )
    cards = {card.key.rpartition("\\")[2].lower() for card in iter_interfaces(windows.registry)}
    if cards:
        guids = (
            "the GUID of a network card stays"
            if len(cards) == 1
            else (f"the GUIDs of {len(cards)} network cards stay")
        )
        yield Remark(
            "card-guids",
            _sentence(messages.CARD_GUIDS_STAY.format(guids=guids)),
        )
    hosts = projected.guest.read_text("/Windows/System32/drivers/etc/hosts")
    lines = [line for line in hosts.splitlines() if line.strip() and not line.startswith("#")]
    if lines:
        held = "an entry, which stays" if len(lines) == 1 else f"{len(lines)} entries, which stay"
        yield Remark("hosts-file", messages.HOSTS_FILE.format(held=held))


def _accounts(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    start = windows.identity.first_start
    if start.makes_identity:
        for file in iter_answer_files(projected.guest):
            if file.is_cached and file.passwords:
                count = counted(file.passwords, "password")
                yield Remark(
                    "answer-passwords",
                    messages.ANSWER_FILE_STAYS.format(path=file.path, count=count),
                )
    yield from _builtin_profiles(projected, windows)
    secrets = [
        found.path.split("\\")[-2].removeprefix("_SC_")
        for found, value in windows.registry.values(_SERVICE_PASSWORDS, "")
        if value.data
    ]
    if secrets and projected.policy.treats_id("keys.lsa-secrets"):
        yield Remark(
            "kept-secrets",
            messages.SERVICE_PASSWORDS.format(secrets=some_of(secrets)),
        )


def _builtin_profiles(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    """Whether the profiles of built-in accounts go or stay."""
    if windows.accounts_stay:
        return
    going = {profile.sid for _account, profile in windows.builtin_profiles}
    for account in windows.identity.accounts:
        sid = windows.identity.sid_of(account)
        profiles = [profile for profile in windows.identity.profiles if profile.sid == sid]
        if account.is_human or not profiles:
            continue
        if sid in going:
            text = messages.BUILTIN_PROFILE_GOES.format(name=account.name)
        else:
            reason = "set-up copies it" if windows.copies_profile else "--retain-account"
            text = messages.BUILTIN_PROFILE_STAYS.format(name=account.name, reason=reason)
        yield Remark("builtin-profile", text)


def _host(windows: WindowsContext) -> Iterator[Remark]:
    services = WindowsServices(windows.registry)
    agents = [host for name, host in _AGENTS.items() if services.is_enabled(name)]
    if not agents:
        yield Remark(
            "no-guest-agent",
            messages.NO_GUEST_AGENT,
        )
    for what, drivers in (("disk", _DISK_DRIVERS), ("network card", _CARD_DRIVERS)):
        there = [kind for name, kind in drivers.items() if services.start_of(name) is not None]
        if there:
            text = f"Drivers for these types of {what} were found: {', '.join(there)}."
        else:
            text = f"No driver for a virtual host's {what} was found."
        yield Remark("disk-drivers", text)
    boot = [name for name in ("viostor", "vioscsi") if services.start_of(name) not in (None, 0)]
    if boot:
        yield Remark(
            "disk-drivers",
            messages.BOOT_DRIVER_DISABLED.format(boot=", ".join(boot)),
        )
    if not services.is_enabled("sshd"):
        yield Remark("no-ssh-server", messages.NO_SSH_SERVER_ENABLED)
    denied = read_number(windows.registry, f"{_CONTROL}\\Terminal Server", "fDenyTSConnections")
    yield Remark("remote-desktop", messages.REMOTE_DESKTOP.format(state="off" if denied else "on"))


def _settings(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    zone = read_text(windows.registry, f"{_CONTROL}\\TimeZoneInformation", "TimeZoneKeyName")
    if zone:
        yield Remark("time-zone", messages.TIME_ZONE.format(zone=zone))
    yield Remark(
        "licensing",
        messages.ACTIVATION,
    )
    if read_number(windows.registry, _LICENSING, "SkipRearm"):
        yield Remark("licensing", messages.SKIP_REARM)
    software = {
        found.key.name
        for pattern in ("SOFTWARE\\*", "SOFTWARE\\Microsoft\\*")
        for found in windows.registry.find(pattern)
    }
    found_agents = [name for name in _REVIEWED if name in software]
    if found_agents:
        yield Remark(
            "review-agents",
            messages.UNKNOWN_AGENTS.format(found_agents=some_of(found_agents)),
        )


def _passwords(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    """Passwords that settings hold by their look: of services, the environment, group policy."""
    places = [
        f"the service {found.key.name}"
        for found, value in windows.registry.values(f"{_SERVICES}\\*", "ImagePath")
        if _PASSWORD.search(str(value_types.typed(value)))
    ]
    places += [
        f"the variable {value.name}"
        for _found, value in windows.registry.values(
            f"{_CONTROL}\\Session Manager\\Environment", "*"
        )
        if _SECRET_NAME.search(value.name) and value_types.typed(value)
    ]
    for pattern in _POLICY_FILES:
        for path in projected.guest.glob(pattern):
            if b"cpassword=" in projected.guest.read_file(path, _MOST_POLICY_BYTES):
                places.append(path)
    if places:
        yield Remark(
            "password-in-settings",
            messages.LIKELY_PASSWORDS.format(places=some_of(places)),
        )


def _applications(alone: dict[str, str]) -> Iterator[Remark]:
    """Applications of one user only, which Windows' own generalize pass stumbles over."""
    if alone:
        package, sid = next(iter(alone.items()))
        yield Remark(
            "one-user-applications",
            messages.APPLICATION_FOR_ONE_USER.format(
                count=len(alone),
                plural="s are" if len(alone) > 1 else " is",
                list=some_of(list(alone)),
                sid=sid,
                package=package,
            ),
        )


def _one_user_packages(windows: WindowsContext) -> dict[str, str]:
    """Packages of one user that are not installed for all, each with the user's identifier."""
    for_all = {
        found.key.name.lower()
        for pattern in (f"{_APPX}\\Applications\\*", f"{_APPX}\\InboxApplications\\*")
        for found in windows.registry.find(pattern)
    }
    alone: dict[str, str] = {}
    for found in windows.registry.find(f"{_APPX}\\S-1-5-21-*\\*"):
        if found.key.name.lower() not in for_all:
            alone[found.key.name] = found.path.split("\\")[-2]
    return alone


def _generalize_pass(windows: WindowsContext, alone: dict[str, str]) -> Iterator[Remark]:
    """What Windows' own generalize pass would refuse on this machine, before it is tried there."""
    identity = windows.identity
    if identity.first_start is not FirstStart.PLAIN:
        return
    reasons = [f"pending work ({', '.join(identity.pending)})"] if identity.pending else []
    if alone:
        reasons.append(f"applications installed for one user only ({some_of(list(alone))})")
    services = WindowsServices(windows.registry)
    reasons += [f"its role as {what}" for what in _installed_roles(services)]
    if identity.domain:
        reasons.append("its domain, which it would leave")
    if reasons:
        text = messages.GENERALIZE_WOULD_REFUSE.format(reasons="; ".join(reasons))
        yield Remark("generalize-pass", text)


def _strange_identifiers(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    """Volumes whose rights name machines, domains or accounts that are not known here."""
    machine = MachineSid.parse_text(windows.identity.sid)
    rids = {account.rid for account in windows.identity.accounts} | {513, 514, 515}
    for mount in projected.guest.mounts:
        strange = set()
        for numbers, rid in _rights_on(mount):
            is_own = machine is not None and numbers == machine.numbers
            if numbers in CONSTANT_DOMAINS or (is_own and rid in rids):
                continue
            strange.add(f"{MachineSid(numbers).text}-{rid}")
        if strange:
            yield Remark(
                "strange-identifiers",
                messages.UNKNOWN_SIDS.format(
                    name=mount.volume.name,
                    count=len(strange),
                    plural="s" if len(strange) > 1 else "",
                    identifiers=some_of(sorted(strange)),
                ),
            )


def _rights_on(mount: Mount) -> Iterator[tuple[tuple[int, int, int], int]]:
    try:
        descriptors = list(mount.driver.iter_descriptors(mount.tree))
    except ZeroSealError:
        return
    for descriptor in descriptors:
        yield from iter_machine_sids(descriptor)


def _sentence(text: str) -> str:
    return f"{capitalised(text)}."
