"""Messages about XFS volumes."""

# filesystems/xfs/allocate.py
NO_FREE_BLOCKS = (
    "{where} is full: {count} more blocks are needed; free some space in the guest first"
)
NO_FREE_INODES = "{where} is full: no inode is free; free some space in the guest first"

# filesystems/xfs/attributes.py
ATTRIBUTE_BLOCK_MISSING = "a block of the attributes of inode {number} is missing"
ATTRIBUTES_DO_NOT_FIT_INODE = "the attributes of inode {number} do not fit into it"
ATTRIBUTE_VALUE_FAILS_CHECKSUM = "a value of an attribute of inode {number} fails its checksum"
ATTRIBUTES_TRUNCATED = "the attributes of inode {number} are truncated"
NOT_AN_ATTRIBUTE_BLOCK = "a block of the attributes of inode {number} is not an attribute block"
ATTRIBUTES_CONTAIN_LOOP = "the attributes of inode {number} contain a loop"
ATTRIBUTE_LEAF_INCONSISTENT = "a leaf of the attributes of inode {number} is inconsistent"
ATTRIBUTE_DOES_NOT_FIT_LEAF = "an attribute of inode {number} does not fit into its leaf"

# filesystems/xfs/check.py
LOG_OF_ANOTHER_VOLUME = "its newest log record has the UUID of another volume"
SUPERBLOCK_COUNT_WRONG = "it counts {stated} {name}, but there are {counted}"

# filesystems/xfs/check_claims.py
BLOCK_LIES_OUTSIDE_VOLUME = "block {first} lies outside the volume"

# filesystems/xfs/check_folders.py
LEAVES_DO_NOT_LIST_NAMES_CORRECTLY = "its leaves do not list its names correctly"
LEAVES_OUT_OF_ORDER = "its leaves are out of order"
FIRST_ENTRIES_WRONG = "its first entries are not itself and its parent folder"
LEAVES_OF_FOLDER_CONTAIN_LOOP = "the leaves of folder {number} contain a loop"
NAME_OCCURS_TWICE = "a name occurs twice"
PARENT_ENTRY_DOES_NOT_MATCH_FOLDER = "its parent entry does not match the folder that contains it"
REFERS_TO_FREE_INODE = "{name!r} refers to a free inode"
ENTRY_DOES_NOT_RECORD_OWN_POSITION = "an entry does not record its own position"
WRONG_FILE_TYPE = "{name!r} has the wrong file type"
NAME_IN_TWO_FOLDERS = "{name!r} is in two folders"

# filesystems/xfs/check_groups.py
TREE_OF_GROUP_TOO_MANY_LEVELS = "the {name} tree of group {number} has too many levels"
LEAF_OF_TREE_TOO_MANY_RECORDS = "a leaf of the {name} tree has too many records"
NODE_OF_TREE_TOO_MANY_RECORDS = "a node of the {name} tree has too many records"
TWO_TREES_OF_FREE_SPACE_DIFFER = "its two trees of free space differ"
UNLINKED_INODES = "it has inodes that were deleted while they were open"
REFERENCE_COUNTS_WRONG_FIRST_AT_BLOCK = "its reference counts are wrong, first at block {wrong}"
COUNTS_OF_INODE_CHUNK_WRONG = "the counts of inode chunk {row} are wrong"
SUPERBLOCK_COPY_OF_ANOTHER_VOLUME = "its copy of the superblock belongs to another volume"
TREE_OUT_OF_ORDER = "its {name} tree is out of order"
KEY_OF_TREE_WRONG = "a key of its {name} tree is wrong"
HEADER_COUNT_WRONG = "its header counts {stated} {what}, but there are {counted}"
TREE_OF_FREE_INODES_DIFFERS = "its tree of free inodes differs from its inode tree"
REVERSE_MAPPING_WRONG_FIRST_AT_BLOCK = "its reverse mapping is wrong, first at block {odd}"
HIGH_KEY_OF_TREE_WRONG = "a high key of its {name} tree is wrong"
BLOCK_OF_TREE_IN_WRONG_PLACE = "block {block} of the {name} tree is in the wrong place"

# filesystems/xfs/check_inodes.py
FREE_MARKED_AS_IN_USE = "it is free but marked as in use"
ON_LIST_OF_INODES_WITHOUT_NAMES = "it is on a list of inodes without names"
PARTS_DO_NOT_FIT_INTO_INODE = "its parts do not fit into the inode"
ATTRIBUTE_OCCURS_TWICE = "an attribute occurs twice"
MODE_AND_FORK_FORMAT_DIFFER = "its mode {mode:o} and its fork format {form} do not match"
BLOCK_COUNT_WRONG = "it counts {blocks} blocks but owns {owned}"
FOLDER_SIZE_WRONG = "the size of the folder does not match its blocks"
ATTRIBUTES_OUT_OF_ORDER = "its attributes are out of order"

# filesystems/xfs/edit.py
SHARED_BLOCKS_CANNOT_BE_ZEROED = (
    "a file of {where} shares blocks with other files and cannot be zeroed in place: copy it in "
    "the guest, or remove it"
)
NEGATIVE_LINK_COUNT = "inode {node} would have {links} names"
FOLDER_NO_PARENT = "folder {folder} has no parent"

# filesystems/xfs/folders.py
FOLDER_TOO_MANY_LEVELS = "folder {number} has too many levels"
FOLDER_DOES_NOT_FIT_INTO_INODE = "folder {number} does not fit into its inode"
BLOCK_OF_FOLDER_NOT_FOLDER_BLOCK = "a block of folder {number} is not a folder block"
BLOCK_OF_FOLDER_FAILS_CHECKSUM = "a block of folder {number} fails its checksum"
LEAF_OF_FOLDER_LARGER_THAN_BLOCK = "the leaf of folder {number} is larger than its block"
LEAF_OF_INODE_FAILS_CHECKSUM = "a leaf of inode {number} fails its checksum"
NODE_OF_INODE_HOLDS_ENTRIES = "a node of inode {number} holds {count} entries"
LEAF_OF_FOLDER_NOT_LEAF_BLOCK = "a leaf of folder {number} is not a leaf block"
LEAF_OF_FOLDER_TOO_MANY_ENTRIES = "a leaf of folder {number} has too many entries"
FOLDER_TRUNCATED = "folder {number} is truncated"
FOLDER_IMPOSSIBLY_LARGE = "folder {number} is impossibly large"
BLOCK_OF_FOLDER_INCONSISTENT = "a block of folder {number} is inconsistent"
BLOCK_OF_FOLDER_MISSING = "a block of folder {number} is missing"

# filesystems/xfs/forks.py
FORKS_OF_INODE_OVERLAP = "the forks of inode {number} overlap"
EXTENT_COUNT_WRONG = "inode {number} counts {count} extents but has a different number"
MAPPING_OF_INODE_INVALID_ROOT = "the mapping of inode {number} has an invalid root"
NOT_A_MAPPING_BLOCK = "block {fsblock} of the mapping of inode {number} is not a mapping block"
TOO_MANY_EXTENTS_FOR_INODE = "inode {number} has more extents than fit into it"
EXTENTS_OF_INODE_CONTRADICT_EACH_OTHER = "the extents of inode {number} contradict each other"
IMPOSSIBLE_EXTENT_COUNT = "inode {number} has {count} extents"
MAPPING_OF_INODE_CONTAINS_LOOP = "the mapping of inode {number} contains a loop"
MAPPING_BLOCK_TOO_FULL = "a block of the mapping of inode {number} has too many records"

# filesystems/xfs/group.py
NO_ROOM_FOR_TREES = (
    "{where} is so full that the trees of group {number} cannot grow: free some space in the "
    "guest first"
)
UNLINKED_FILES_LEFT = (
    "{where} has files that were deleted while they were open: mount the volume once, unmount it "
    "and try again"
)
INODE_OF_GROUP_NOT_FREE_INODE = "inode {agino} of group {number} is not a free inode"

# filesystems/xfs/read.py
INODE_NOT_REGULAR_FILE = "inode {node} is not a regular file"
INODE_IMPOSSIBLY_LARGE = "inode {node} is impossibly large"
INODE_NOT_SYMBOLIC_LINK = "inode {node} is not a symbolic link"
INODE_NOT_FOLDER = "inode {number} is not a folder"
LEAF_OF_FOLDER_POINTS_OUTSIDE_FOLDER = "a leaf of folder {folder} points outside the folder"
SYMBOLIC_LINK_AT_INODE_FAILS_CHECKSUM = "the symbolic link at inode {node} fails its checksum"

# filesystems/xfs/slots.py
INODE_CHUNK_LEAVES_GROUP = "a chunk of inodes of group {group} extends outside the group"

# filesystems/xfs/trees.py
IMPOSSIBLE_TREE_DEPTH = "the {name} tree of group {group} has {levels} levels"
NOT_A_TREE_BLOCK = "block {agblock} of the {name} tree of group {group} is not a tree block"
IMPOSSIBLE_POINTER_COUNT = "a node of the {name} tree has {count} pointers"
TREE_OF_GROUP_CONTAINS_LOOP = "the {name} tree of group {group} contains a loop"

# filesystems/xfs/unused.py
FREE_SPACE_LEAVES_GROUP = "the free space of group {group} extends outside the group"

# filesystems/xfs/volume.py
DAMAGED = "{where} is damaged: {what}; run xfs_repair on it in the guest or on a copy"
NO_XFS_FILE_SYSTEM = "{where} has no XFS file system"
SUPERBLOCK_FAILS_CHECKSUM = "its superblock fails its checksum"
NOT_UNMOUNTED_CLEANLY = (
    "{where} (XFS) was not unmounted cleanly and its log holds changes: start the machine and "
    "shut it down cleanly, or mount the volume once and unmount it"
)
INODE_REFERENCED_DOES_NOT_EXIST = "inode {number} is referenced but does not exist"
BLOCK_REFERENCED_DOES_NOT_EXIST = "block {fsblock} is referenced but does not exist"
HEADER_OF_GROUP_FAILS_CHECKSUM = "a header of group {group} fails its checksum"
FREE_SPACE_HEADER_OF_GROUP_MISSING = (
    "the free space header of group {group} is missing or overwritten"
)
INODE_HEADER_OF_GROUP_MISSING = "the inode header of group {group} is missing or overwritten"
RESERVED_LIST_TOO_LONG = "the list of reserved blocks of group {group} is too long"
RESERVED_LIST_LEAVES_GROUP = (
    "the list of reserved blocks of group {group} extends outside the group"
)
INODE_MISSING = "inode {number} is missing, or has a version that is not supported"
INODE_FAILS_CHECKSUM = "inode {number} fails its checksum"
INODE_RECORDS_ANOTHER_INODE_NUMBER = "inode {number} records another inode number"
IMPOSSIBLE_INODE_SIZE = "an inode has {raw} bytes"
SUPERBLOCK_DESCRIBES_IMPOSSIBLE_GEOMETRY = "its superblock describes an impossible geometry"
LARGER_THAN_PARTITION = "it is larger than its partition"
NEVER_COMPLETED = "the making of it was never completed"
VERSION_NOT_SUPPORTED = "{where} is XFS version {version}, which is not supported"
FEATURES_NOT_SUPPORTED = "{where} is an XFS file system with {refused}, which is not supported"

# filesystems/xfs/volume_id.py
COPY_OF_SUPERBLOCK_DAMAGED = "the copy of the superblock in group {group} is damaged"
