"""Quota groups: what each subvolume refers to, and what of that it alone refers to.

Source: btrfs documentation, "Quota groups"; ``btrfs_qgroup_info_item``. Counted anew from the
trees, as a scan by the kernel would.
"""

from __future__ import annotations

import struct
from collections import Counter, defaultdict

from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.extents import iter_extents, lies_outside, references_of
from zeroseal.filesystems.btrfs.layout import Key
from zeroseal.filesystems.btrfs.trees_edit import TreeEditor, is_subvolume
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, parse_root

_STATUS, _INFO, _LIMIT, _RELATION = 240, 242, 244, 246  # kinds of items
_IS_ON, _IS_SIMPLE = 1, 8
_LEVEL_SHIFT = 48
Counts = dict[int, tuple[int, int]]  # by group: bytes referred to, and of those by no other


def update_quotas(trees: TreeEditor) -> None:
    """Brings the counts of all quota groups up to date, where the volume keeps any."""
    volume = trees.volume
    status = read_status(volume)
    if status is None:
        return
    counts = count_quotas(volume)
    first, last = Key(0, _INFO, 0), Key(0, _INFO, layout.LAST)
    for key, data in list(volume.items(trees.root(layout.QUOTA_TREE), first, last)):
        referred, alone = counts.get(key.offset, (0, 0))
        made = data[:8] + struct.pack("<QQQQ", referred, referred, alone, alone)
        if made != data:
            trees.put(layout.QUOTA_TREE, key, made)


def forget_quota(trees: TreeEditor, subvolume: int) -> None:
    """Removes the quota group of a subvolume that is gone."""
    if read_status(trees.volume) is None:
        return
    root = trees.root(layout.QUOTA_TREE)
    for key, _data in list(trees.volume.all_items(root)):
        is_own = key.kind in (_INFO, _LIMIT) and key.offset == subvolume
        if is_own or (key.kind == _RELATION and subvolume in (key.object, key.offset)):
            trees.drop(layout.QUOTA_TREE, key)


def read_status(volume: BtrfsVolume) -> bytes | None:
    """The status of the quota groups; None where they are not kept."""
    found = next(volume.items_of(volume.roots, layout.QUOTA_TREE, layout.ROOT_ITEM), None)
    status = found and volume.find(parse_root(found[1])[0], Key(0, _STATUS, 0))
    if not status or not int.from_bytes(status[16:24], "little") & _IS_ON:
        return None
    return status


def count_quotas(volume: BtrfsVolume) -> Counts:
    """What each quota group should say."""
    status = read_status(volume) or bytes(40)
    if int.from_bytes(status[16:24], "little") & _IS_SIMPLE:
        single = _count_by_owner(volume, int.from_bytes(status[32:40], "little"))
        members = _members(volume, set(single))
        sums = {
            group: sum(single[one] for one in own if one in single)
            for group, own in members.items()
        }
        return {group: (total, total) for group, total in sums.items()}
    subvolumes = [
        key.object
        for key, _data in volume.all_items(volume.roots)
        if key.kind == layout.ROOT_ITEM and is_subvolume(key.object)
    ]
    lengths: dict[int, int] = {}
    users: defaultdict[int, int] = defaultdict(int)  # a bit for each subvolume
    for bit, number in enumerate(subvolumes):
        _mark(volume, number, 1 << bit, users, lengths)
    counts: Counts = {}
    by_users: Counter[int] = Counter()
    for address, mask in users.items():
        by_users[mask] += lengths[address]
    for group, own in _members(volume, set(subvolumes)).items():
        mask = sum(1 << bit for bit, number in enumerate(subvolumes) if number in own)
        referred = sum(size for bits, size in by_users.items() if bits & mask)
        alone = sum(size for bits, size in by_users.items() if bits and not bits & ~mask)
        counts[group] = referred, alone
    return counts


def _mark(
    volume: BtrfsVolume, number: int, bit: int, users: defaultdict[int, int],
    lengths: dict[int, int],
) -> None:  # fmt: skip
    """Notes that a subvolume uses all nodes and data that its tree leads to."""
    node_bytes = volume.superblock.node_bytes
    waiting = [volume.tree(number).address]
    while waiting:
        address = waiting.pop()
        if users[address] & bit:
            continue
        users[address] |= bit
        lengths[address] = node_bytes
        node = volume.read_node(address)
        if node.level:
            waiting += [child for child, _written in node.children]
            continue
        for target, _by_owner, _by_address in references_of(node, address):
            users[target] |= bit
        for key, data in zip(node.keys, node.data, strict=True):
            if key.kind == layout.EXTENT_DATA and lies_outside(data):
                at, length = struct.unpack_from("<QQ", data, 21)
                if at:
                    lengths[at] = length


def _count_by_owner(volume: BtrfsVolume, since: int) -> Counter[int]:
    """What was allocated for each subvolume since its quota was turned on."""
    found: Counter[int] = Counter()
    for extent in iter_extents(volume):
        owner = extent.owner
        if extent.is_node:
            owner = volume.read_node(extent.address).head.owner
        if owner is not None and extent.generation >= since and is_subvolume(owner):
            found[owner] += extent.length
    return found


def _members(volume: BtrfsVolume, subvolumes: set[int]) -> dict[int, set[int]]:
    """The subvolumes of each group, its groups' included."""
    members = {number: {number} for number in subvolumes}
    below: defaultdict[int, set[int]] = defaultdict(set)
    for key, _data in volume.all_items(volume.tree(layout.QUOTA_TREE)):
        if key.kind == _RELATION and key.object >> _LEVEL_SHIFT > key.offset >> _LEVEL_SHIFT:
            below[key.object].add(key.offset)
    for group in sorted(below, key=lambda one: one >> _LEVEL_SHIFT):
        members[group] = set().union(*(members.get(one, set()) for one in below[group]))
    return members
