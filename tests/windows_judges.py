"""Independent looks at a disk with Windows: bytes, files, hives, accounts, rights.

Files are read by dissect.ntfs, hives by hivex, python-registry and regipy.
"""

from __future__ import annotations

import base64
import re
import struct
import uuid
from pathlib import Path
from typing import Any

from dissect.ntfs import NTFS
from Registry import Registry

from tests.hives import Node, by_hivex, by_python_registry, by_regipy, flat, known_only, ours
from tests.ntfs import judge_ntfs, judge_security, streams_by_dissect
from tests.oracles import cut_partition, run

CONFIG = "/Windows/System32/config/"
HIVES = ("SAM", "SECURITY", "SOFTWARE", "SYSTEM", "DEFAULT")


def stored_content(disk: Path, block: int = 1 << 16) -> bytes:
    """The bytes of a disk without the blocks that are zeros and follow such a block."""
    found, before = [], True
    with disk.open("rb") as file:
        while piece := file.read(block):
            has_content = piece.count(0) < len(piece)
            if has_content or before:
                found.append(piece)
            before = has_content
    return b"".join(found)


class Judged:
    """A disk whose volumes were cut out and judged: the EFI partition, the system volume."""

    def __init__(self, disk: Path, folder: Path, system: int = 2) -> None:
        folder.mkdir(exist_ok=True)
        self.folder, self.disk = folder, disk
        self.volume = cut_partition(disk, system, folder / "system.ntfs")
        run("fsck.fat", "-n", cut_partition(disk, 1, folder / "esp.fat"))
        judge_ntfs(self.volume)
        judge_security(self.volume)
        self.files = {
            path: content for (path, _s), content in streams_by_dissect(self.volume).items()
        }
        self.streams = streams_by_dissect(self.volume)

    def hive(self, name: str) -> Path:
        """A hive as a file of its own."""
        path = self.folder / name.replace("/", "_")
        path.write_bytes(self.files[CONFIG + name if name in HIVES else name])
        return path

    def judge_hives(self, *but: str) -> None:
        """Three parsers read every hive as we do, but for those that are judged otherwise."""
        for path, content in self.files.items():
            if content[:4] != b"regf" or (but and path.endswith(but)):
                continue
            file = self.folder / "hive"
            file.write_bytes(content)
            tree = ours(content)
            assert by_hivex(file) == tree, path
            assert _without_empty(by_python_registry(file)) == _without_empty(known_only(tree)), (
                path
            )
            assert by_regipy(file) == flat(tree), path

    def find(self, forms: dict[str, bytes]) -> set[str]:
        """Which values stand in the disk's bytes or in what files hold, compressed ones too."""
        contents = [
            stored_content(self.disk).lower(),
            *(content.lower() for content in self.streams.values()),
        ]
        return {
            f"{name} at {content.find(form.lower())}"
            for name, form in forms.items()
            for content in contents
            if form.lower() in content
        }

    def value(self, hive: str, key: str, name: str = "(default)") -> Any:
        """A value as python-registry reads it; None where there is none."""
        try:
            found = Registry.Registry(str(self.hive(hive))).open(key)
            return found.value(name).value()
        except (Registry.RegistryKeyNotFoundException, Registry.RegistryValueNotFoundException):
            return None

    def keys(self, hive: str, key: str) -> list[str]:
        """The names of the keys below one."""
        try:
            found = Registry.Registry(str(self.hive(hive))).open(key)
        except Registry.RegistryKeyNotFoundException:
            return []
        return sorted(child.name() for child in found.subkeys())

    def machine_sid(self) -> bytes:
        """The last 24 bytes of the account domain's V value."""
        content: bytes = self.value("SAM", "SAM\\Domains\\Account", "V")
        return content[-24:]

    def accounts(self) -> dict[int, str]:
        """Accounts by number."""
        opened = Registry.Registry(str(self.hive("SAM")))
        names = opened.open("SAM\\Domains\\Account\\Users\\Names")
        return {child.value("(default)").value_type(): child.name() for child in names.subkeys()}

    def accounts_by_chntpw(self) -> dict[str, str]:
        """The state of accounts by name, as chntpw lists them: administrators, disabled ones."""
        found = {}
        for line in run("chntpw", "-l", self.hive("SAM")).splitlines():
            cells = [cell.strip() for cell in line.strip("|").split("|")]
            if len(cells) == 4 and re.fullmatch(r"[0-9a-f]{4,8}", cells[0]):
                found[cells[1]] = f"{cells[2]} {cells[3]}".strip()
        return found

    def groups(self) -> dict[str, list[bytes]]:
        """Members of local groups, by the groups' names."""
        found = {}
        for domain in ("Account", "Builtin"):
            place = f"SAM\\Domains\\{domain}\\Aliases"
            for name in self.keys("SAM", place):
                content = self.value("SAM", f"{place}\\{name}", "C")
                if content is None:
                    continue
                fields = struct.unpack_from("<13I", content)
                title = content[0x34 + fields[4] : 0x34 + fields[4] + fields[5]].decode("utf-16-le")
                at, end = 0x34 + fields[10], 0x34 + fields[10] + fields[11]
                members = []
                while at < end:
                    size = 8 + 4 * content[at + 1]
                    members.append(content[at : at + size])
                    at += size
                assert len(members) == fields[12]
                found[title] = members
        return found

    def owners(self) -> dict[str, tuple[str, list[str]]]:
        """(owner, identifiers of the access list) of every file and folder, as text."""
        with self.volume.open("rb") as file:
            system: Any = NTFS(file)
            found = {}
            pending = [(system.mft.get("/"), "")]
            while pending:
                folder, path = pending.pop()
                for entry in folder.iterdir(ignore_dos=True):
                    record = entry.dereference()
                    if record.segment < 24:
                        continue
                    own = f"{path}/{entry.attribute.file_name}"
                    standard = record.attributes.STANDARD_INFORMATION[0].attribute
                    rights = system.secure.lookup(standard.security_id)
                    found[own] = (str(rights.owner), [str(ace.sid) for ace in rights.dacl.ace])
                    if record.is_dir():
                        pending.append((record, own))
            return found


def _without_empty(tree: Node) -> Node:
    """A tree without values that hold nothing: python-registry sees zeros in those."""
    values = {name: value for name, value in tree.values.items() if any(value[1])}
    return Node(values, {name: _without_empty(child) for name, child in tree.keys.items()})


def forms_of_text(text: str) -> dict[str, bytes]:
    """A text in one and in two bytes a letter, and both in base64."""
    plain, wide = text.encode(), text.encode("utf-16-le")
    return {
        f"{text} (text)": plain,
        f"{text} (UTF-16)": wide,
        f"{text} (base64)": base64.b64encode(plain)[:-4],
        f"{text} (UTF-16 in base64)": base64.b64encode(wide)[:-4],
    }


def forms_of_sid(raw: bytes) -> dict[str, bytes]:
    """A machine's identifier: its three numbers in binary and text, all of it in base64."""
    numbers = struct.unpack("<3I", raw[12:24])
    text = "-".join(map(str, numbers))
    return {
        "SID (binary)": raw[12:24],
        "SID (base64)": base64.b64encode(raw),
        **forms_of_text(f"S-1-5-21-{text}"),
        **forms_of_text(text),
    }


def forms_of_guid(text: str) -> dict[str, bytes]:
    """A GUID as text, and in both binary orders."""
    guid = uuid.UUID(text)
    both = {"GUID (bytes)": guid.bytes, "GUID (little-endian)": guid.bytes_le}
    return both | forms_of_text(str(guid))
