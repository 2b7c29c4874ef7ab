"""Messages about registry hives."""

# guests/registry/cells.py
INVALID_CELL_IN_HIVE = "{where} is a damaged registry hive: a cell is invalid"
DOES_NOT_FIT_INTO_CELL = "it does not fit into its cell"
HIVE_WOULD_BECOME_TOO_LARGE = "the hive would become too large"
BIN_HEADER_MISSING_IN_HIVE = "{where} is a damaged registry hive: a bin has no valid header"

# guests/registry/check.py
NOT_MARKED_AS_ROOT_KEY = "it is not marked as a root key"
BIN_AT_NO_VALID_HEADER = "the bin at {place:#x} has no valid header"
BIN_AT_IMPOSSIBLE_LENGTH = "the bin at {place:#x} has an impossible length"
KEYS_BELOW_OUT_OF_ORDER = "the keys below it are out of order"
KEY_BELOW_ANOTHER_PARENT = "a key below it has another parent"
LONGER_KEY_NAME_BELOW = "a key below it has a longer name than it records"
SECURITY_DESCRIPTOR_NOT_IN_LIST = "a security descriptor is not in the list of descriptors"
CELL_NAME = "the cell at {offset:#x}"
CELL_WITHOUT_OWNER = "it is marked as in use but nothing uses it"
INSIDE_ITSELF_OR_IN_TWO_KEYS = "it is inside itself, or in two keys"
CELL_AT_IMPOSSIBLE_LENGTH = "the cell at {cell:#x} has an impossible length"
VALUE_OCCURS_TWICE = "the value {name!r} occurs twice"
LONGER_VALUE_NAME = "a value has a longer name than it records"
LONGER_VALUE = "a value is longer than it records"
LIST_OF_SECURITY_DESCRIPTORS_NOT_CLOSED = "its list of security descriptors is not closed"
IN_USE_BUT_MARKED_FREE = "it is in use but not marked as in use"
CELL_USED_TIMES = "it is used {count} times"
NAME_HASH_WRONG = "the hash value of {name!r} is wrong"
NAME_HINT_WRONG = "the hint of {name!r} is wrong"

# guests/registry/create.py
VERSION_NOT_KNOWN = "version 1.{minor} is not known"

# guests/registry/edit.py
NOT_VALID_NAME_FOR_KEY = "{name!r} is not a valid name for a key"
NOT_VALID_NAME_FOR_VALUE = "{name!r} is not a valid name for a value"
ROOT_CANNOT_BE_REMOVED = "the root of a hive cannot be removed"
ROOT_CANNOT_BE_RENAMED = "the root key of a hive cannot be renamed"
KEY_ALREADY_EXISTS = "the key {name!r} already exists"
SHARED_DESCRIPTOR_LENGTH = "a shared descriptor can only be replaced by one of the same length"

# guests/registry/hive.py
DAMAGED = "{where} is a damaged registry hive: {what}"
NAME_ENDS_IN_CHARACTER = "a name in the registry ends in the middle of a character"
TOO_SHORT = "it is too short"
HEADER_MISSING = "its header is missing"
VERSION_NOT_SUPPORTED = "{where} is a hive of version {major}.{minor}, which is not supported"
NOT_WRITTEN_COMPLETELY = (
    "{where} was not written completely: its transaction logs must be replayed first (shut the "
    "machine down cleanly)"
)
TRUNCATED = "it is truncated"
BYTES_AT_REFERENCED_DO_NOT_EXIST = "the bytes at {offset:#x} are referenced but do not exist"
CELL_AT_INVALID_OR_TOO_SHORT = "the cell at {offset:#x} is invalid or too short"
NO_VALID_KEY = "there is no valid key at {offset:#x}"
LAYERED_KEYS_NOT_SUPPORTED = "{where} has layered keys, which are not supported"
SUBKEY_COUNT_WRONG = "the key {name!r} counts a different number of subkeys than it lists"
NO_VALID_KEY_LIST = "there is no valid list of keys at {offset:#x}"
NO_VALID_SECURITY_CELL = "there is no valid security cell at {offset:#x}"
IMPOSSIBLE_VALUE_COUNT = "the key {name!r} counts {count} values, which is impossible"
NO_VALID_VALUE = "there is no valid value at {offset:#x}"
LARGE_VALUE_AT_TRUNCATED = "the large value at {offset:#x} is truncated"
NO_VALID_LARGE_VALUE = "there is no valid large value at {offset:#x}"
EMBEDDED_VALUE_TOO_LONG = "a value of more than four bytes is stored in the field for four bytes"
KEYS_CONTAIN_EACH_OTHER = "its keys contain each other"
KEY_LIST_NESTED_TOO_DEEPLY = "the list of keys at {offset:#x} is nested too deeply"

# guests/registry/hive_cells.py
KEY_LIST_INVALID = "a list of keys is invalid"

# guests/registry/logs.py
TOO_SHORT_TO_BE_REGISTRY_HIVE = "{where} is too short to be a registry hive"
HEADER_DAMAGED_WITHOUT_LOG = "{where} has a damaged header, and no transaction log has another one"
LOGS_DO_NOT_CONTINUE = (
    "{where} was not written completely, and its transaction logs do not continue from its state"
)
LOG_MAKES_HIVE_TOO_LARGE = "a transaction log of {where} makes the hive impossibly large"
LOG_WRITES_OUTSIDE_HIVE = "a transaction log of {where} writes outside the hive"

# guests/registry/paths.py
HIVE_NOT_KNOWN = "the hive {name!r} is not known"

# guests/registry/remains.py
BIN_NO_VALID_HEADER = "a bin has no valid header"
CELL_INVALID = "a cell is invalid"

# guests/registry/slack.py
CELL_EXTENDS_OUTSIDE_HIVE = "a cell extends outside the hive"
CELL_AT_NOT_IN_USE = "the cell at {at:#x} is not in use"

# guests/registry/value_types.py
WRONG_CONTENT_FOR_TYPE = "{content!r} is not valid for a value of type {kind}"
BOOLEAN_IS_NOT_A_NUMBER = "a number must not be true or false"
DOES_NOT_FIT_TYPE = "{content} does not fit the type"
