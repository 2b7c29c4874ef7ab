"""Files that no package owns, that a seal leaves, and that look as if they identified the machine.

The catalogue knows what it knows. An agent that nobody has heard of keeps its id in a file of its
own; what gives it away is whose the file is, where it lies, how it is called, and how it looks.
Nothing of its content is ever shown.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Collection, Iterator
from itertools import islice

from zeroseal.filesystems.tree import Kind, NodeFacts
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.file_claims import FileClaims
from zeroseal.guests.linux.openpgp import is_public_keyring
from zeroseal.sealing.house_rules import any_pattern_fits
from zeroseal.sealing.linux.projected import ProjectedLinux
from zeroseal.sealing.what_stays import UnclaimedFile

_ROOTS = ("/etc", "/var/lib", "/var/spool", "/var/opt", "/opt", "/usr/local")
_DATA = re.compile(
    r"^/var/lib/(dpkg|apt|ucf|rpm|pacman|apk|mysql|mariadb|postgresql|mongodb|redis|ldap|docker"
    r"|containers|containerd|kubelet|lxc|lxd|machines|portables|libvirt/images|flatpak|snapd/snaps"
    r"|snapd/assertions|systemd/catalog|mlocate|plocate|man-db|texmf|aspell|ispell|dictionaries"
    r"|selinux|apparmor|initramfs-tools|os-prober|grub|gems|python)(/|$)"
    r"|^/etc/(ssl/certs|pki/ca-trust|alternatives|rc[0-9S]\.d|selinux/[^/]+/(policy|contexts)"
    r"|fstab|crypttab|fonts|ld\.so\.cache|localtime|\.pwd\.lock|apparmor\.d/cache)"
    r"|/(__pycache__|\.git|node_modules)/|^/var/lib/[^/]+/lock$"
)
_WORDS = re.compile(
    r"(?i)(?<![a-z])(machine|host|node|agent|device|client|system|instance|asset|site|cluster"
    r"|enrol(l?ment|led)?|register(ed)?|registration|uuid|guid|token|secret|credentials?|api"
    r"|identity|serial|license|licence|key|id)(?![a-z])"
)
_STRONG = re.compile(
    r"(?i)(?<![a-z])(uuid|guid|token|secret|credentials?|enrol(l?ment|led)?|registration|identity"
    r"|(machine|host|node|agent|device|client|system|instance|asset)[-_. ]?(id|key|token))(?![a-z])"
)
_UUID = re.compile(rb"(?i)(?<![0-9a-f-])[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}(?![0-9a-f-])")
_HEX = re.compile(rb"(?i)(?<![0-9a-f])[0-9a-f]{32}([0-9a-f]{8}|[0-9a-f]{32})?(?![0-9a-f])")
_SETTING = re.compile(
    rb"(?im)^[^\n=:#;>]{0,60}?(?<![a-z])(?:uuid|guid|token|secret|enrol[a-z]{0,9}|registration"
    rb"|api[-_]?key"
    rb"|(?:machine|host|node|agent|device|client|system|instance|asset)[-_. ]?(?:id|key))"
    rb"[\"']?[ \t]{0,8}[=:>][ \t]{0,8}[\"']?[^\s\"'#<]{6}"
)
_BLANK_UUIDS = re.compile(rb"(?i)^0{8}-|^f{8}-")
_LONGEST, _MOST_FILES = 64 << 10, 20_000
_RANDOM_BYTES = range(16, 4097)
_RANDOM_SHARE = 0.93  # of the entropy that so many random bytes would have
ENOUGH = 4
"""Points from which a file is suspected."""
_FIRST_BOOT_SECONDS = 600


def find_unclaimed(projected: ProjectedLinux, handled: Collection[str]) -> list[UnclaimedFile]:
    """The suspects, the most suspicious first; none where no package database lists files.

    What the plan handles and what house rules allow (``allow.unclaimed``) is left out.
    """
    claims = FileClaims(projected.guest)
    if not claims.is_known:
        return []
    known = _ids_of_volumes(projected)
    began_at = _first_boot_of(projected.guest)
    found = []
    for path, facts in _iter_candidates(projected):
        if path in handled:
            continue
        suspect = _judge(projected.guest, path, facts, known, began_at)
        if suspect.score >= ENOUGH and claims.is_nobodys(path):
            found.append(suspect)
    return sorted(found, key=lambda one: (-one.score, one.path))


# -- inside


def _iter_candidates(projected: ProjectedLinux) -> Iterator[tuple[str, NodeFacts]]:
    """Yields the files outside of homes and data folders that stay."""
    guest, homes = projected.guest, tuple(_homes_of(projected))
    allowed = projected.policy.unclaimed_places
    for path, facts in islice(_iter_files(guest), _MOST_FILES):
        if not facts.size_bytes or path.startswith(homes) or path in projected.gone:
            continue
        if not _DATA.search(path) and not any_pattern_fits(allowed, path):
            yield path, facts


def _iter_files(guest: Guest) -> Iterator[tuple[str, NodeFacts]]:
    for root in _ROOTS:
        for name in guest.list_names(root):
            path = f"{root}/{name}"
            if _DATA.search(path):
                continue
            facts = guest.facts(path, follow_last=False)
            if facts.kind is Kind.FILE:
                yield path, facts
            elif facts.kind is Kind.FOLDER:
                yield from (
                    (below, own) for below, own in guest.walk(path) if own.kind is Kind.FILE
                )


def _homes_of(projected: ProjectedLinux) -> Iterator[str]:
    for account in projected.context.accounts:
        home = account.home.rstrip("/")
        if account.is_human or account.uid == 0:
            yield f"{home}/"


def _judge(
    guest: Guest, path: str, facts: NodeFacts, known: frozenset[bytes], began_at: int
) -> UnclaimedFile:
    content = guest.read_file(path, _LONGEST) if facts.size_bytes <= _LONGEST else b""
    of_content = list(_content_reasons(content, known))
    reasons, score = _sum_up(path, of_content)
    if of_content and began_at and abs(facts.changed_at - began_at) <= _FIRST_BOOT_SECONDS:
        reasons.append("was written with the SSH host keys, at the installation or first boot")
        score += 1
    return UnclaimedFile(path, facts.size_bytes, tuple(reasons), score)


def describe_look(
    path: str, content: bytes, known: Collection[bytes] = frozenset()
) -> tuple[list[str], int]:
    """Why a file looks like identity, and how much speaks for it.

    Args:
        path: of the file.
        content: of it, or its beginning.
        known: identifiers in lower case that are no reason.
    """
    return _sum_up(path, list(_content_reasons(content, known)))


def _sum_up(path: str, of_content: list[tuple[int, str]]) -> tuple[list[str], int]:
    """Reasons of content and name together, and their points."""
    found = [*of_content, *_name_reasons(path, path.rpartition("/")[2])]
    return [reason for _points, reason in found], sum(points for points, _reason in found)


def _content_reasons(content: bytes, known: Collection[bytes]) -> Iterator[tuple[int, str]]:
    text = content.strip()
    ids = [
        match[0]
        for match in (*_UUID.finditer(content), *_HEX.finditer(content))
        if match[0].lower() not in known and not _BLANK_UUIDS.match(match[0])
    ]
    if ids and len(text) <= 2 * len(ids[0]):
        yield 5, "is nothing but an identifier"
    elif _SETTING.search(content):
        yield 4, "has a setting that is called an id, token or secret"
    elif ids and len(ids) <= 4 and len(content) <= 4096:
        yield 2, "has a UUID or a long hexadecimal number in it"
    elif _looks_random(text) and not is_public_keyring(content):
        yield 4, "is small and looks random"


def _name_reasons(path: str, name: str) -> Iterator[tuple[int, str]]:
    strong, weak = _STRONG.search(name), _WORDS.search(name)
    if strong:
        yield 3, f"is called {strong[0].lower()}"
    elif weak:
        yield 2, f"is called {weak[0].lower()}"
    elif _STRONG.search(path):
        yield 1, "lies in a folder that is called so"


def _looks_random(content: bytes) -> bool:
    """Whether so few bytes are as varied as random ones would be."""
    if len(content) not in _RANDOM_BYTES or content.startswith((b"#", b"<", b"{", b"[")):
        return False
    counts = Counter(content)
    if b" " in content and content.isascii():
        return False
    entropy = -sum(n / len(content) * math.log2(n / len(content)) for n in counts.values())
    alphabet = 64 if content.isascii() else 256
    most = min(math.log2(len(content)), math.log2(alphabet))
    return entropy >= _RANDOM_SHARE * most and not re.search(rb"[/\\]", content[:64])


def _ids_of_volumes(projected: ProjectedLinux) -> frozenset[bytes]:
    """What identifies volumes and partitions: fstab and the boot loader have to name them."""
    volumes = projected.inspection.disk.volumes
    ids = [one for volume in volumes for one in (volume.content.uuid, volume.part_uuid) if one]
    return frozenset(one.lower().encode() for one in ids)


def _first_boot_of(guest: Guest) -> int:
    """When the SSH host keys were made, seconds since 1970; 0 where there are none."""
    keys = guest.glob("/etc/ssh/ssh_host_*_key")
    return min((guest.facts(key).changed_at for key in keys), default=0)
