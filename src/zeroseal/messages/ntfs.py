"""Messages about NTFS volumes."""

# filesystems/ntfs/allocate.py
BITMAP_TOO_SMALL = "its bitmap is too small"
NO_FREE_CLUSTERS = (
    "{where} (ntfs) is full: {count} more clusters are needed; free some space in the guest, or "
    "enlarge its disk"
)

# filesystems/ntfs/check.py
UPPER_CASE_TABLE_WRONG_LENGTH = "it does not have 65536 characters"
MARKED_DIRTY = "it is marked dirty"
LOG_NOT_CLOSED = "its log was not closed"
DOES_NOT_COVER_VOLUME = "it does not cover the volume"
BOOT_SECTOR_COPY_DIFFERS = "the copy of the boot sector at the end of the volume differs"
BOOT_SECTOR_GIVES_ANOTHER_LOCATION = "the boot sector gives another location"
HOLDS_FEWER_THAN_FOUR_RECORDS = "it holds fewer than four records"
TOO_SMALL_FOR_VOLUME = "it is too small for the volume"
COPY_OF_RECORD_DIFFERS = "the copy of record {number} differs"
IN_USE_BUT_MARKED_FREE = "it is in use but marked as free"
FREE_BUT_MARKED_IN_USE = "it is free but marked as in use"

# filesystems/ntfs/check_indexes.py
INDEX_BLOCK_SIZE_WRONG = "its block size is {block_bytes} bytes"
TOO_MANY_LEVELS = "has too many levels"
CHILDREN_OF_SOME_ENTRIES_ONLY = "only some entries of a node have children"
NODE_DOES_NOT_RECORD_FREE_SPACE = "a node does not record its free space"
CONTAINS_LOOP = "contains a loop"
FILE_NOT_LISTED = "a file that belongs in it is not listed"
LISTS_ENTRY_THAT_NO_FILE = "it lists an entry that no file has"
LISTS_ENTRY_UNDER_WRONG_FILE = "it lists an entry under the wrong file"
OWNER_NO_ENTRY = "an owner has no entry"
ENTRIES_OUT_OF_ORDER_OR_DUPLICATED = "its entries are out of order or duplicated"
NODE_DOES_NOT_RECORD_WHETHER_CHILDREN = "a node does not record whether it has children"

# filesystems/ntfs/check_names.py
TWO_SHORT_NAMES = "it has two short names"
NAME_REFERS_TO_NO_FILE = "{name!r} refers to record {number}, which is not a file"
NAME_REFERS_TO_EARLIER_FILE = "{name!r} refers to an earlier file at record {number}"
RECORDS_ANOTHER_PARENT_FOLDER = "{name!r} records another parent folder"
WRONG_FILE_TYPE = "{name!r} has the wrong file type"
SHORT_NAME_WITHOUT_LONG = "it has a short name but no long name"
CANNOT_BE_REACHED_BY_ANY_PATH = "it cannot be reached by any path"

# filesystems/ntfs/check_security.py
NO_STREAM_OF_DESCRIPTORS = "it has no stream of descriptors"
LISTED_DESCRIPTOR_MISSING = "it lists descriptor {number}, which does not exist"
HASH_WRONG = "the hash of {shown} is wrong"
RECORDS_ANOTHER_LOCATION = "{shown} records another location"
COPY_DIFFERS = "the copy of {shown} differs"
OCCURS_TWICE = "{shown} occurs twice"
ENTRY_OF_ANOTHER_DESCRIPTOR = "the entry of descriptor {key} belongs to another descriptor"
DESCRIPTOR_ENTRY_WRONG = "the descriptor {number} {what}"

# filesystems/ntfs/check_table.py
WRONG_ALLOCATED_SIZE = "it records a size of {allocated_bytes} bytes"
WRONG_RECORD_NUMBER = "it records that it is record {number}"
SEQUENCE_NUMBER_ZERO = "its sequence number is 0"
ATTRIBUTES_NO_END_MARKER = "its attributes have no end marker"
SAME_INSTANCE_NUMBER = "two attributes have the same instance number"
INSTANCE_NUMBER_NOT_ASSIGNED = "an attribute has an instance number that was not yet assigned"
ATTRIBUTES_OUT_OF_ORDER = "its attributes are out of order"
NAME_NOT_RESIDENT = "one of its names is not stored in the record"
IN_USE_WITHOUT_NAME = "it is in use but has no name"
NO_STANDARD_INFORMATION = "it has no standard information"
TWO_FOLDER_FLAGS_CONTRADICT_EACH_OTHER = "its two folder flags contradict each other"
ATTRIBUTE_OCCURS_TWICE = "an attribute occurs twice"
EXTENSION_NOT_LISTED = "it extends a record that does not list it"
MAPPED_SIZE_WRONG = "{shown} records {allocated} bytes but maps {mapped}"
HOLES_NOT_ALLOWED = "{shown} has holes, which are not allowed here"
DOES_NOT_RECORD_STORED_SIZE = "{shown} does not record its stored size"
INVALID = "it is invalid"

# filesystems/ntfs/edit.py
OWNERS_ARE_SECURITY_IDENTIFIERS = "owners on {where} (ntfs) are security identifiers, not numbers"
TOO_MANY_NAMES = "a file of {where} has {most_links} names already"
NO_SUCH_STREAM = "record {node} of {where} has no stream {name!r}"
CANNOT_BE_TRUNCATED = "cannot be truncated"
ENCRYPTED_EFS = "is encrypted (EFS)"

# filesystems/ntfs/extend_edit.py
NO_STORE_OF_SECURITY_DESCRIPTORS = "it has no store of security descriptors"

# filesystems/ntfs/index.py
NODE_WITHOUT_END_ENTRY = "has a node without an end entry"
NO_ROOT = "has no root"
IMPOSSIBLE_INDEX_BLOCK_SIZE = "has a block size of {size} bytes"
BLOCK_THAT_RECORDS_ANOTHER_LOCATION = "has a block that records another location"
REFERENCED_BLOCK_MISSING = "refers to block {vcn}, which does not exist"
INVALID_NODE = "has an invalid node"
TRUNCATED_NAME = "has a truncated name"
INVALID_ENTRY = "has an invalid entry"
ENTRY_KEY_TRUNCATED = "has an entry whose key is truncated"
ENTRY_DATA_TRUNCATED = "has an entry whose data is truncated"

# filesystems/ntfs/journals.py
LOG_MISSING = "its log is missing"

# filesystems/ntfs/lznt1.py
CHUNK_EXTENDS_PAST_END = "a chunk extends past the end"
PHRASE_TRUNCATED = "a phrase is truncated"
PHRASE_REFERS_OUTSIDE_CHUNK = "a phrase refers outside its chunk"

# filesystems/ntfs/names_edit.py
RECORD_NO_STANDARD_INFORMATION = "record {number} has no standard information"

# filesystems/ntfs/node_writer.py
BITMAP_MISSING = "a bitmap is missing"
STREAM_OF_RECORD_HOLES = "a stream of record {number} has holes"
FILE_TABLE_FRAGMENTED = "the file table of {where} (ntfs) is too fragmented"

# filesystems/ntfs/nodes.py
ATTRIBUTES_OF_RECORD_NO_END_MARKER = "the attributes of record {number} have no end marker"
RECORD_ATTRIBUTES_THAT_OVERLAP_HEADER = "record {number} has attributes that overlap its header"
ATTRIBUTE_OF_RECORD_TRUNCATED = "an attribute of record {number} is truncated"
ATTRIBUTE_RUNS_TRUNCATED = "the run list of an attribute of record {number} is truncated"
REFERENCED_RECORD_NOT_IN_USE = "record {number} is referenced but not in use"
REFERENCED_RECORD_IS_EXTENSION = "record {number} is referenced but only extends another record"
ATTRIBUTE_LIST_TOO_LARGE = "the attribute list of record {number} is too large"
ATTRIBUTE_LIST_EXCEEDS_CLUSTERS = (
    "the attribute list of record {number} is larger than its clusters"
)
RECORD_DOES_NOT_EXTEND_RECORD = "record {record} does not extend record {number}"
SIZES_CONTRADICT = "the sizes of {what} contradict each other"
COMPRESSION_UNIT_MISSING = "{what} is compressed, but its compression unit is missing"
FILE_TABLE_LOCATION_MISSING = "its file table does not record its own location"
FILE_TABLE_LOCATIONS_DIFFER = "its boot sector and its file table give different locations"
ATTRIBUTE_OF_RECORD_INVALID = "an attribute of record {number} is invalid"
NAME_OF_RECORD_TRUNCATED = "a name of record {number} is truncated"
STANDARD_INFORMATION_OF_RECORD_TRUNCATED = (
    "the standard information of record {number} is truncated"
)
ATTRIBUTE_LIST_INVALID = "the attribute list of record {number} is invalid"
LISTED_ATTRIBUTE_MISSING = (
    "the attribute list of record {number} lists an attribute that record {record} does not have"
)
RUNS_DO_NOT_MATCH_CLUSTERS = "the runs of {what} do not match its clusters"
ATTRIBUTE_OF_RECORD_LARGER_THAN_CLUSTERS = (
    "an attribute of record {number} is larger than its clusters"
)
NAME_OF_ATTRIBUTE_OF_RECORD_TRUNCATED = "the name of an attribute of record {number} is truncated"
VALUE_OF_ATTRIBUTE_OF_RECORD_TRUNCATED = "the value of an attribute of record {number} is truncated"
PART_MISSING = "a part of {what} is missing"

# filesystems/ntfs/read.py
UPPER_CASE_TABLE_TRUNCATED = "its table of upper-case letters is truncated"
RECORD_IMPOSSIBLY_LARGE = "record {node} is impossibly large"
RECORD_NOT_SYMBOLIC_LINK = "record {node} is not a symbolic link"
REPARSE_POINT_OF_RECORD_TRUNCATED = "the reparse point of record {number} is truncated"
RECORD_NOT_FOLDER = "record {folder} is not a folder"
COMPRESSION_NOT_SUPPORTED = "is compressed by a method that is not supported"
STREAM_MISSING = "record {node} does not have that stream"

# filesystems/ntfs/runs.py
RUN_LIST_NO_END_MARKER = "a run list has no end marker"
RUN_LIST_INVALID = "a run list is invalid"
RUN_WITHOUT_CLUSTERS = "a run list has a run of no clusters"
RUN_LIST_POINTS_OUTSIDE_VOLUME = "a run list points outside the volume"

# filesystems/ntfs/state.py
VERSION_MISSING = "its version is missing"
VERSION_NOT_SUPPORTED = "its version is {version}"
NOT_CLOSED = (
    "{where} (ntfs) {reason}: start the machine once, shut it down fully ({shut_down}) and try "
    "again"
)
INDEX_BLOCKS_TOO_SMALL = "its index blocks are too small to be rebuilt"
WINDOWS_HIBERNATED = (
    "Windows is hibernated on {where} (ntfs), or was shut down for a fast start: shut it down "
    "fully once ({shut_down}) and try again"
)

# filesystems/ntfs/streams.py
STRUCTURE_LARGER_THAN_VOLUME = "a structure is larger than the volume"
COMPRESSED_CONTENT_CANNOT_BE_READ = "compressed content cannot be read ({error})"

# filesystems/ntfs/system_compression.py
COMPRESSED_FILE_TRUNCATED = "a compressed file is truncated"
COMPRESSED_CHUNKS_OUT_OF_ORDER = "the chunks of a compressed file are out of order"
COMPRESSED_FILE_CANNOT_BE_READ = "a compressed file cannot be read ({error})"

# filesystems/ntfs/unused.py
CLUSTER_BITMAP_MISSING = "its bitmap is missing"

# filesystems/ntfs/volume.py
DAMAGED = "{where} (ntfs) is damaged: {what}; run chkdsk in the guest, shut it down and try again"
NOT_SUPPORTED = "{where} (ntfs) is not supported: {what}"
RECORD_MISSING = "its table has no record {position}"
NOT_AN_NTFS_BOOT_SECTOR = "its boot sector is not that of an NTFS volume"
SECTOR_SIZE_NOT_SUPPORTED = "its sectors have {sector_bytes} bytes"
CLUSTER_SIZE_NOT_SUPPORTED = "its clusters have {cluster_bytes} bytes"
VOLUME_SIZE_WRONG = "it records a size of {size_bytes} bytes, but {present_bytes} bytes are present"
MAGIC_MISSING = "{what} does not begin with {magic}"
ONLY_PARTLY_WRITTEN = "{what} was only partly written"
SIZE_NOT_SUPPORTED = "its {what} has {size} bytes"
TABLE_EXCEEDS_CLUSTERS = "its table is larger than its clusters"
IMPOSSIBLE_RECORD_COUNT = "its file table has {record_count} records"
LIES_OUTSIDE_VOLUME = "{what} lies outside the volume"
FILE_TABLE_HOLE = "its file table has a hole"

# filesystems/ntfs/xpress.py
CODE_TABLE_TRUNCATED = "a code table is truncated"
CODE_UNKNOWN = "a code is unknown"
MATCH_REFERS_OUTSIDE_DATA = "a match refers outside the data"
CODE_TABLE_TOO_MANY_CODES = "a code table has too many codes"
COUNT_TOO_SMALL = "a count is too small"
DATA_TRUNCATED = "the data is truncated"
