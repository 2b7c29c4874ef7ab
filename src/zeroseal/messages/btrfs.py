"""Messages about btrfs volumes."""

# filesystems/btrfs/compression.py
EXTENT_TOO_LARGE = "an extent is larger than any that can be unpacked"
PACKING_NOT_KNOWN = "its compression {packing} is not known"
EXTENT_CANNOT_BE_UNPACKED = "its content cannot be unpacked"

# filesystems/btrfs/read.py
NOT_A_FILE = "inode {node} is not a regular file"
NOT_A_LINK = "inode {node} is not a symbolic link"
NOT_A_FOLDER = "inode {node} is not a folder"
INODE_MISSING = "inode {node} is referenced but does not exist"
NAME_DAMAGED = "an entry of names is damaged"
EXTENT_DAMAGED = "the extents of inode {node} are damaged"
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
SYSTEM_CHUNKS_DAMAGED = "the chunks in its superblock are damaged"
CHUNK_DAMAGED = "the chunk at {address} is damaged"
CHUNKS_OVERLAP = "the chunk at {address} overlaps the one before it"
ADDRESS_IN_NO_CHUNK = "the logical address {address} is in no chunk"
NODE_FAILS_CHECKSUM = "the node at {address} fails its checksum"
NODE_IS_ANOTHER = "the node at {address} is not the one that is referenced"
NODE_HAS_WRONG_LEVEL = "the node at {address} has the wrong level"
NODE_DAMAGED = "the node at {address} is damaged"
TREE_MISSING = "the tree {number} is missing"
