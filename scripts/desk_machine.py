"""A made-up Windows desk of Saltmarsh Ferries: real structures, nothing that was ever somebody's.

Hives, logs and descriptors are written by this project's own code into a volume that mkntfs made.
The tests make variations of it, ``make_desk_disk.py`` the demo's.
"""

from __future__ import annotations

import base64
import hashlib
import random
from collections.abc import Iterable

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ed25519

from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.guests.eventlogs.write import log_with_records
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.create import new_hive
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.windows.sids import MachineSid

NOW = 1_795_000_000
COMPUTER, PRODUCT, BUILD = "PURSER-REF", "Windows 10 Pro", "22631"
MACHINE = MachineSid((1847362910, 2938471605, 3310572948))
SID, RAW_SID = MACHINE.text, MACHINE.raw
GUID, UPDATE = "9f0b3d52-6c1e-4a87-b1d4-0a5c3e7f2b64", "5f3c2b1a-1111-4222-8333-444455556666"
SQM = "{1C2D3E4F-5A6B-4C7D-8E9F-0A1B2C3D4E5F}"
CARD = "{7A6B5C4D-3E2F-4A1B-9C8D-7E6F5A4B3C2D}"
CURRENT = "Microsoft\\Windows\\CurrentVersion"
VERSION = "Microsoft\\Windows NT\\CurrentVersion"
SET = "ControlSet001"
TCPIP = f"{SET}\\Services\\Tcpip\\Parameters"
ADA, TOM = 1001, 1002
ADA_SID, TOM_SID = MACHINE.account(ADA), MACHINE.account(TOM)
PASSWORD = "Low-tide-7-buoys"
ADMINISTRATORS, SYSTEM = (
    bytes.fromhex("01020000000000052000000020020000"),
    bytes.fromhex("010100000000000512000000"),
)
DUID = bytes.fromhex("000100012c5a7b1002005e104477")  # with a locally administered MAC
LEASE = "192.0.2.57"
TASK_ID = "{0B1C2D3E-4F50-4617-8283-94A5B6C7D8E9}"
Row = tuple[str, str, int, bytes]


def text(path: str, name: str, content: str) -> Row:
    """A value that holds a text."""
    return path, name, value_types.SZ, value_types.pack(value_types.SZ, content)


def number(path: str, name: str, content: int) -> Row:
    """A value that holds a number."""
    return path, name, value_types.DWORD, value_types.pack(value_types.DWORD, content)


def raw(path: str, name: str, content: bytes) -> Row:
    """A value that holds bytes."""
    return path, name, value_types.BINARY, content


def dice(label: str, count: int) -> bytes:
    """Bytes that stand for something random, the same each time."""
    return random.Random(label).randbytes(count)


def descriptor(owner: bytes, *allowed: bytes) -> bytes:
    """A security descriptor: an owner, and identifiers that may do everything."""
    entries = b"".join(
        b"\0\x03" + (8 + len(sid)).to_bytes(2, "little") + b"\xff\x01\x1f\0" + sid
        for sid in (owner, *allowed)
    )
    count = 1 + len(allowed)
    acl = b"\2\0" + (8 + len(entries)).to_bytes(2, "little") + count.to_bytes(4, "little") + entries
    head = b"\1\0\4\x80"
    for offset in (20, 20 + len(owner), 0, 20 + 2 * len(owner)):
        head += offset.to_bytes(4, "little")
    return head + owner + owner + acl


def account(name: str, rid: int, flags: int, password: bool = True) -> list[Row]:
    """An account as the database has it: the type of the name's value is its number."""
    users = "SAM\\Domains\\Account\\Users"
    facts = bytearray(80)
    facts[0x30:0x34] = rid.to_bytes(4, "little")
    facts[0x34:0x38] = (513).to_bytes(4, "little")
    facts[0x38:0x3A] = flags.to_bytes(2, "little")
    digest = b"\2\0\2\0" + (16).to_bytes(4, "little") + dice(f"salt {name}", 16)
    digest += dice(f"hash {name}", 32) if password else b""
    parts = {0: descriptor(ADMINISTRATORS, SYSTEM, MACHINE.raw_account(rid)),
             1: name.encode("utf-16-le"), 14: digest}  # fmt: skip
    table, body = bytearray(0xCC), b""
    for entry in range(17):
        part = parts.get(entry, b"")
        table[entry * 12 : entry * 12 + 8] = len(body).to_bytes(4, "little") + len(part).to_bytes(
            4, "little"
        )
        body += part.ljust(-(-len(part) // 4) * 4, b"\0")
    return [
        (f"{users}\\Names\\{name}", "", rid, b""),
        raw(f"{users}\\{rid:08X}", "F", bytes(facts)),
        raw(f"{users}\\{rid:08X}", "V", bytes(table) + body),
    ]


def group(domain: str, rid: int, name: str, *members: bytes) -> Row:
    """A local group with its members."""
    parts = [descriptor(ADMINISTRATORS), name.encode("utf-16-le"), b"", b"".join(members)]
    head, body = rid.to_bytes(4, "little"), b""
    for place, part in enumerate(parts):
        count = len(members) if place == 3 else 0
        for value in (len(body), len(part), count):
            head += value.to_bytes(4, "little")
        body += part.ljust(-(-len(part) // 4) * 4, b"\0")
    return raw(f"SAM\\Domains\\{domain}\\Aliases\\{rid:08X}", "C", head + body)


def membership(rid: int, *groups: int) -> Row:
    """The list of an account's groups: the type of the value counts them."""
    listed = b"".join(number_.to_bytes(4, "little") for number_ in groups)
    key = f"SAM\\Domains\\Builtin\\Aliases\\Members\\{SID}\\{rid:08X}"
    return key, "", len(groups), listed


def account_domain() -> bytes:
    """The domain of the machine's accounts: where its identifier begins, a descriptor, itself."""
    rights = descriptor(ADMINISTRATORS)
    rights += bytes(-len(rights) % 4)
    head = bytearray(0x40)
    head[0x38:0x3C] = len(rights).to_bytes(4, "little")
    head[0x3C:0x40] = len(RAW_SID).to_bytes(4, "little")
    return bytes(head) + rights + RAW_SID


def policy_name(name: str) -> bytes:
    """A text of the security policy: lengths, place, text."""
    wide = name.encode("utf-16-le")
    size = len(wide).to_bytes(2, "little")
    return size + size + (8).to_bytes(4, "little") + wide


def machine_rows() -> dict[str, list[Row]]:
    """The rows of the machine's hives."""
    members = f"SAM\\Domains\\Builtin\\Aliases\\Members\\{SID}"
    interfaces = f"{TCPIP}\\Interfaces\\{CARD}"
    firewall = f"{SET}\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\FirewallRules"
    secrets = "Policy\\Secrets"
    cache = f"{VERSION}\\Schedule\\TaskCache"
    return {
        "SAM": [
            raw("SAM\\Domains\\Account", "V", account_domain()),
            raw("SAM\\Domains\\Account", "F", dice("sam key", 240)),
            *account("Administrator", 500, 0x210),
            *account("Guest", 501, 0x215, password=False),
            *account("DefaultAccount", 503, 0x215, password=False),
            *account("ada.brine", ADA, 0x210),
            *account("tom.kelp", TOM, 0x210),
            text(f"SAM\\Domains\\Account\\Users\\{ADA:08X}", "UserPasswordHint", "the buoys"),
            group("Builtin", 544, "Administrators", MACHINE.raw_account(500),
                  MACHINE.raw_account(ADA)),
            group("Builtin", 545, "Users", bytes.fromhex("010100000000000504000000"),
                  MACHINE.raw_account(ADA), MACHINE.raw_account(TOM)),
            group("Account", 1003, "Pursers", MACHINE.raw_account(TOM)),
            (members, "", 3, b""),
            membership(500, 544),
            membership(ADA, 544, 545),
            membership(TOM, 545),
        ],
        "SECURITY": [
            raw("Policy\\PolAcDmS", "", RAW_SID),
            raw("Policy\\PolAcDmN", "", policy_name(COMPUTER)),
            raw("Policy\\PolPrDmN", "", policy_name("WORKGROUP")),
            raw(f"Policy\\Accounts\\{ADA_SID}", "Sid", MACHINE.raw_account(ADA)),
            raw("Policy\\Accounts\\S-1-5-32-544", "Sid", ADMINISTRATORS),
            raw(f"{secrets}\\DefaultPassword\\CurrVal", "", dice("secret 1", 48)),
            raw(f"{secrets}\\DefaultPassword\\OldVal", "", dice("secret 2", 48)),
            raw(f"{secrets}\\_SC_GateSync\\CurrVal", "", dice("secret 3", 64)),
            raw(f"{secrets}\\DPAPI_SYSTEM\\CurrVal", "", dice("secret 4", 76)),
            raw(f"{secrets}\\NL$KM\\CurrVal", "", dice("nlkm", 64)),
            raw("Cache", "NL$1", dice("cached logon", 200)),
            raw("Cache", "NL$Control", b"\4\0\1\0\x0a\0\0\0"),
        ],
        "SOFTWARE": [
            text(VERSION, "ProductName", PRODUCT),
            text(VERSION, "CurrentBuild", BUILD),
            text(VERSION, "RegisteredOwner", "ada.brine"),
            text("Microsoft\\Cryptography", "MachineGuid", GUID),
            text(f"{CURRENT}\\WindowsUpdate", "SusClientId", UPDATE),
            raw(f"{CURRENT}\\WindowsUpdate", "SusClientIDValidation", dice("validation", 48)),
            text("Microsoft\\SQMClient", "MachineId", SQM),
            text(f"{CURRENT}\\Setup\\State", "ImageState", "IMAGE_STATE_COMPLETE"),
            text(f"{VERSION}\\ProfileList\\S-1-5-18", "ProfileImagePath",
                 "%systemroot%\\system32\\config\\systemprofile"),
            text(f"{VERSION}\\ProfileList\\{ADA_SID}", "ProfileImagePath", "C:\\Users\\ada.brine"),
            raw(f"{VERSION}\\ProfileList\\{ADA_SID}", "Sid", MACHINE.raw_account(ADA)),
            text(f"{VERSION}\\ProfileList\\{TOM_SID}", "ProfileImagePath", "C:\\Users\\tom.kelp"),
            text(f"{VERSION}\\ProfileGuid\\{{11112222-3333-4444-8555-666677778888}}", "SidString",
                 ADA_SID),
            text(f"{VERSION}\\Winlogon", "DefaultUserName", "ada.brine"),
            text(f"{VERSION}\\Winlogon", "DefaultPassword", PASSWORD),
            text(f"{VERSION}\\Winlogon", "Shell", "explorer.exe"),
            text(f"{CURRENT}\\Authentication\\LogonUI", "LastLoggedOnSAMUser",
                 f"{COMPUTER}\\ada.brine"),
            text(f"{CURRENT}\\Authentication\\LogonUI", "LastLoggedOnUserSID", ADA_SID),
            text(f"{VERSION}\\NetworkList\\Profiles\\{{99998888-7777-4666-9555-444433332222}}",
                 "ProfileName", "saltmarsh.example"),
            raw(f"{VERSION}\\NetworkList\\Signatures\\Unmanaged\\0101", "DefaultGatewayMac",
                bytes.fromhex("02005e10000a")),
            text(f"{VERSION}\\NetworkCards\\2", "ServiceName", CARD),
            raw("Microsoft\\SystemCertificates\\MY\\Certificates\\" + "A1" * 20, "Blob",
                dice("certificate", 700)),
            raw("Microsoft\\SystemCertificates\\ROOT\\Certificates\\" + "B2" * 20, "Blob",
                dice("root certificate", 500)),
            raw("Microsoft\\SystemCertificates\\Remote Desktop\\Certificates\\" + "C3" * 20,
                "Blob", dice("rdp certificate", 600)),
            text("Microsoft\\Virtual Machine\\Guest\\Parameters", "VirtualMachineName",
                 "purser on quay-host"),
            text(f"{CURRENT}\\Appx\\AppxAllUserStore\\Applications\\Tideline.Clock_1.0_x64", "Path",
                 "C:\\Program Files\\WindowsApps\\Tideline.Clock_1.0_x64"),
            text(f"{CURRENT}\\Appx\\AppxAllUserStore\\{ADA_SID}\\Tideline.Chart_2.1_x64", "Path",
                 "C:\\Program Files\\WindowsApps\\Tideline.Chart_2.1_x64"),
            text(f"{cache}\\Tree\\Count the float", "Id", TASK_ID),
            raw(f"{cache}\\Tasks\\{TASK_ID}", "Hash", hashlib.sha256(user_task()).digest()),
            raw(f"{cache}\\Plain\\{TASK_ID}", "", b""),
            text(f"{CURRENT}\\Uninstall\\Ticket desk", "DisplayName", "Ticket desk"),
            text(f"{CURRENT}\\Run", "Ticket desk", "C:\\Program Files\\Ticket desk\\desk.exe"),
        ],
        "SYSTEM": [
            number("Select", "Current", 1),
            text(f"{SET}\\Control\\ComputerName\\ComputerName", "ComputerName", COMPUTER),
            text(TCPIP, "NV Hostname", COMPUTER),
            text(TCPIP, "Hostname", COMPUTER),
            text(TCPIP, "DhcpDomain", "saltmarsh.example"),
            number(interfaces, "EnableDHCP", 1),
            text(interfaces, "DhcpIPAddress", LEASE),
            number(interfaces, "LeaseObtainedTime", 1794990000),
            raw(interfaces, "DhcpGatewayHardware", bytes.fromhex("c000020106000000") +
                bytes.fromhex("02005e10000a")),
            raw(f"{SET}\\Services\\Tcpip6\\Parameters", "Dhcpv6DUID", DUID),
            text(f"{SET}\\Services\\EventLog\\State", "LastComputerName", COMPUTER),
            raw(f"{SET}\\Services\\LanmanServer\\Parameters", "Guid", dice("server guid", 16)),
            number(f"{SET}\\Services\\Dhcp", "Start", 2),
            number(f"{SET}\\Services\\EventLog", "Start", 2),
            number(f"{SET}\\Services\\sshd", "Start", 2),
            number(f"{SET}\\Services\\QEMU-GA", "Start", 2),
            number(f"{SET}\\Services\\viostor", "Start", 0),
            number(f"{SET}\\Services\\netkvm", "Start", 3),
            number(f"{SET}\\Services\\OneSyncSvc", "Type", 0x60),
            number(f"{SET}\\Services\\OneSyncSvc_4f3a1", "Type", 0xE0),
            raw(f"{SET}\\Services\\bam\\State\\UserSettings\\{ADA_SID}", "\\Device\\desk.exe",
                dice("bam", 24)),
            text(firewall, "RemoteDesktop-In",
                 "v2.31|Action=Allow|Active=TRUE|Dir=In|Protocol=6|Profile=Private|"
                 "LPort=3389|Name=Remote Desktop|"),
            text(firewall, "{5A17BA25-0000-4000-8000-00000000C4A7}",
                 f"v2.31|Action=Block|Active=TRUE|Dir=In|Name=Chart|LUOwn={ADA_SID}|"),
            text(f"{SET}\\Control\\TimeZoneInformation", "TimeZoneKeyName", "GMT Standard Time"),
            number(f"{SET}\\Control\\Terminal Server", "fDenyTSConnections", 0),
            raw(f"{SET}\\Control\\Terminal Server\\WinStations\\RDP-Tcp", "SSLCertificateSHA1Hash",
                bytes.fromhex("C3" * 20)),
            text(f"{SET}\\Control\\IDConfigDB\\Hardware Profiles\\0001", "HwProfileGuid",
                 "{aabbccdd-1122-4334-8556-778899aabbcc}"),
            text(f"{SET}\\Enum\\USBSTOR\\Disk&Ven_Made&Prod_Up\\0200000077AA", "FriendlyName",
                 "a stick"),
            raw("RNG", "Seed", dice("seed", 76)),
            raw("MountedDevices", "\\DosDevices\\C:", b"DMIO:ID:" + dice("partition", 16)),
            raw("MountedDevices", "\\DosDevices\\D:",
                "_??_USBSTOR#0200000077AA".encode("utf-16-le")),
            number("Setup", "SystemSetupInProgress", 0),
            number("Setup", "OOBEInProgress", 0),
        ],
        "DEFAULT": [text("Control Panel\\International", "LocaleName", "en-IE")],
    }  # fmt: skip


def hives(*more: tuple[str, Row], without: Iterable[tuple[str, str, str]] = ()) -> dict[str, bytes]:
    """The hives of the machine; rows of ``more`` are added to the one named, or replace.

    Args:
        more: (hive, row).
        without: (hive, key, name) of values that are left out.
    """
    rows = machine_rows()
    for hive, row in more:
        rows[hive].append(row)
    gone = set(without)
    return {
        name: build_hive(*[row for row in items if (name, row[0], row[1]) not in gone])
        for name, items in rows.items()
    }


def build_hive(*rows: Row, owner: bytes = b"") -> bytes:
    """A hive with values, each (key, name, type, data); what a removed key leaves is in it too."""
    own = descriptor(owner or ADMINISTRATORS, SYSTEM)
    editor = HiveEditor(new_hive("ROOT", NOW, descriptor=own), NOW)
    for path, name, kind, data in rows:
        key, parts = editor.root, path.split("\\") if path else []
        for depth, part in enumerate(parts, 1):
            found = editor.find_key("\\".join(parts[:depth]))
            key = editor.add_key(key, part) if found is None else found
        editor.set_value(key, name, kind, data)
    return editor.build()


def user_hives(name: str, rid: int) -> dict[str, bytes]:
    """A profile's hives, owned by their person."""
    explorer = "Software\\Microsoft\\Windows\\CurrentVersion\\Explorer"
    owner = MACHINE.raw_account(rid)
    return {
        "NTUSER.DAT": build_hive(
            text("Environment", "TEMP", "%USERPROFILE%\\AppData\\Local\\Temp"),
            text(f"{explorer}\\RunMRU", "a", f"mstsc /v:{name}-desk.saltmarsh.example"),
            text(f"{explorer}\\TypedPaths", "url1", "\\\\ledger.saltmarsh.example\\float"),
            owner=owner,
        ),
        "AppData/Local/Microsoft/Windows/UsrClass.dat": build_hive(
            text(f"{MACHINE.account(rid)}_Classes", "", "classes"), owner=owner
        ),
    }


def user_task() -> bytes:
    """A scheduled task that ada.brine made."""
    xml = (
        '<?xml version="1.0" encoding="UTF-16"?>\r\n<Task><RegistrationInfo><Author>'
        f"{COMPUTER}\\ada.brine</Author></RegistrationInfo><Principals><Principal><UserId>"
        f"{ADA_SID}</UserId></Principal></Principals></Task>"
    )
    return b"\xff\xfe" + xml.encode("utf-16-le")


def answer_file(password: str = PASSWORD) -> bytes:
    """An answer file with a password in clear and one in base64."""
    hidden = base64.b64encode((password + "AdministratorPassword").encode("utf-16-le")).decode()
    return (
        '<?xml version="1.0" encoding="utf-8"?>\n<unattend><settings pass="oobeSystem">'
        f"<component><UserAccounts><AdministratorPassword><Value>{hidden}</Value>"
        "<PlainText>false</PlainText></AdministratorPassword></UserAccounts><AutoLogon>"
        f"<Password><Value>{password}</Value></Password></AutoLogon></component></settings>"
        "</unattend>\n"
    ).encode()


def host_key() -> tuple[bytes, bytes]:
    """An SSH host key, made of made-up bytes: (private, public line)."""
    key = ed25519.Ed25519PrivateKey.from_private_bytes(dice("host key", 32))
    private = key.private_bytes(
        serialization.Encoding.PEM,
        serialization.PrivateFormat.OpenSSH,
        serialization.NoEncryption(),
    )
    public = key.public_key().public_bytes(
        serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH
    )
    return private, public + f" {COMPUTER.lower()}\n".encode()


def files(*more: tuple[str, Row], without: Iterable[tuple[str, str, str]] = ()) -> dict[str, bytes]:
    """The files of the system volume; a path that ends in ``/`` is a folder."""
    config = "Windows/System32/config"
    private, public = host_key()
    log = log_with_records(COMPUTER, 12, NOW)
    made = hives(*more, without=without)
    found = {f"{config}/{name}": content for name, content in made.items()}
    found |= {f"{config}/{name}.LOG1": b"" for name in made}
    found |= {
        f"{config}/SYSTEM.LOG2": bytes(4096),
        f"{config}/RegBack/SAM": made["SAM"],
        f"{config}/TxR/one.TxR.0.regtrans-ms": f"{COMPUTER} transaction".encode() * 40,
        "Windows/System32/ntoskrnl.exe": b"MZ stands for the kernel " * 200,
        "Windows/System32/drivers/etc/hosts": b"# hosts\r\n192.0.2.9 ledger.saltmarsh.example\r\n",
        "Windows/System32/winevt/Logs/System.evtx": log,
        "Windows/System32/winevt/Logs/Security.evtx": log,
        "Windows/System32/winevt/Logs/Archive-Security-2026-10-01.evtx": log,
        "Windows/System32/Tasks/Count the float": user_task(),
        "Windows/System32/LogFiles/WMI/RtBackup/EtwRT.etl": dice("etl", 3000),
        "Windows/System32/sru/SRUDB.dat": f"{ADA_SID} used desk.exe".encode("utf-16-le") * 20,
        "Windows/System32/Microsoft/Protect/S-1-5-18/1a2b": dice("master key", 468),
        "Windows/Prefetch/DESK.EXE-1A2B3C4D.pf": b"MAM\4" + dice("prefetch", 900),
        "Windows/Panther/setupact.log": f"computer {COMPUTER}, user ada.brine\r\n".encode() * 30,
        "Windows/Panther/unattend.xml": answer_file(),
        "Windows/Logs/CBS/CBS.log": b"2026-10-29 servicing\r\n" * 90,
        "Windows/debug/NetSetup.LOG": f"joined from {COMPUTER}\r\n".encode(),
        "Windows/Temp/install.log": f"password {PASSWORD}\r\n".encode(),
        "Windows/inf/setupapi.dev.log": b"usb 0200000077AA\r\n" * 9,
        "Windows/MEMORY.DMP": b"PAGEDU64" + dice("dump", 9000),
        "Windows/SoftwareDistribution/Download/kb1.cab": dice("cab", 5000),
        "Windows/SoftwareDistribution/DataStore/DataStore.edb": dice("store", 4000),
        "Windows/WinSxS/": b"",
        "ProgramData/ssh/sshd_config": b"PasswordAuthentication no\n",
        "ProgramData/ssh/ssh_host_ed25519_key": private,
        "ProgramData/ssh/ssh_host_ed25519_key.pub": public,
        "ProgramData/ssh/administrators_authorized_keys": b"ssh-ed25519 AAAA ada.brine\n",
        f"ProgramData/Microsoft/Crypto/RSA/MachineKeys/{'7c' * 16}_{GUID}": dice(
            "machine key", 900
        ),
        f"ProgramData/Microsoft/Wlansvc/Profiles/Interfaces/{CARD}/one.xml": b"<name>quay</name>",
        "ProgramData/Microsoft/Windows/WER/ReportQueue/one/Report.wer": b"desk.exe failed\r\n",
        "ProgramData/Microsoft/Diagnosis/EventStore.db": dice("diagnosis", 2000),
        "Program Files/Ticket desk/desk.exe": b"MZ stands for the ticket desk " * 100,
        "Program Files/Ticket desk/desk.ini": b"[desk]\r\npier=3\r\n",
        "Users/Default/NTUSER.DAT": build_hive(text("Environment", "TEMP", "%TEMP%")),
        "Users/Public/Documents/": b"",
        "System Volume Information/tracking.log": dice("tracking", 20480),
        "pagefile.sys": b"page of memory, ada.brine was here " * 2000,
        "unattend.xml": answer_file("Second-mate-9-lamps"),
    }
    for name, rid in (("ada.brine", ADA), ("tom.kelp", TOM)):
        home = f"Users/{name}"
        found |= {f"{home}/{path}": content for path, content in user_hives(name, rid).items()}
        roaming = f"{home}/AppData/Roaming/Microsoft"
        found |= {
            f"{home}/Documents/float.txt": f"the float of {name}\r\n".encode() * 20,
            f"{home}/.ssh/id_ed25519": private.replace(b"A", b"B"),
            f"{roaming}/Protect/{MACHINE.account(rid)}/Preferred": dice(f"dpapi {name}", 24),
            f"{roaming}/Windows/PowerShell/PSReadLine/ConsoleHost_history.txt": (
                f"net use \\\\ledger /user:{name} {PASSWORD}\r\n".encode()
            ),
            f"$Recycle.Bin/{MACHINE.account(rid)}/$R1A2B3.txt": b"thrown away\r\n",
        }
    return found


def fill(editor: NtfsEditor, content: dict[str, bytes]) -> None:
    """Puts files and folders into a volume; what lies in a profile belongs to its person."""
    folders = {"": editor.root}

    def folder_of(path: str) -> int:
        if path not in folders:
            above, _slash, name = path.rpartition("/")
            folders[path] = editor.create_folder(folder_of(above), name.encode(), 0o755)
            _give(editor, folders[path], path)
        return folders[path]

    editor.set_security(editor.root, descriptor(ADMINISTRATORS, SYSTEM))
    for path, raw_content in content.items():
        above, _slash, name = path.rpartition("/")
        parent = folder_of(above)
        if name:
            node = editor.create_file(parent, name.encode(), raw_content, 0o644)
            _give(editor, node, path)


def _give(editor: NtfsEditor, node: int, path: str) -> None:
    for name, rid in (("ada.brine", ADA), ("tom.kelp", TOM)):
        if path.startswith(f"Users/{name}") or f"/{MACHINE.account(rid)}" in path:
            own = MACHINE.raw_account(rid)
            editor.set_security(node, descriptor(own, SYSTEM, ADMINISTRATORS))


def boot_store() -> bytes:
    """The boot loader's store."""
    return build_hive(raw("Objects\\{9dea862c-5cdd-4e70-acc1-f32b344d4795}\\Elements\\11000001",
                          "Element", dice("boot device", 88)))  # fmt: skip
