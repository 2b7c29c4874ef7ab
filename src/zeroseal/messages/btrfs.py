"""Messages about btrfs volumes."""

# filesystems/btrfs/check.py
SUBVOLUME_BEING_DELETED = "this subvolume is being deleted: mount the volume until that is done"
WRONG_LEVEL = "it is referenced at two levels"
KEYS_DO_NOT_FIT_PARENT = "its keys do not match the node above it"
EMPTY_NODE = "it is empty"
COPIES_DIFFER = "its copies differ"
ITEMS_DO_NOT_FIT = "its items do not lie end to end"
EXTENTS_OVERLAP = "it overlaps the extent before it"
REFERENCES_DIFFER = "it counts {count} references and lists {stated}, but {made} are made"
EXTENT_HAS_ANOTHER_LENGTH = "files refer to it with another length"
NOT_IN_EXTENT_TREE = "it is in use, but the extent tree does not list it"
USED_BYTES_DIFFER = "it counts {stated} used bytes, but there are {used}"
GROUP_AND_CHUNK_DIFFER = "block group and chunk do not match"
IN_NO_GROUP = "it is in no block group"
GROUP_COUNT_WRONG = "its count of used bytes is wrong"
FREE_SPACE_DIFFERS = "the free-space tree does not match the extents"
DEVICE_EXTENT_DIFFERS = "device extents and chunks do not match"
CHECKSUMS_OF_NO_DATA = "they are about space that is not in use by data"
DATA_WITHOUT_CHECKSUM = "it has no checksum"
DATA_DIFFERS_FROM_CHECKSUM = "it does not match its checksum"

# filesystems/btrfs/check_files.py
NAME_HASH_WRONG = "a name is filed under the wrong hash"
EXTENT_WITHOUT_INODE = "it has content, but no inode"
FILE_EXTENTS_OVERLAP = "its extents overlap"
EXTENT_NOT_ALIGNED = "an extent does not begin and end with a sector"
NAME_IN_ONE_LIST_ONLY = "{name!r} is listed by hash or by index only"
NAME_LEADS_TO_TWO = "{name!r} leads to two different inodes"
NAME_WITHOUT_REFERENCE = "{name!r} has no reference back"
NAME_LEADS_NOWHERE = "{name!r} refers to an inode that does not exist"
NAME_HAS_WRONG_TYPE = "{name!r} has the wrong file type"
REFERENCE_WITHOUT_NAME = "its reference as {name!r} has no name in the folder"
LINK_COUNT_WRONG = "it counts {stated} links, but there are {counted}"
FOLDER_SIZE_WRONG = "its size is not that of its names"
STORED_BYTES_WRONG = "its count of stored bytes is wrong"
INODE_WITHOUT_NAME = "it has no name"

# filesystems/btrfs/compression.py
EXTENT_TOO_LARGE = "an extent is larger than any that can be unpacked"
PACKING_NOT_KNOWN = "its compression {packing} is not known"
EXTENT_CANNOT_BE_UNPACKED = "its content cannot be unpacked"

# filesystems/btrfs/edit.py
FILE_WITH_HASHES = "a file protected by hashes (fs-verity) that would have to change"
SUBVOLUME_STAYS = (
    "{name} of {where} is a subvolume that is mounted elsewhere, or a snapshot: it is not removed "
    "with the folder that it is in"
)

# filesystems/btrfs/extents.py
REFERENCE_TO_NO_EXTENT = "a reference is about an extent at {address}, which does not exist"
EXTENT_ITEM_DAMAGED = "the extent item at {address} is damaged"

EXTENT_MISSING = "the extent at {address} is in use, but the extent tree does not list it"
REFERENCE_MISSING = "the extent at {address} lacks a reference that a tree makes"

# filesystems/btrfs/names_edit.py
TOO_MANY_NAMES = "{where} (btrfs) cannot give inode {node} one more name in that folder"

# filesystems/btrfs/space.py
VOLUME_FULL = "{where} (btrfs) is full: free some space in the guest first"
GROUP_MISSING = "the block group at {address} is missing"

# filesystems/btrfs/recover.py
NOT_GIVEN_BACK = (
    "{where} (btrfs) has deleted subvolumes or files whose space the kernel has not freed yet: use "
    "--recover-journal, or mount the volume once and wait for btrfs subvolume sync"
)

# filesystems/btrfs/slack.py
PACKED_EXTENT_CANNOT_SHRINK = (
    "a compressed extent of which a part is no longer in use and that cannot be compressed as well "
    "again; run btrfs filesystem defragment -r on the volume in the guest first"
)

# filesystems/btrfs/subvolumes_edit.py
TOPMOST_STAYS = (
    "the topmost subvolume of {where} holds a system that the machine does not start, and cannot "
    "be removed as a whole: delete its files in the guest"
)
SUBVOLUMES_WITHIN = (
    "the subvolume {number} of {where} has other subvolumes within it: delete those in the guest"
)

# filesystems/btrfs/items.py
EXTENT_DAMAGED = "the extents of inode {node} are damaged"
NAME_DAMAGED = "an entry of names is damaged"

# filesystems/btrfs/read.py
NOT_A_FILE = "inode {node} is not a regular file"
NOT_A_LINK = "inode {node} is not a symbolic link"
NOT_A_FOLDER = "inode {node} is not a folder"
INODE_MISSING = "inode {node} is referenced but does not exist"
ENCRYPTION = "encrypted files"
FILE_TOO_LARGE = "inode {node} is larger than any file can be"
FILE_CANNOT_BE_READ = "inode {node} cannot be read: {problem}"
DATA_FAILS_CHECKSUM = "its content fails its checksum"
CHECKSUM_MISSING = "a checksum of its content is missing"

# filesystems/btrfs/volume.py
VOLUME_INCONSISTENT = "{where} (btrfs) is inconsistent: {problem}"
FEATURE_NOT_READ = "{where} (btrfs) uses {feature}, which is not supported"
TOO_SMALL = "it is too small for a superblock"
NO_SUPERBLOCK = "it has no superblock"
SUPERBLOCK_FAILS_CHECKSUM = "its superblock fails its checksum"
CHECKSUM_KIND = "checksums of kind {number}"
SEVERAL_DEVICES = "{count} devices"
SEED_DEVICE = "a seed device"
IMPOSSIBLE_SIZES = "its superblock has impossible sizes of nodes or sectors"
LOG_NOT_REPLAYED = (
    "{where} (btrfs) has a log that is not empty: start the machine once and shut it down, or "
    "mount the volume once and unmount it"
)
READ_ONLY_FEATURES = "features {bits:#x}, with which it can be read but not changed"
BALANCE_INTERRUPTED = (
    "a balance that was interrupted (mount the volume once and let the balance finish)"
)
SYSTEM_CHUNKS_DAMAGED = "the chunks in its superblock are damaged"
CHUNK_DAMAGED = "the chunk at {address} is damaged"
CHUNKS_OVERLAP = "the chunk at {address} overlaps the one before it"
ADDRESS_IN_NO_CHUNK = "the logical address {address} is in no chunk"
NODE_FAILS_CHECKSUM = "the node at {address} fails its checksum"
NODE_IS_ANOTHER = "the node at {address} is not the one that is referenced"
NODE_HAS_WRONG_LEVEL = "the node at {address} has the wrong level"
NODE_DAMAGED = "the node at {address} is damaged"
TREE_MISSING = "the tree {number} is missing"

# filesystems/btrfs/grow.py
DEVICE_ITEM_MISSING = "the item of its device is missing"
