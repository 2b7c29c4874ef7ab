"""What a guest does to its own disk when it starts, works and stops: the simulated host's guest.

Each step asks the disk whether it is needed, as the real service does: a machine ID is made where
none is, host keys where none are and a service for them is enabled, accounts where a seed has not
been taken yet.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.account_edits import NewAccount, add_account, set_password
from zeroseal.guests.linux.accounts import find_account, read_accounts
from zeroseal.guests.linux.cloud_init import read_cloud_init
from zeroseal.guests.linux.facts import read_host_name
from zeroseal.guests.linux.name_edits import (
    has_time_zone,
    set_host_name,
    set_locale,
    set_time_zone,
)
from zeroseal.guests.linux.network_files import find_network_service, set_network
from zeroseal.guests.linux.services import Services
from zeroseal.guests.linux.static_addresses import find_static_addresses
from zeroseal.machines.seed import Seed, SeedAccount
from zeroseal.sealing.linux.first_boot import (
    INIT_SCRIPT_PATH,
    PLANTED_LINKS,
    SCRIPT_FOLDER,
    SEED,
    UNIT_PATH,
    is_planted,
    read_tasks,
)
from zeroseal.traces.finders import regrower, regrower_with_seed
from zeroseal.traces.load import get_trace

_MACHINE_ID = "/etc/machine-id"
_OLD_MACHINE_ID = "/var/lib/dbus/machine-id"
_INSTANCE_ID = "/var/lib/cloud/data/instance-id"
_JOURNAL_MAGIC = b"LPKSHHRH"  # begins a journal file of systemd
_DAY_SECONDS = 86_400


@dataclass
class GuestLife:
    """One run of a guest.

    Attributes:
        now: seconds since 1970.
        mac: of its network card.
        lease: asks the network for an address, given the client's ID.
        seed: what a first boot is told; None where no medium is attached.
        messages: what happened, sentences.
        address: its own static one, or what the network gave it.
    """

    guest: Guest
    now: int
    mac: str
    lease: Callable[[str], str]
    seed: Seed | None
    messages: list[str] = field(default_factory=list)
    address: str = ""

    def start(self) -> None:
        """Boots: what identity regrows from, then the network and the first log lines."""
        self._grow_machine_id()
        self._take_seed()
        self._grow_host_keys()
        self._remove_planted()
        self._ask_for_address()
        self.log("systemd[1]", "Startup finished.")

    def stop(self) -> None:
        """Shuts down: the random seed is saved for the next start."""
        self.log("systemd[1]", "Shutting down.")
        self.put("/var/lib/systemd/random-seed", secrets.token_bytes(512), 0o600)

    def log(self, who: str, what: str, back_seconds: int = 0) -> None:
        """Writes a line to the system log and to the journal."""
        moment = datetime.fromtimestamp(self.now - back_seconds, UTC).strftime("%b %d %H:%M:%S")
        line = f"{moment} {self.host_name} {who}: {what}\n".encode()
        self.append("/var/log/syslog", line)
        journal = f"/var/log/journal/{self.machine_id}/system.journal"
        if self.machine_id and self.guest.is_folder("/var/log/journal"):
            self.append(journal, line, begin=_JOURNAL_MAGIC)

    @property
    def host_name(self) -> str:
        """The guest's host name."""
        return read_host_name(self.guest) or "localhost"

    @property
    def machine_id(self) -> str:
        """The guest's machine ID; empty where it has none."""
        return self.guest.read_text(_MACHINE_ID).strip()

    # -- files

    def put(self, path: str, content: bytes, mode: int = 0o644, uid: int = 0, gid: int = 0) -> None:
        """Writes a file, with the folders it needs."""
        if self.guest.is_file(path):
            self.guest.replace_content(path, content)
            return
        self._make_folders(path.rpartition("/")[0], uid, gid)
        self.guest.create_file(path, content, mode, uid, gid)

    def append(self, path: str, content: bytes, begin: bytes = b"") -> None:
        """Adds to a file; one that is not there begins with ``begin``."""
        before = self.guest.read_file(path) if self.guest.is_file(path) else begin
        self.put(path, before + content, 0o640)

    def _make_folders(self, path: str, uid: int, gid: int) -> None:
        if path and not self.guest.exists(path):
            self._make_folders(path.rpartition("/")[0], uid, gid)
            self.guest.create_folder(path, 0o700 if uid else 0o755, uid, gid)

    # -- what regrows

    def _grow_machine_id(self) -> None:
        if len(self.machine_id) == 32:
            return
        old = self.guest.read_text(_OLD_MACHINE_ID).strip()
        new = old if len(old) == 32 else secrets.token_hex(16)
        self.put(_MACHINE_ID, new.encode() + b"\n", 0o444)
        self.messages.append("systemd created a new machine ID")

    def _grow_host_keys(self) -> None:
        if not self.guest.exists("/usr/sbin/sshd") or self.guest.glob("/etc/ssh/ssh_host_*key"):
            return
        trace = get_trace("keys.ssh-host")
        services = Services(self.guest)
        service = regrower(trace, self.guest, services) or (
            regrower_with_seed(trace, services) if self.seed else ""
        )
        if not service:
            self.messages.append("no service creates SSH host keys: the SSH server does not start")
            return
        for kind, (private, public) in new_key_pairs(f"root@{self.host_name}").items():
            self.put(f"/etc/ssh/ssh_host_{kind}_key", private, 0o600)
            self.put(f"/etc/ssh/ssh_host_{kind}_key.pub", public)
        self.messages.append(f"{service} created new SSH host keys")

    def _remove_planted(self) -> None:
        """The planted script has done its work, and goes."""
        if is_planted(self.guest):
            for path in (*PLANTED_LINKS, UNIT_PATH, INIT_SCRIPT_PATH, SCRIPT_FOLDER):
                if self.guest.find(path, follow_last=False):
                    self.guest.remove(path)
            self.messages.append("the planted first-boot script ran and removed itself")

    def _take_seed(self) -> None:
        """What cloud-init does with a seed that it has not taken before."""
        seed = self.seed
        if seed is None or not self._takes_seeds():
            return
        if self.guest.read_text(_INSTANCE_ID).strip() == seed.instance_id:
            return
        set_host_name(self.guest, seed.host_name, seed.domain)
        for account in seed.accounts:
            self._add_account(account)
        if seed.root_password_hash:
            set_password(self.guest, "root", seed.root_password_hash)
        admins = [account.name for account in seed.accounts if account.admin]
        if admins:
            rights = "".join(f"{name} ALL=(ALL) NOPASSWD:ALL\n" for name in admins)
            self.put("/etc/sudoers.d/90-cloud-init-users", rights.encode(), 0o440)
        self._take_settings(seed)
        user_data = seed.texts()["user-data"].encode()
        self.put(f"/var/lib/cloud/instances/{seed.instance_id}/user-data.txt", user_data, 0o600)
        self.put("/var/lib/cloud/sem/config_users_groups.once", b"done\n")
        self.put(_INSTANCE_ID, seed.instance_id.encode() + b"\n")
        self.messages.append(f"cloud-init applied the seed for {seed.host_name}")

    def _take_settings(self, seed: Seed) -> None:
        if seed.time_zone and has_time_zone(self.guest, seed.time_zone):
            set_time_zone(self.guest, seed.time_zone)
        if seed.locale:
            set_locale(self.guest, seed.locale)
        for file in seed.files:
            self.guest.put_file(file.path, file.content, file.mode)
        if seed.network and find_network_service(self.guest):
            set_network(self.guest, seed.network)

    def _takes_seeds(self) -> bool:
        """Whether cloud-init or a planted script takes the seed of a medium."""
        seeding = read_cloud_init(self.guest, Services(self.guest))
        return seeding.takes_seed_media or SEED in read_tasks(self.guest)

    def _add_account(self, account: SeedAccount) -> None:
        accounts = read_accounts(self.guest)
        if find_account(accounts, account.name):
            return
        if len(accounts) > 2:
            # the account tools keep what was there before
            self.put("/etc/passwd-", self.guest.read_file("/etc/passwd"))
        new = NewAccount(
            account.name, account.full_name, account.public_keys, account.password_hash
        )
        add_account(self.guest, new, self.now // _DAY_SECONDS)

    def _ask_for_address(self) -> None:
        """The network knows a client by its ID, which is made of the machine ID: twins collide."""
        fixed = next((found for _path, found in find_static_addresses(self.guest) if found), None)
        if fixed:
            self.address = fixed[0].partition("/")[0]
            return
        client = self.machine_id or self.mac
        self.address = self.lease(client)
        lease = (
            f'lease {{\n  interface "ens3";\n  hardware ethernet {self.mac};\n'
            f"  fixed-address {self.address};\n"
            f'  option host-name "{self.host_name}";\n'
            f"  option dhcp-client-identifier {client};\n}}\n"
        )
        self.put("/var/lib/dhcp/dhclient.ens3.leases", lease.encode())
        self.log("dhclient[301]", f"bound to {self.address}")


def new_key_pairs(comment: str) -> dict[str, tuple[bytes, bytes]]:
    """Real SSH key pairs, by kind: (private in OpenSSH's form, public line)."""
    keys: dict[str, ed25519.Ed25519PrivateKey | ec.EllipticCurvePrivateKey] = {
        "ed25519": ed25519.Ed25519PrivateKey.generate(),
        "ecdsa": ec.generate_private_key(ec.SECP256R1()),
    }
    pairs = {}
    for kind, key in keys.items():
        private = key.private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.OpenSSH,
            serialization.NoEncryption(),
        )
        public = key.public_key().public_bytes(
            serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH
        )
        pairs[kind] = (private, public + b" " + comment.encode() + b"\n")
    return pairs
