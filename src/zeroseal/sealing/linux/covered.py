"""Files beneath mount points: on the disk, but the running guest does not see them."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest
from zeroseal.sealing.linux.secret_looks import find_secret
from zeroseal.sealing.linux.unclaimed import ENOUGH, describe_look
from zeroseal.sealing.what_stays import CoveredFiles

_MOST_NAMED, _MOST_LOOKED_AT, _LONGEST_TEXT = 10, 5_000, 64 << 10


def find_covered(guest: Guest) -> Iterator[CoveredFiles]:
    """Yields what each mount point covers, where that is anything."""
    for mount in guest.mounts[1:]:
        above = [other for other in guest.mounts if not _is_at_or_below(other.path, mount.path)]
        if mount.path.endswith(":") or not above:  # beside the tree, as Windows has volumes
            continue
        bare = Guest([above[0]])
        bare.mount(above[1:])
        if not bare.is_folder(mount.path):
            continue
        files = [(path, facts) for path, facts in bare.walk(mount.path) if facts.kind is Kind.FILE]
        if files:
            small = [path for path, facts in files if facts.size_bytes <= _LONGEST_TEXT]
            looked_at = small[:_MOST_LOOKED_AT]
            yield CoveredFiles(
                mount_point=mount.path,
                volume=bare.mount_of(mount.path).source,
                paths=tuple(path for path, _facts in files[:_MOST_NAMED]),
                count=len(files),
                size_bytes=sum(facts.size_bytes for _path, facts in files),
                suspects=tuple(path for path in looked_at if _is_suspect(bare, path)),
            )


def _is_suspect(guest: Guest, path: str) -> bool:
    """Whether a file looks like a secret, or like identity."""
    content = guest.read_file(path, _LONGEST_TEXT)
    return bool(find_secret(content)) or describe_look(path, content)[1] >= ENOUGH


def _is_at_or_below(path: str, point: str) -> bool:
    return f"{path}/".startswith(f"{point.rstrip('/')}/")
