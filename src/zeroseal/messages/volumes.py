"""Messages about partition tables and LVM."""

# volumes/disk.py
GPT_NOT_FOUND = (
    "the disk is marked as having a GUID partition table, but neither copy of it was found "
    "(looked for {gpt_signature} with sectors of {sector_sizes} bytes)"
)

# volumes/gpt.py
NO_PARTITION_TABLE = "the disk has no partition table that can be changed"
GPT_HEADER_LENGTH_WRONG = "the header of the partition table at sector {lba} has a wrong length"
GPT_ENTRY_SIZE_WRONG = "the partition table has entries of {entry_bytes} bytes"
GPT_ENTRY_COUNT_WRONG = "the partition table has {entry_count} entries"
PARTITION_EXTENDS_OUTSIDE_DISK = "partition {number} extends outside the disk"
FAILS_CHECKSUM = "{what} fails its checksum"

# volumes/grow.py
DISK_SIZE_NOT_A_MULTIPLE = "a disk's size must be a multiple of 512 bytes"
DISK_CANNOT_BE_SMALLER = "the disk has {size_text} already: a disk cannot be made smaller"

# volumes/lvm/grow.py
NO_LVM_METADATA = "{name} has no LVM metadata: let the guest grow the volume"
NO_VALID_LVM_LABEL = "{name} has no valid LVM label"
NO_ROOM_FOR_NEW_LVM_METADATA = "{name} has no room for new LVM metadata"
LVM_METADATA_NOT_WRITABLE = "{name} has LVM metadata in a form that cannot be written"

# volumes/lvm/read.py
LVM_METADATA_AREA_OUTSIDE_BOUNDS = "{name} has an LVM metadata area outside its bounds"
DAMAGED_LVM_METADATA_AREA = "{name} has a damaged LVM metadata area"
LVM_METADATA_THAT_FAILS_CHECKSUM = "{name} has LVM metadata that fails its checksum"
LVM_METADATA_EXTENDS_OUTSIDE_AREA = "LVM metadata extends outside its area"
IMPOSSIBLE_EXTENT_SIZE = "volume group {group_name} has extents of {extent_bytes} bytes"
IMPOSSIBLE_SEGMENT_COUNT = "a logical volume has {count} segments"
SEGMENT_OF_LOGICAL_VOLUME_MISSING = "a segment of a logical volume is missing"
LOGICAL_VOLUME_TYPE_NOT_SUPPORTED = (
    "logical volume {name} is a {kind} volume or depends on one, which is not supported: copy its "
    "contents to a linear volume first"
)
LOGICAL_VOLUME_INVALID_LIST_OF_STRIPES = "logical volume {name} has an invalid list of stripes"
LOGICAL_VOLUME_TOO_LONG = "logical volume {name} extends beyond its physical volume"
LVM_NUMBER_MISSING = "LVM metadata has no number for {key}"
LVM_METADATA_WITHOUT_SEQUENCE_NUMBER = "{name} has LVM metadata without a sequence number"
PHYSICAL_VOLUME_MISSING = (
    "volume group {group_name} needs physical volume {uuid_text}, which is not on this disk: "
    "machines with several disks are not supported"
)
LOGICAL_VOLUME_GAPS_BETWEEN_SEGMENTS = "logical volume {name} has gaps between its segments"
IMPOSSIBLE_STRIPE_SIZE = "logical volume {name} has stripes of {stripe_bytes} bytes"
LOGICAL_VOLUME_TOO_MANY_STRIPES = "logical volume {name} has too many stripes"
UNKNOWN_PHYSICAL_VOLUME = "logical volume {name} refers to a physical volume that does not exist"

# volumes/lvm/text.py
LVM_METADATA_UNREADABLE = "{where} has LVM metadata that cannot be parsed"
TRUNCATED_LVM_METADATA = "{where} has truncated LVM metadata"
LVM_METADATA_UNREADABLE_AT = "{where} has LVM metadata that cannot be parsed at byte {position}"

# volumes/mbr.py
LOGICAL_PARTITION_NOT_GROWN = (
    "partition {number} is in an extended partition, which cannot be grown here: let the guest "
    "grow it"
)
PARTITION_CHAIN_LEAVES_DISK = "the chain of extended partitions points outside the disk"
PARTITION_CHAIN_CONTAINS_LOOP = "the chain of extended partitions contains a loop"

# volumes/recognise.py
PART_OF_RAID = "it is part of a RAID array (md): copy its contents to a plain volume first"
BITLOCKER_ENCRYPTED = "it is encrypted (BitLocker): decrypt it in the guest first"
BOUND_TO_TPM = (
    "{refusal}; a key of it is held by the TPM of this machine, so that no clone can open it: "
    "enrol another key first"
)
LUKS_ENCRYPTED = "it is encrypted (LUKS): decrypt a copy first"
HIBERNATED_IN_SWAP = "the guest is hibernated in it: start the machine and shut it down cleanly"

# volumes/lvm/extend.py
LOGICAL_VOLUME_NOT_EXTENDED = (
    "logical volume {name} is not one plain run of extents after the other, and is not extended "
    "here: let the guest"
)

# volumes/grow.py: --move-swap
NO_SWAP_AT_END = (
    "the last partition of the disk is not swap behind another partition, so that no swap is in "
    "the way: leave out --move-swap"
)
