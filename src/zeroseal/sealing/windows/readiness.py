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
from zeroseal.sealing.remark import Remark
from zeroseal.sealing.windows.projected import ProjectedWindows
from zeroseal.sentences import capitalised, counted, some_of
from zeroseal.traces.windows.context import WindowsContext

OFFLINE_ONLY = (
    "What is proven of a Windows is proven offline: that a clone boots and finishes its first "
    "start, only a real one can show."
)
_CONTROL, _SERVICES = "SYSTEM\\CSn\\Control", "SYSTEM\\CSn\\Services"
_ROLES = (
    ("NTDS", "a domain controller"),
    ("ClusSvc", "a node of a cluster"),
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
_SERVICING_PLAN = "/Windows/WinSxS/pending.xml"
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
    yield from _pending(projected, windows)
    yield from _addresses(projected, windows)
    yield from _accounts(projected, windows)
    yield from _host(windows)
    yield from _settings(projected, windows)
    yield from _passwords(projected, windows)
    yield from _applications(windows)
    yield from _strange_identifiers(projected, windows)


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
    yield Remark("first-start-told", _sentence(start.value))
    word = {FirstStart.AUDIT: "audit", FirstStart.PLAIN: "plain"}.get(start, "resealed")
    if start in (FirstStart.BETWEEN, FirstStart.UNKNOWN):
        yield Remark("first-start", _sentence(start.value))
    elif allowed_starts and word not in allowed_starts:
        allowed = " or ".join(allowed_starts)
        yield Remark("first-start", f"The first start is {word}; the house rules allow {allowed}.")
    issued = is_marked(windows.registry, identity.sid)
    if start is FirstStart.PLAIN and not issued and not windows.reissues_sid:
        yield Remark(
            "shared-identifier",
            f"It starts plainly, and every clone would share its security identifier "
            f"{identity.sid}: run Windows' own generalize pass on a throwaway copy and seal that, "
            "or have it replaced here with --reissue-sid.",
        )
    if windows.reissues_sid and start.makes_identity:
        yield Remark(
            "first-start-told",
            "A new security identifier is not needed here: the next start makes one.",
        )
    if windows.reissues_sid and not issued and start is FirstStart.PLAIN:
        broken = list(_broken_by_reissue(projected, windows))
        text = "; ".join(broken) if broken else "nothing that was found here"
        yield Remark("broken-by-reissue", f"What a new security identifier breaks: {text}.")
    if start is FirstStart.PLAIN and (issued or windows.reissues_sid):
        yield Remark(
            "broken-by-reissue",
            "Clones share the template's new security identifier unless each gets its own: "
            "zeroseal clone --reissue-sid.",
        )


def _broken_by_reissue(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[str]:
    """What is bound to the identifiers of accounts that stay, half-sentences."""
    guest = projected.guest
    for profile in windows.identity.profiles:
        if windows.is_removed(profile.folder):
            continue
        kept = guest.glob(f"{profile.folder}/AppData/Roaming/Microsoft/Protect/S-1-5-21-*")
        if kept:
            yield f"secrets that Windows protects for {profile.name} cannot be read any more"
        encrypted = guest.count_encrypted(profile.folder)
        if encrypted:
            files = "a file" if encrypted == 1 else f"{encrypted} files"
            yield f"{files} that {profile.name} encrypted cannot be read any more"
        if any(True for _key in windows.registry.find(f"{_APPX}\\{profile.sid}")):
            yield f"store applications of {profile.name} must be registered again"
    staying = [
        account
        for account in windows.identity.accounts
        if account not in windows.accounts_to_remove
    ]
    sids = [f"{windows.identity.sid}-{account.rid}" for account in staying if account.is_human]
    names = [account.name.lower() for account in staying if account.is_human]
    tasks = [
        task.path.rpartition("/")[2]
        for task in iter_tasks(guest, windows.registry)
        if task.belongs_to(sids, names)
    ]
    if tasks:
        yield f"scheduled tasks with a stored password need it again ({some_of(tasks)})"
    services = [
        found.key.name
        for found, value in windows.registry.values(f"{_SERVICES}\\*", "ObjectName")
        if str(value_types.typed(value)).startswith((".\\",))
    ]
    if services:
        named = some_of(services)
        yield f"services that log in as a local account may need their password again ({named})"


def _membership(windows: WindowsContext) -> Iterator[Remark]:
    identity = windows.identity
    if identity.domain:
        yield Remark(
            "domain-member",
            f"The machine has joined the domain {identity.domain}, and clones cannot take its "
            "place: leave it in the guest and let each clone join.",
        )
    joins = windows.registry.values(f"{_CONTROL}\\CloudDomainJoin\\JoinInfo\\*", "*")
    if any(value_types.typed(value) for _found, value in joins):
        yield Remark(
            "cloud-member",
            "The machine has joined a directory in a cloud, and clones would share its "
            "registration: leave it in the guest (dsregcmd /leave).",
        )
    product = read_text(windows.registry, f"{_CONTROL}\\ProductOptions", "ProductType")
    services = WindowsServices(windows.registry)
    roles = [what for service, what in _ROLES if services.is_installed(service)]
    if product.lower() == "lanmannt" and "a domain controller" not in roles:
        roles.append("a domain controller")
    for role in roles:
        yield Remark(
            "server-role",
            f"The machine is {role}, which cannot be copied: remove the role in the guest.",
        )


def _pending(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    pending = list(windows.identity.pending)
    if projected.guest.exists(_SERVICING_PLAN):
        pending.append("a servicing plan")
    if pending:
        yield Remark(
            "work-pending",
            f"It has work to do ({', '.join(pending)}): restart it until none is left, and shut it "
            "down.",
        )
    fast = f"{_CONTROL}\\Session Manager\\Power"
    if read_number(windows.registry, fast, "HiberbootEnabled"):
        yield Remark(
            "fast-start",
            "Fast start is on: Windows hibernates its core when it is shut down from the menu. "
            "Shut reference machines down with: shutdown /s /t 0.",
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
                f"A network card has the static address {', '.join(card.addresses)}, which every "
                "clone would take: use --to-dhcp to have clones ask for one, or "
                "--allow-static-address.",
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
            _sentence(f"{guids}: many lists name it, and a clone's own cards get others"),
        )
    hosts = projected.guest.read_text("/Windows/System32/drivers/etc/hosts")
    lines = [line for line in hosts.splitlines() if line.strip() and not line.startswith("#")]
    if lines:
        held = "an entry, which stays" if len(lines) == 1 else f"{len(lines)} entries, which stay"
        yield Remark("hosts-file", f"The hosts file has {held}.")


def _accounts(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    start = windows.identity.first_start
    if start.makes_identity:
        for file in iter_answer_files(projected.guest):
            if file.is_cached and file.passwords:
                count = counted(file.passwords, "password")
                yield Remark(
                    "answer-passwords",
                    f"{file.path} stays, because the next start reads it, and holds {count}: "
                    "clones that get an answer file of their own replace it.",
                )
    secrets = [
        found.path.split("\\")[-2].removeprefix("_SC_")
        for found, value in windows.registry.values(_SERVICE_PASSWORDS, "")
        if value.data
    ]
    if secrets and projected.policy.treats_id("keys.lsa-secrets"):
        yield Remark(
            "kept-secrets",
            f"The stored passwords of service accounts go: {some_of(secrets)} will not start until "
            "one is entered again.",
        )


def _host(windows: WindowsContext) -> Iterator[Remark]:
    services = WindowsServices(windows.registry)
    agents = [host for name, host in _AGENTS.items() if services.is_enabled(name)]
    if not agents:
        yield Remark(
            "no-guest-agent",
            "No guest agent is enabled: hosts cannot ask the clones for their addresses.",
        )
    for what, drivers in (("disk", _DISK_DRIVERS), ("network card", _CARD_DRIVERS)):
        there = [kind for name, kind in drivers.items() if services.start_of(name) is not None]
        if there:
            text = f"Drivers for these kinds of {what} are there: {', '.join(there)}."
        else:
            text = f"No driver for a virtual host's {what} was found."
        yield Remark("disk-drivers", text)
    boot = [name for name in ("viostor", "vioscsi") if services.start_of(name) not in (None, 0)]
    if boot:
        yield Remark(
            "disk-drivers",
            f"{', '.join(boot)} is not started at boot: a clone on such a disk does not boot.",
        )
    if not services.is_enabled("sshd"):
        yield Remark("no-ssh-server", "No SSH server is enabled.")
    denied = read_number(windows.registry, f"{_CONTROL}\\Terminal Server", "fDenyTSConnections")
    yield Remark("remote-desktop", f"Remote Desktop is {'off' if denied else 'on'}, as here.")


def _settings(projected: ProjectedWindows, windows: WindowsContext) -> Iterator[Remark]:
    zone = read_text(windows.registry, f"{_CONTROL}\\TimeZoneInformation", "TimeZoneKeyName")
    if zone:
        yield Remark("time-zone", f"Clones keep the time zone {zone}.")
    yield Remark(
        "licensing",
        "Activation is left alone: how often it can still be re-armed stands in an encrypted store "
        "that is not read here, and only Windows' own generalize pass resets a client's id.",
    )
    if read_number(windows.registry, _LICENSING, "SkipRearm"):
        yield Remark("licensing", "SkipRearm is set: a generalize pass will not re-arm activation.")
    software = {
        found.key.name
        for pattern in ("SOFTWARE\\*", "SOFTWARE\\Microsoft\\*")
        for found in windows.registry.find(pattern)
    }
    found_agents = [name for name in _REVIEWED if name in software]
    if found_agents:
        yield Remark(
            "review-agents",
            f"These keep ids of their own that are not known here: {some_of(found_agents)}; look "
            "at how each wants to be prepared for copies.",
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
            f"These look as if they held a password, and stay: {some_of(places)}.",
        )


def _applications(windows: WindowsContext) -> Iterator[Remark]:
    """Applications of one user only, which Windows' own generalize pass stumbles over."""
    for_all = {
        found.key.name.lower()
        for pattern in (f"{_APPX}\\Applications\\*", f"{_APPX}\\InboxApplications\\*")
        for found in windows.registry.find(pattern)
    }
    alone: dict[str, str] = {}
    for found in windows.registry.find(f"{_APPX}\\S-1-5-21-*\\*"):
        if found.key.name.lower() not in for_all:
            alone[found.key.name] = found.path.split("\\")[-2]
    if alone:
        package, sid = next(iter(alone.items()))
        yield Remark(
            "one-user-applications",
            f"{len(alone)} application{'s are' if len(alone) > 1 else ' is'} installed for one "
            f"user only ({some_of(list(alone))}, of {sid}), which Windows' own generalize pass "
            f"refuses: Remove-AppxPackage -AllUsers -Package {package} in the guest removes it.",
        )


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
                f"Rights on {mount.volume.name} name {len(strange)} security "
                f"identifier{'s' if len(strange) > 1 else ''} that no account here has: "
                f"{some_of(sorted(strange))}.",
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
