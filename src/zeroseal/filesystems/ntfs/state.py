"""Whether a volume was closed: its flags, its log, and a system that sleeps on it."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.bitmaps import count_set
from zeroseal.errors import NeedsRecoveryError, RefusedError
from zeroseal.filesystems.driver import VolumeState
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.layout import RestartArea, RestartPage, VolumeInformation
from zeroseal.filesystems.ntfs.names import to_text
from zeroseal.filesystems.ntfs.nodes import load_node
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume, take_fixups
from zeroseal.messages import ntfs as messages

SHUT_DOWN = "shutdown /s /f /t 0"  # what closes a volume for good, without a fast start
LOG_CLEAN, LOG_EMPTY, LOG_OPEN = "closed", "empty", "open"
_MOST_PAGE = 1 << 16
_LEAST_INDEX_BLOCK = 1024


@dataclass(frozen=True)
class OwnState:
    """What a volume says of itself.

    Attributes:
        version: such as ``3.1``.
        flags: those of ``layout.VOLUME_FLAGS`` that are set, in words.
        log: ``LOG_CLEAN``, ``LOG_EMPTY`` or ``LOG_OPEN``.
    """

    version: str
    label: str
    flags: tuple[str, ...]
    log: str

    @property
    def is_dirty(self) -> bool:
        """Whether the system asks for a check of the volume."""
        return layout.VOLUME_FLAGS[layout.VOLUME_IS_DIRTY] in self.flags


def read_state(volume: NtfsVolume) -> OwnState:
    """Version, label, flags and the state of the log.

    Raises:
        DamagedError: the records that say it are not sound.
    """
    node = load_node(volume, layout.VOLUME)
    found = node.find(layout.VOLUME_INFORMATION)
    if found is None or found.value is None or len(found.value) < VolumeInformation.SIZE:
        raise volume.damaged(messages.VERSION_MISSING)
    info = VolumeInformation.parse(found.value[: VolumeInformation.SIZE])
    name = node.find(layout.VOLUME_NAME)
    return OwnState(
        version=f"{info.major}.{info.minor}",
        label=to_text(name.value) if name and name.value else "",
        flags=tuple(word for bit, word in layout.VOLUME_FLAGS.items() if info.flags & bit),
        log=log_state(volume),
    )


def require_closed(volume: NtfsVolume) -> OwnState:
    """The state of a volume that may be changed.

    Raises:
        NeedsRecoveryError: it is dirty, or its log has work left.
        UnsupportedError: its version is another than 3.0 and 3.1.
    """
    state = read_state(volume)
    if state.version not in ("3.0", "3.1"):
        raise volume.unsupported(messages.VERSION_NOT_SUPPORTED.format(version=state.version))
    reason = ""
    if state.is_dirty:
        reason = "is marked dirty"
    elif state.log == LOG_OPEN:
        reason = "was not closed: its log has work left"
    if reason:
        raise NeedsRecoveryError(
            messages.NOT_CLOSED.format(where=volume.where, reason=reason, shut_down=SHUT_DOWN),
            format="ntfs",
        )
    return state


def require_editable(tree: NtfsTree) -> None:
    """Raises where a volume may not be changed.

    Raises:
        NeedsRecoveryError: it was not closed.
        RefusedError: Windows sleeps on it: it would go on from its memory.
        UnsupportedError: its indexes cannot be built anew.
    """
    volume = tree.volume
    require_closed(volume)
    if volume.index_bytes < _LEAST_INDEX_BLOCK:
        raise volume.unsupported(messages.INDEX_BLOCKS_TOO_SMALL)
    if tree.is_asleep():
        raise RefusedError(
            messages.WINDOWS_HIBERNATED.format(where=volume.where, shut_down=SHUT_DOWN)
        )


def log_state(volume: NtfsVolume) -> str:
    """Whether the log was closed, by its newer restart page."""
    attribute = load_node(volume, layout.LOG_FILE).find(layout.DATA)
    if attribute is None:
        raise volume.damaged(messages.LOG_MISSING)
    pages = []
    first = read_stream(volume, attribute, 0, _MOST_PAGE)
    if first[:4] == b"\xff\xff\xff\xff":
        return LOG_EMPTY if first.count(0xFF) == len(first) else LOG_OPEN
    size = int.from_bytes(first[16:20], "little")
    if first[:4] not in (b"RSTR", b"CHKD") or not 512 <= size <= _MOST_PAGE or size & (size - 1):
        return LOG_OPEN
    for place in (0, size):
        area = _restart_area(read_stream(volume, attribute, place, size))
        if area:
            pages.append(area)
    if not pages:
        return LOG_OPEN
    newest = max(pages, key=lambda area: area.current_lsn)
    is_closed = newest.client_in_use_list == layout.NO_CLIENT
    return LOG_CLEAN if is_closed or newest.flags & layout.RESTART_IS_CLEAN else LOG_OPEN


def _restart_area(raw: bytes) -> RestartArea | None:
    if raw[:4] not in (b"RSTR", b"CHKD"):
        return None
    restored = take_fixups(raw) or raw
    start = RestartPage.parse(restored[: RestartPage.SIZE]).area_offset
    if start + RestartArea.SIZE > len(restored):
        return None
    return RestartArea.parse(restored[start : start + RestartArea.SIZE])


def used_clusters(volume: NtfsVolume) -> int:
    """How many clusters are in use, by the bitmap."""
    bitmap = load_node(volume, layout.BITMAP).find(layout.DATA)
    return count_set(read_stream(volume, bitmap), volume.cluster_count) if bitmap else 0


def describe_volume(tree: NtfsTree) -> VolumeState:
    """Label, version, room, and how the volume was left.

    Raises:
        DamagedError: the records that say it are not sound.
    """
    volume = tree.volume
    state, sleeps = read_state(volume), tree.is_asleep()
    reasons = []
    if sleeps:
        reasons.append("Windows is hibernated on it, or was shut down for a fast start")
    if state.is_dirty:
        reasons.append("it is marked dirty")
    if state.log == LOG_OPEN:
        reasons.append("its log was not closed")
    way = f": start the machine once and shut it down fully ({SHUT_DOWN})" if reasons else ""
    size = volume.cluster_bytes
    return VolumeState(
        volume=volume.where,
        label=state.label,
        version=state.version,
        flags=state.flags,
        log=state.log,
        size_bytes=volume.size_bytes,
        free_bytes=(volume.cluster_count - used_clusters(volume)) * size,
        cluster_bytes=size,
        sleeps=sleeps,
        against_changing=", ".join(reasons) + way,
    )
