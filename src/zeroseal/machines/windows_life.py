"""What a Windows does to its own disk when it starts and stops: the simulated host's Windows.

A stand-in, small and labelled as one: set-up's pass where the system was resealed, host keys, a
lease, identifiers of services, event logs, somebody who logs in. It proves nothing of a real one.
"""

from __future__ import annotations

import secrets
import uuid
import xml.etree.ElementTree as ET
from collections.abc import Callable
from dataclasses import dataclass, field

from zeroseal.guests.eventlogs.write import log_with_records
from zeroseal.guests.guest import Guest
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.paths import CONFIG_FOLDER
from zeroseal.guests.windows.answer_files import CACHED_PATHS
from zeroseal.guests.windows.hives import HiveSet, open_registry
from zeroseal.guests.windows.identity import (
    CURRENT,
    VERSION,
    FirstStart,
    WindowsFacts,
    read_identity,
    read_windows,
)
from zeroseal.guests.windows.issue import name_computer, new_machine_guid
from zeroseal.guests.windows.network import iter_interfaces
from zeroseal.guests.windows.reissue import reissue_sid
from zeroseal.guests.windows.services import WindowsServices
from zeroseal.machines.guest_life import new_key_pairs
from zeroseal.machines.seed import Seed

_SOFTWARE, _SYSTEM = f"{CONFIG_FOLDER}/SOFTWARE", f"{CONFIG_FOLDER}/SYSTEM"
_LOGS = "/Windows/System32/winevt/Logs"
_RECORDS_AT_START, _RECORDS_MORE = 24, 8
_DEFAULT_PROFILE = "/Users/Default/NTUSER.DAT"
_PAGE_FILE_BYTES = 64 << 10


@dataclass
class WindowsLife:
    """One run of a Windows; see ``GuestLife`` for the fields."""

    guest: Guest
    now: int
    mac: str
    lease: Callable[[str], str]
    seed: Seed | None = None
    messages: list[str] = field(default_factory=list)
    address: str = ""

    def start(self) -> None:
        """Boots: what set-up does, what regrows, the network, logs, somebody who logs in."""
        self._finish_set_up()
        self._grow_host_keys()
        self._grow_identifiers()
        self._ask_for_address()
        self._write_logs(_RECORDS_AT_START)
        self._log_in()
        self.put("/pagefile.sys", secrets.token_bytes(_PAGE_FILE_BYTES))

    def stop(self) -> None:
        """Shuts down: a seed is saved for the next start."""
        hives = HiveSet(open_registry(self.guest), self.now)
        self._set(hives, _SYSTEM, "RNG", "Seed", value_types.BINARY, secrets.token_bytes(76))
        hives.finish()
        self._write_logs(_RECORDS_AT_START + _RECORDS_MORE)

    def log(self, who: str, what: str, back_seconds: int = 0) -> None:
        """One more record, whoever it is from."""
        self._write_logs(_RECORDS_AT_START + 1)

    def put(self, path: str, content: bytes, mode: int = 0o644, uid: int = 0, gid: int = 0) -> None:
        """Writes a file, with the folders it needs."""
        self.guest.put_file(path, content, mode)

    @property
    def facts(self) -> WindowsFacts:
        """The system as its registry says it now."""
        return read_windows(open_registry(self.guest), "")

    def _finish_set_up(self) -> None:
        """What set-up does at the first start of a resealed system."""
        start = self.facts.identity.first_start
        if start is not FirstStart.RESEALED:
            return
        hives = HiveSet(open_registry(self.guest), self.now)
        new = reissue_sid(hives, self.facts.identity.sid, marks=False)
        self.messages.append(f"setup gave the machine the security identifier {new.text}")
        new_machine_guid(hives)
        state = f"{CURRENT}\\Setup\\State".partition("\\")[2]
        text = value_types.pack(value_types.SZ, "IMAGE_STATE_COMPLETE")
        self._set(hives, _SOFTWARE, state, "ImageState", value_types.SZ, text)
        name = self._take_answers()
        if name:
            name_computer(hives.registry, hives, name)
            self.messages.append(f"setup used the answer file and named the computer {name}")
        hives.finish()

    def _take_answers(self) -> str:
        """The computer's name in the answer file, which its own command removes."""
        for path in CACHED_PATHS:
            if self.guest.is_file(path):
                root = ET.fromstring(self.guest.read_text(path))
                found = next((e.text for e in root.iter() if e.tag.endswith("}ComputerName")), "")
                self.guest.remove(path)
                return found or ""
        return ""

    def _grow_host_keys(self) -> None:
        services = WindowsServices(open_registry(self.guest))
        if not services.is_enabled("sshd") or self.guest.glob("/ProgramData/ssh/ssh_host_*key"):
            return
        for kind, (private, public) in new_key_pairs(self.facts.host_name).items():
            self.put(f"/ProgramData/ssh/ssh_host_{kind}_key", private)
            self.put(f"/ProgramData/ssh/ssh_host_{kind}_key.pub", public)
        self.messages.append("sshd created new SSH host keys")

    def _grow_identifiers(self) -> None:
        """Identifiers that services make where they find none."""
        identity = read_identity(open_registry(self.guest))
        hives = HiveSet(open_registry(self.guest), self.now)
        if not identity.update_id:
            place, made = f"{CURRENT}\\WindowsUpdate".partition("\\")[2], str(uuid.uuid4())
            content = value_types.pack(value_types.SZ, made)
            self._set(hives, _SOFTWARE, place, "SusClientId", value_types.SZ, content)
            self.messages.append("the update agent created a new client ID")
        duid = b"\0\1\0\1" + self.now.to_bytes(4, "big") + bytes.fromhex(self.mac.replace(":", ""))
        place = "ControlSet001\\Services\\Tcpip6\\Parameters"
        self._set(hives, _SYSTEM, place, "Dhcpv6DUID", value_types.BINARY, duid)
        hives.finish()

    def _ask_for_address(self) -> None:
        """The network knows a client by its card."""
        cards = [card for card in iter_interfaces(open_registry(self.guest)) if "6" not in card.key]
        if not cards:
            return
        if cards[0].addresses:
            self.address = cards[0].addresses[0]
            return
        self.address = self.lease(self.mac)
        hives = HiveSet(open_registry(self.guest), self.now)
        content = value_types.pack(value_types.SZ, self.address)
        self._set(hives, cards[0].file, cards[0].key, "DhcpIPAddress", value_types.SZ, content)
        hives.finish()

    def _write_logs(self, records: int) -> None:
        for name in ("System", "Security"):
            self.put(
                f"{_LOGS}/{name}.evtx", log_with_records(self.facts.host_name, records, self.now)
            )

    def _log_in(self) -> None:
        """Somebody logs in: the first account that can gets a profile, where it has none."""
        identity = read_identity(open_registry(self.guest))
        account = next((item for item in identity.accounts if item.can_log_in), None)
        if account is None:
            return
        sid = identity.sid_of(account)
        if not any(profile.sid == sid for profile in identity.profiles):
            folder = f"/Users/{account.name}"
            hive = self.guest.read_file(_DEFAULT_PROFILE)
            self.put(f"{folder}/NTUSER.DAT", hive)
            hives = HiveSet(open_registry(self.guest), self.now)
            place = f"{VERSION}\\ProfileList\\{sid}".partition("\\")[2]
            text = value_types.pack(value_types.SZ, f"C:\\Users\\{account.name}")
            self._set(hives, _SOFTWARE, place, "ProfileImagePath", value_types.SZ, text)
            hives.finish()
            self.messages.append(f"{account.name} logged in and got a profile")

    @staticmethod
    def _set(hives: HiveSet, file: str, path: str, name: str, kind: int, data: bytes) -> None:
        editor = hives.editor(file)
        key = editor.root
        for part in path.split("\\"):
            key = editor.add_key(key, part)
        editor.set_value(key, name, kind, data)
