"""Messages about ext2, ext3 and ext4 volumes."""

# filesystems/ext/allocate.py
NO_FREE_INODES = "{where} is full: no inode is free"
NO_FREE_BLOCKS = "{where} is full: {missing} more blocks are needed"
INODE_IN_USE_BUT_MARKED_FREE = "inode {inode_no} is in use but marked as free"
BLOCK_BITMAP_OF_GROUP_WRONG = "the block bitmap of group {group} is wrong"
BITMAP_OF_GROUP_FAILS_CHECKSUM = "the {which} bitmap of group {group} fails its checksum"

# filesystems/ext/attributes_edit.py
VALUE_INODE_EXPECTED = "inode {value_no} should hold an attribute's value"

# filesystems/ext/check.py
BOTH_INTERNAL_AND_EXTERNAL_JOURNAL = "it has both an internal and an external journal"
BITMAP_DOES_NOT_MATCH = "its {which} bitmap does not match what is in use"
COUNT_OF_FREE_BLOCKS_WRONG = "its count of free blocks is wrong"
COUNT_OF_FREE_INODES_WRONG = "its count of free inodes is wrong"
NO_BLOCKS = "it has no blocks"
DAMAGED_OR_NOT_EMPTY = "it is damaged or not empty"
RESERVED_INODE_IN_USE = "it is reserved but holds a file or folder"
VALUE_COUNT_WRONG = "a value is used {users} times but counted {stored} times"
GROUP_COUNTS_WRONG = "its counts of free inodes or folders are wrong"
CHECKSUM_OF_BITMAP_WRONG = "the checksum of its {which} bitmap is wrong"
QUOTA_USAGE_DIFFERS = "the recorded usage of each {kind} differs from the actual usage"

# filesystems/ext/check_folders.py
FOLDER_STORED_IN_INODE = "{head} bytes of it are stored in the inode"
NO_BLOCKS_OR_HOLES = "it has no blocks or has holes"
BLOCK_CHECKSUM_WRONG_OR_MISSING = "a block's checksum is wrong or missing"
FIRST_ENTRIES_WRONG = "its first entries are not itself and its parent folder"
INDEX_INCOMPLETE = "its index does not contain every block exactly once"
INDEX_OUT_OF_ORDER = "its index is out of order"
INDEX_TOO_MANY_LEVELS = "its index has too many levels"
SIZE_DOES_NOT_MATCH_BLOCKS = "its size is {size} bytes but it has {blocks} blocks"
NAME_REFERS_TO_FREE_INODE = "a name refers to the free inode {inode}"
NAME_INVALID_OR_OCCURS_TWICE = "a name is invalid or occurs twice"
ENTRY_FOR_INODE_WRONG_TYPE = "the entry for inode {inode} has the wrong type"
NAME_IN_WRONG_BLOCK_OF_INDEX = "a name is in the wrong block of the index"
CHECKSUM_OF_INDEX_WRONG = "a checksum of its index is wrong"
INDEX_LEAVES_FOLDER_OR_LOOPS = "its index points outside the folder or contains a loop"
IN_USE_WITHOUT_NAME = "it is in use but has no name"
FOLDER_HAS_SEVERAL_NAMES = "the folder has {names} names"
LINK_COUNT_WRONG = "its link count is {link_count} but should be {expected}"
FOLDER_CANNOT_BE_REACHED_FROM_ROOT = "the folder cannot be reached from the root folder"

# filesystems/ext/check_inodes.py
COUNT_OF_SECTORS_WRONG = "its count of sectors is wrong"
BLOCKS_DO_NOT_MATCH_SECTORS = "it has {blocks} blocks but counts {taken} sectors"
LISTS_OF_RESERVED_BLOCKS_WRONG = "its lists of reserved blocks are wrong"
CHECKSUM_WRONG = "its checksum is wrong"
EXTENTS_EMPTY_OR_OUT_OF_ORDER = "its extents are empty or out of order"

# filesystems/ext/edit.py
PROTECTED_BY_FS_VERITY = (
    "inode {node} of {where} is protected by fs-verity: it can be read and removed, but its "
    "content cannot be changed"
)
FOLDER_CONTAINS_ITSELF = "folder {node} contains itself"

# filesystems/ext/folders.py
NO_DIRECTORY_ENTRY_BEGINS = "no directory entry begins at {offset}"
DIRECTORY_ENTRY_LEAVES_BLOCK = "a directory entry at {position} crosses the end of its block"

# filesystems/ext/geometry.py
IMPOSSIBLE_BLOCK_SIZE = "the block size is 2^{log_block_size}"
SUPERBLOCK_DESCRIBES_IMPOSSIBLE_GEOMETRY = "its superblock describes an impossible geometry"
IMPOSSIBLE_GROUP_COUNT = "its superblock gives {group_count} groups"
INODES_DO_NOT_MATCH_GROUPS = "its number of inodes does not match its number of groups"
IMPOSSIBLE_CLUSTER_SIZE = "the cluster size is 2^{log_cluster_size}"

# filesystems/ext/hashing.py
NAME_NOT_CASEFOLDABLE = (
    "the name {name!r} in a folder that ignores case has characters that are not supported"
)
UNKNOWN_FOLDER_HASH_VERSION = "unknown folder hash version {version}"

# filesystems/ext/index.py
INDEX_OF_FOLDER_WRONG_ROOT = "the index of a folder has a wrong root"
INDEX_OF_FOLDER_WRONG_COUNT = "the index of a folder has a wrong number of entries"
INDEX_OF_FOLDER_POINTS_OUTSIDE_FOLDER = "the index of folder {folder} points outside the folder"
FOLDER_TOO_LARGE_TO_CHANGE = "a folder of {names} names is too large to be changed here"
INDEX_OF_FOLDER_TOO_MANY_LEVELS = "the index of folder {folder} has too many levels"

# filesystems/ext/journal_read.py
BLOCK_OF_JOURNAL_MISSING = "block {log_block} of its journal is missing"
JOURNAL_NOT_REGULAR_FILE = "its journal is not a regular file"
JOURNAL_NO_VALID_SUPERBLOCK = "its journal has no valid superblock"
JOURNAL_FEATURES_NOT_SUPPORTED = "the journal of {where} has features that are not supported"
JOURNAL_SUPERBLOCK_FAILS_CHECKSUM = "its journal's superblock fails its checksum"
JOURNAL_SUPERBLOCK_INCONSISTENT = "its journal's superblock is inconsistent"
KERNEL_ABORTED_JOURNAL = "the kernel aborted its journal (error {error})"
REVOKED_BLOCKS_INVALID = "a list of revoked blocks in its journal is invalid"
FAST_COMMITS_NOT_SUPPORTED = (
    "the journal of {where} ends in fast commits, which are not supported: start the machine, "
    "shut it down cleanly and try again"
)
TRANSACTION_OF_JOURNAL_FAILS_CHECKSUM = "transaction {sequence} of its journal fails its checksum"
TRANSACTION_BEFORE_OTHERS_FAILS_CHECKSUM = (
    "transaction {sequence} of its journal fails its checksum, but later transactions follow"
)

# filesystems/ext/mapping.py
NODE_OF_EXTENT_TREE_INVALID = "a node of its extent tree is invalid"
MAPPING_CONTAINS_LOOP = "block {block_no} of its mapping points back to itself"
BLOCK_LIES_OUTSIDE_FILE_SYSTEM = "its block {physical} lies outside the file system"
NODE_OF_EXTENT_TREE_FAILS_CHECKSUM = "a node of its extent tree fails its checksum"

# filesystems/ext/names_edit.py
FOLDER_NO_ENTRY = "the folder {folder} has no entry {name!r}"
INLINE_FOLDER_TOO_LARGE = "folder {node} held more than fits into an inode"

# filesystems/ext/quota.py
QUOTA_FILE_TOO_LARGE = "its quota file of each {kind} is too large"
QUOTA_HEADER_MISSING = "it does not start with a quota file header"
QUOTA_FILE_DAMAGED = "its quota file of each {kind}: {error}"
QUOTA_BLOCK_OUT_OF_RANGE = (
    "its tree refers to block {block_no}, which is outside the file or occurs twice"
)

# filesystems/ext/read.py
INODE_NOT_REGULAR_FILE = "inode {node} is not a regular file"
INODE_NOT_SYMBOLIC_LINK = "inode {node} is not a symbolic link"
NAMED_INODE_IS_FREE = "inode {node} has a name but is free"
INODE_NOT_FOLDER = "inode {folder} is not a folder"
FILE_LARGER_THAN_ITS_BLOCKS = "inode {node} is larger than its blocks"
FOLDER_DAMAGED = "folder {folder}: {message}"
FOLDER_FAILS_CHECKSUM = "folder {folder} fails its checksum"

# filesystems/ext/recover.py
MARKED_WITH_ERRORS = "the kernel has marked it as having errors"
UNCLEAN_WITHOUT_JOURNAL = (
    "{where} was not shut down cleanly and has no journal to recover from: start the machine, "
    "shut it down cleanly and try again"
)
LIST_OF_ORPHAN_INODES_CONTAINS_LOOP = "its list of orphan inodes contains a loop"
ORPHAN_FILE_FAILS_CHECKSUM = "its orphan file fails its checksum"
JOURNAL_LEAVES_VOLUME = "its journal writes to block {block_no}, which is outside the volume"

# filesystems/ext/slack.py
INODE_EXTENDS_OUTSIDE_FILE_SYSTEM = "inode {node} extends outside the file system"
EXTENDED_ATTRIBUTES_OF_INODE_OVERLAP = "extended attributes of inode {node} overlap"
INDEX_OF_FOLDER_CONTAINS_LOOP = "the index of folder {node} contains a loop"
XATTR_TRUNCATED = "an extended attribute of inode {node} is truncated"

# filesystems/ext/unused.py
JOURNAL_NO_FIRST_BLOCK = "its journal has no first block"
JOURNAL_NOT_EMPTY_OR_NOT_JOURNAL = "its journal is not empty or is not a journal"

# filesystems/ext/volume.py
DAMAGED = "{where} is damaged: {what}; run e2fsck on it in the guest or on a copy"
NO_EXT_FILE_SYSTEM = "{where} has no ext file system"
LARGER_THAN_PARTITION = "it is larger than its partition"
USES_UNKNOWN_KIND_OF_CHECKSUM = "{where} uses an unknown kind of checksum"
SUPERBLOCK_FAILS_CHECKSUM = "its superblock fails its checksum"
READ_ONLY_FEATURES = "{where} has {feature_names}, which can be read but not changed here"
BLOCK_REFERENCED_DOES_NOT_EXIST = "block {block_no} is referenced but does not exist"
INODE_REFERENCED_DOES_NOT_EXIST = "inode {inode_no} is referenced but does not exist"
INODE_FAILS_CHECKSUM = "inode {inode_no} fails its checksum"
EXTERNAL_JOURNAL_NOT_SUPPORTED = (
    "the journal of {where} is on another device, which is not supported"
)
FEATURES_NOT_SUPPORTED = "{where} is an ext file system with {names}, which is not supported"
NEEDS_RECOVERY = (
    "{where} was not shut down cleanly and needs recovery: start the machine, shut it down "
    "cleanly and try again; or let this command recover the journal with --recover-journal"
)
MMP_BLOCK_INVALID = "its multiple-mount protection block is invalid"
MMP_BLOCK_FAILS_CHECKSUM = "its multiple-mount protection block fails its checksum"
MARKED_AS_MOUNTED = (
    "{where} is marked as mounted by a machine (multiple-mount protection): shut that machine "
    "down cleanly and try again"
)
DESCRIPTOR_OF_GROUP_FAILS_CHECKSUM = "the descriptor of group {group} fails its checksum"

# filesystems/ext/xattrs.py
NOT_AN_XATTR_BLOCK = "block {block_no} does not hold extended attributes"
XATTR_BLOCK_FAILS_CHECKSUM = "block {block_no} of extended attributes fails its checksum"
NOT_A_VALUE_INODE = "inode {value_inode} does not hold the value of an attribute"
XATTR_OUTSIDE_AREA = "an extended attribute of inode {inode_no} extends outside its area"

# filesystems/ext/volume_id.py
ID_CANNOT_CHANGE = (
    "{where} has the feature {feature}, whose data depends on the UUID: leave the volume "
    "identities as they are"
)

# filesystems/ext/grow.py
NOT_GROWN_WITH = "{where} has the feature {feature}, with which it is not grown here: let the guest"
NO_ROOM_FOR_DESCRIPTORS = (
    "{where} has no room for the descriptors of so many groups: let the guest grow it, or choose a "
    "smaller disk"
)
