"""Messages about a guest's own files."""

# guests/compressors.py
TRUNCATED = "it is truncated"
LARGER_THAN_ALLOWED = "it is larger than allowed"
NOT_AN_INITRAMFS_COMPRESSION = "{compression} is not a compression that an initramfs can have"

# guests/eventlogs/log.py
NOT_EVENT_LOG = "{where} is not an event log"
DAMAGED_HEADER_FAILS_CHECKSUM = "{where} is damaged: its header fails its checksum"
EVENT_LOG_OF_VERSION = "{where} is an event log of version {major}.{minor}, which is not supported"
INCONSISTENT_CHUNK = "{where} has an inconsistent chunk"
DAMAGED_CHUNK_FAILS_CHECKSUM = "{where} is damaged: a chunk fails its checksum"
DAMAGED_RECORD_INCONSISTENT = "{where} is damaged: a record is inconsistent"

# guests/eventlogs/write.py
TOO_MANY_EVENT_RECORDS = "a log with one chunk can have up to {most_records} records"

# guests/git_objects.py
IMPOSSIBLE_OBJECT_COUNT = "it has {count} objects in its header"
OBJECT_UNKNOWN_TYPE = "an object has the unknown type {kind}"
OBJECT_LONGER_THAN_RECORDED = "an object is longer than its header says, or than 64 MiB"
SIZE_OF_OBJECT_INVALID = "the size of an object is invalid"
BASE_OF_DELTA_INVALID = "the base of a delta is invalid"
OBJECT_LARGER_THAN_64_MIB = "an object is larger than 64 MiB"
DELTA_UNKNOWN_OPERATION = "a delta has an unknown operation"

# guests/guest.py
NEW_NAME_ALREADY_EXISTS = (
    "{path} would be renamed to {new_name}, which already exists: remove one of the two"
)
NOT_FOUND_IN_GUEST = "{path} was not found in the guest"
SEVERAL_ROOTS = (
    "{name} has several subvolumes that hold a system ({paths}), and neither the default subvolume "
    "nor an /etc/fstab says which of them is started: set the default with btrfs subvolume "
    "set-default on the volume"
)
MOUNTED_BELOW_REMOVED = (
    "{path} would be removed, but {name} is mounted below it on {mount_point}: keep it (--skip), "
    "or remove that line from the guest's fstab"
)
TOO_MANY_LINKS = "{path} in the guest leads through too many symbolic links"
FOLDER_CONTAINS_ITSELF = "{path} in the guest contains itself"

# guests/linux/initramfs.py
ENDS_WITHOUT_TRAILER = "it ends without a trailer"
NO_ARCHIVE = "it has no archive"
ENTRY_OF_ARCHIVE_INVALID = "an entry of its archive is invalid"
ENTRY_OF_ARCHIVE_TRUNCATED = "an entry of its archive is truncated"
NOT_AN_ARCHIVE = "it has content that is not an archive"
DATA_CANNOT_BE_DECOMPRESSED = "its {compression} data cannot be decompressed ({error})"

# guests/linux/network_files.py
NO_SUPPORTED_NETWORK_SERVICE = (
    "the guest has no supported network service (netplan, NetworkManager, systemd-networkd, "
    "ifupdown, ifcfg): give the clone a seed instead of --into-disk"
)

# guests/open.py
VOLUME_NOT_SUPPORTED = "{name} is not supported: {refusal}"

# guests/windows/hives.py

# guests/windows/open.py
SEVERAL_WINDOWS_SYSTEMS = (
    "{names} each have a Windows system, but only disks with one system are supported: remove the "
    "other in the guest"
)

# guests/windows/reissue.py
SECURITY_IDENTIFIER_TOO_SHORT = (
    "the numbers in the machine's security identifier {sid} are too small to be replaced by "
    "others of the same length: run Windows' own generalize pass on a throwaway copy instead"
)

# guests/windows/system.py
REGISTRY_CANNOT_BE_READ = "the registry cannot be read: {problem}"

# guests/windows/sqlite_rows.py
NOT_SQLITE = "it is not an SQLite database"
NOT_SQLITE_LOG = "the write-ahead log of its database is not valid"
DATABASE_NOT_SOUND = "its database is not consistent"
DATABASE_CANNOT_BE_CHANGED = "its database cannot be changed: {error}"

# guests/linux/grub_core.py
NO_CORE_IMAGE = "this is not a packed core image of GRUB for BIOS"
CORE_IMAGE_TOO_LONG = "the core image of GRUB becomes too long"
