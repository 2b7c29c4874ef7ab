"""Messages about FAT volumes."""

# filesystems/fat/check.py
COPIES_OF_ALLOCATION_TABLE_DIFFER = "its copies of the allocation table differ"
CLUSTER_WITHOUT_OWNER = "cluster {number} is allocated but belongs to no file"
CLUSTER_DOES_NOT_EXIST = "it points to cluster {number}, which does not exist"
SHARES_CLUSTER = "it shares cluster {number} with {owners}"
CONTINUES_IN_FREE_CLUSTER = "it continues in cluster {number}, which is free"
FOLDER_NO_CLUSTER = "the folder has no cluster"
SIZE_DOES_NOT_MATCH_CLUSTERS = "its size is {size} bytes but it has {taken} clusters"

# filesystems/fat/edit.py
NO_LINKS_ON_FAT = "{where} is FAT, which cannot store links ({name!r})"
NO_OWNERS_ON_FAT = "{where} is FAT, which does not store owners"
ROOT_FOLDER_FULL = "the root folder of {where} (FAT) is full"
FAT_FULL = "{where} (FAT) is full"

# filesystems/fat/folders.py
NO_SHORT_NAME_LEFT = "no short name is left for {name!r}"

# filesystems/fat/inventory.py
FOLDER_CONTAINS_ITSELF = "a folder contains itself"

# filesystems/fat/read.py
ENTRY_AT_BYTE_NOT_SYMBOLIC_LINK = "the entry at byte {node} is not a symbolic link"
FOLDER_ENDS_BEFORE_LAST_ENTRY = "a folder ends before its last entry"
ENTRY_AT_BYTE_NOT_FILE = "the entry at byte {node} is not a file"
FILE_SHORTER_THAN_ITS_ENTRY = "the file at byte {node} is shorter than its entry says"
FOLDER_LONGER_THAN_FAT_ALLOWS = "a folder is longer than FAT allows"
BYTE_DOES_NOT_HOLD_DIRECTORY_ENTRY = "byte {node} does not hold a directory entry"
REFERENCED_ENTRY_IS_FREE = "the entry at byte {node} is referenced but free"
ENTRY_AT_BYTE_NOT_FOLDER = "the entry at byte {folder} is not a folder"

# filesystems/fat/volume.py
DAMAGED = "{where} is damaged: {what}; run fsck.fat on it in the guest or on a copy"
BOOT_SECTOR_DESCRIBES_IMPOSSIBLE_GEOMETRY = "its boot sector describes an impossible geometry"
LARGER_THAN_PARTITION_OR_EMPTY = "it is larger than its partition or empty"
FAT_VOLUME_WITH_TOO_MANY_CLUSTERS = "{where} is a FAT volume with too many clusters"
FAT32_VARIANT_NOT_SUPPORTED = "{where} is a FAT32 volume of a variant that is not supported"
ALLOCATION_TABLE_TOO_SHORT = "its allocation table is too short"
NOT_UNMOUNTED_CLEANLY = (
    "{where} (FAT) was not unmounted cleanly: start the machine and shut it down cleanly, or run "
    "fsck.fat on a copy"
)
CLUSTER_CHAIN_INVALID = "the cluster chain that starts at {first} is invalid"
CLUSTER_CHAIN_REACHES_FREE_CLUSTER = (
    "the cluster chain that starts at {first} reaches a free cluster"
)
