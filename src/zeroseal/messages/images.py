"""Messages about disk images, their containers and changes in place."""

# images/compression.py
COMPRESS_FAST_NEEDS_PACKAGE_ISAL = (
    "--compress fast needs the package isal, which is not installed: use --compress alone, or pip "
    "install isal"
)

# images/convert.py
NOT_ENOUGH_SPACE = (
    "{folder} has {free} free, but the disk needs about {needed}: free some space, or choose "
    "another folder with -o"
)
DOES_NOT_READ_BACK = (
    "the written file does not read back correctly: the disk it was written to may be failing"
)

# images/create.py
FORMAT_NOT_KNOWN = "the format {name!r} is not known: choose from {formats}"
COMPRESSION_NOT_KNOWN = "the compression {compress!r} is not known: choose from {compressions}"
ZSTD_NEEDS_QCOW2 = "zstd is for qcow2 only: use --compress or --compress fast with {name}"
IMAGE_CANNOT_BE_COMPRESSED = (
    "a {name} image cannot be compressed: use --format qcow2 or vmdk with --compress"
)
NO_FIXED_FORM = "{name} has no fixed form: --fixed is for {fixed}"
PREALLOCATE_NOT_SUPPORTED = "--preallocate is for raw images and for fixed VHDX, VHD and VDI"

# images/detect.py
BACKING_CHAIN_CONTAINS_LOOP = "{path} is its own backing file: the chain is a loop"
BACKING_CHAIN_TOO_LONG = "{path} has a backing chain of more than {max_chain} files"
FORMAT_DIFFERS = (
    "{path} should be {format_name}, but its first bytes are those of {found}: correct "
    "--source-format, or the image that refers to this file"
)
NOT_COMPLETE_DISK_IN_ONE_FILE = "{path} is not a complete disk in one file"
BACKING_NAME_NOT_SUPPORTED = (
    "{path} gives its backing file in a form that is not supported: {name!r}"
)
BACKING_FILE_NOT_FOUND = (
    "{path} needs its backing file {backing_path}, which was not found: put it back, or correct "
    "the name with qemu-img rebase -u"
)
EXTERNAL_DATA_FILE_NOT_FOUND = (
    "{path} needs its external data file {place}, which was not found: put it back"
)
EMPTY_NO_DISK_IMAGE = "{path} is empty: it has no disk image"
DISK_NEEDS_FILES_OUTSIDE = "{path} is a disk that needs files outside the package"

# images/host_file.py
NOT_A_FILE_OR_DEVICE = (
    "{path} is neither a regular file nor a block device: give the path of a disk image"
)
TRUNCATED_OR_DAMAGED = (
    "{path} is truncated or damaged: the file ends at byte {size_bytes}, but bytes {offset_bytes} "
    "to {end_bytes} are referenced; copy it again from its source"
)
CANNOT_OPEN = "cannot open {path}: {reason}; check the name and your permissions"
BECAME_SHORTER_WHILE_READ = (
    "{path} became shorter while it was read: check whether another program is changing it"
)
DEVICE_TOO_SMALL = (
    "{path} has {size_bytes} bytes, but the disk needs {needed_bytes}: choose a larger device"
)
MOUNTED_OR_IN_USE = (
    "{path} is mounted or in use by another program: unmount it, or stop that program"
)

# images/image.py
NO_SNAPSHOTS_OUTSIDE_QCOW2 = "{path} is not a qcow2 image, and only qcow2 has internal snapshots"

# images/in_place.py
DEVICE_NEEDS_JOURNAL_FOLDER = (
    "{device} is a block device: name the folder for the journal of its change with --journal-to "
    "DIR"
)
FOLDER_FOR_JOURNAL_NOT_FOUND = "the folder {folder} for the journal was not found: create it first"
SYMBOLIC_LINK_NOT_CHANGED = (
    "{path} is a symbolic link, which cannot be changed in place: give {target} instead"
)
CONTAINER_ON_DEVICE_NOT_CHANGED = (
    "{path} is a {format_name} container, which may have to grow, but a device cannot grow: seal "
    "it into a new file with -o"
)
FILE_NEEDS_NO_JOURNAL_FOLDER = (
    "{path} is a file, so its journal is written beside it: leave out --journal-to"
)
JUST_CHANGED_BY_ANOTHER_PROGRAM = "{path} was just changed by another program: try again"

# images/locks.py
OPEN_IN_ANOTHER_PROGRAM = (
    "{path} is open in another program, perhaps a running machine: shut it down, or wait until it "
    "is closed"
)

# images/output.py
DEVICE_NEEDS_OVERWRITE_OPTION = (
    "{target} is a block device: to overwrite all of its contents, give --overwrite-device as well"
)
ALREADY_EXISTS = "{target} already exists: choose another name, or remove it first"
FOLDER_NOT_FOUND = "the folder {parent} was not found: create it first"
CREATED_IN_THE_MEANTIME = (
    "{target} was created by another program in the meantime: choose another name"
)

# images/output_folder.py

# images/ova/descriptor.py
DESCRIPTOR_WITH_DOCTYPE = (
    "{path} has a document type declaration in its descriptor, which is not allowed in OVF"
)
DESCRIPTOR_NOT_AN_ENVELOPE = "{path} has a descriptor that is not a DMTF OVF envelope"
SEVERAL_DISKS = "{path} has {disks} disks: unpack it, and give the one disk to handle"
DISK_THAT_DEPENDS_ON_ANOTHER_DISK = "{path} has a disk that depends on another disk"
DISK_WITHOUT_FILE_REFERENCE = "{path} has a disk without a file reference"
DISK_IN_CHUNKS = "{path} has its disk in chunks: join them first"
DISK_COMPRESSION_NOT_SUPPORTED = (
    "{path} has a disk compressed with {compression}, which is not supported"
)
REFERS_TO_DISK_OUTSIDE_PACKAGE = "{path} refers to a disk outside the package: {name!r}"
DESCRIPTOR_NOT_XML = "{path} has a descriptor that is not valid XML: {error}"

# images/ova/manifest.py
MANIFEST_UNREADABLE = "{path} has a manifest that cannot be parsed"
DIGEST_DIFFERS_FROM_MANIFEST = (
    "{path}: {name} does not match the {algorithm} digest in the manifest: copy the package again "
    "from its source"
)
KEY_DOES_NOT_MATCH_CERTIFICATE = (
    "{key} is not an RSA key, or does not belong to the certificate {certificate}"
)
SIGNATURE_OR_CERTIFICATE_MISSING = "the signature or the certificate is missing"
KEY_NOT_RSA = "its key is not RSA"
INVALID_SIGNATURE = "{path} has an invalid signature: {reason}"
CANNOT_READ = "cannot read {filename}: {strerror}"
KEY_OR_CERTIFICATE_UNREADABLE = (
    "{key} and {certificate} must be a private key without a passphrase and a certificate, both "
    "in PEM: {error}"
)

# images/ova/read.py
PACKAGE_MATCHES_SIGNED_MANIFEST = (
    "The package matches its manifest, signed by {who}. Whether that signer can be trusted was "
    "not checked."
)
TAR_ARCHIVE_WITHOUT_OVF_DESCRIPTOR = (
    "{path} is a tar archive without an OVF descriptor: unpack it first"
)
DESCRIPTOR_TOO_LARGE = "{path} has a descriptor of {size_bytes} bytes"
PACKAGE_HAS_NO_MANIFEST = "The package has no manifest, so its contents cannot be verified."
PACKAGE_MATCHES_MANIFEST = "The package matches its manifest."
TRUNCATED_GZIP_COMPRESSED_DISK = "{path} has a truncated gzip-compressed disk"
MEMBER_NOT_IN_PACKAGE = "{path} refers to {name}, which is not in the package"
MEMBER_OUTSIDE_FOLDER = (
    "{path} refers to {name}, which is outside its folder: put the file beside the descriptor and "
    "correct the name"
)
NEEDED_FILE_NOT_FOUND = "{path} needs {needed}, which was not found"
DAMAGED_TAR_ARCHIVE = "{path} is a damaged tar archive: {error}"
MANIFEST_INCOMPLETE = "{path} has a manifest that does not list {needed}"
GZIP_DISK_DAMAGED = "{path} has a gzip-compressed disk that cannot be decompressed"
TOO_MANY_MEMBERS = "{path} has more than {most_members} members"

# images/parents.py
PARENT_DISK_NOT_FOUND = (
    "{child} is a {format_title} that needs its parent disk {parent}, which was not found: put it "
    "back beside the image"
)

# images/qcow2/bitmaps.py
DAMAGED_BITMAP_DIRECTORY = "{path} has a damaged bitmap directory"
DAMAGED_DIRTY_BITMAP = "{path} has a damaged dirty bitmap"

# images/qcow2/read.py
QCOW2_VERSION_NOT_SUPPORTED = "{path} is qcow2 version {version}; 2 and 3 are supported"
ENCRYPTED_QCOW2_IMAGE = "{path} is an encrypted qcow2 image: decrypt a copy first"
MARKED_CORRUPT = "{path} is marked corrupt: repair a copy with qemu-img check -r all"
QCOW2_FEATURES_UNKNOWN = (
    "{path} needs qcow2 features that are unknown here (bits {unknown:#x}): convert a copy with "
    "qemu-img convert"
)
DAMAGED_QCOW2_HEADER = "{path} has a damaged qcow2 header: {problem}"
QCOW2_ENDS_IN_L1_TABLE = (
    "{path} is a truncated qcow2 image: its L1 table ends at byte {table_end}, but the file ends "
    "at byte {size_bytes}; copy it again from its source"
)
NO_SNAPSHOT = "{path} has no snapshot {name!r}; it has {snapshots}"
ENDS_INSIDE_QCOW2_HEADER = "{path} ends inside its qcow2 header"
QCOW2_HEADER_EXTENSION_OUTSIDE_BOUNDS = "{path} has a qcow2 header extension outside its bounds"
EXTERNAL_DATA_FILE_UNNAMED = "{path} does not give the name of its external data file"
QCOW2_ENDS_BEFORE_DATA = (
    "{path} is a truncated qcow2 image: a {what} should be at byte {offset}, but the file ends at "
    "byte {size_bytes}; copy it again from its source"
)
COMPRESSED_CLUSTER_TOO_SHORT = "{path}: the compressed cluster at byte {offset} is too short"
COMPRESSION_TYPE_NOT_SUPPORTED = (
    "{path} uses compression type {compression}, which is not supported"
)
L1_ENTRY_POINTS_INSIDE_CLUSTER = "{path}: L1 entry {l1_index} points inside a cluster"
ENTRY_FOR_BYTE_INCONSISTENT = "{path}: the entry for byte {offset} is inconsistent"
ENTRY_FOR_BYTE_NOT_ALIGNED = "{path}: the entry for byte {start} is not aligned"
COMPRESSED_CLUSTER_DAMAGED = (
    "{path}: the compressed cluster at byte {offset} cannot be decompressed"
)

# images/qcow2/refcounts.py
CLUSTER_IN_USE_BUT_COUNTED_FREE = (
    "{path}: cluster {cluster_no} is in use but counted as free: repair a copy with qemu-img "
    "check -r all"
)
CLUSTER_USED_TOO_OFTEN = (
    "{path} cannot count more than {most} uses of a cluster: write a new file with -o"
)

# images/qcow2/snapshot_table.py
TOO_MANY_SNAPSHOTS = "{path} has {snapshot_count} snapshots in its header, which is too many"
DAMAGED_SNAPSHOT_TABLE = "{path} has a damaged snapshot table"

# images/qcow2/snapshots.py
SNAPSHOT_NAME_NOT_POSSIBLE = "{path} cannot have another snapshot named {name!r}"
SNAPSHOT_OF_ANOTHER_SIZE = "the disk in {path} had another size when snapshot {name} was taken"

# images/qcow2/write.py
NOT_CLOSED_CLEANLY = "{path} was not closed cleanly: repair a copy with qemu-img check -r all"
EXTERNAL_DATA_FILE_NOT_CHANGED = (
    "{path} has an external data file, so it cannot be changed in place: write a new file with -o"
)

# images/reach.py
RAW_NAME_WITH_OTHER_FORMAT = (
    "{path} starts like {found} but has the name of a raw disk, and a guest can write such a "
    "start into its own disk: give --source-format raw or --source-format {found}"
)
FILE_OUTSIDE_FOLDER = (
    "{child} refers to {target}, which is outside its folder and does not look like a disk image: "
    "to allow its folder, give --follow {parent}"
)
DEVICE_IS_RAW = "{path} is a block device, which holds a raw disk: use --format raw"
NEW_FILE_WITH_RAW_NAME = (
    "{path} would be {format_name} with the name of a raw disk: name it {with_suffix}, or give "
    "--format raw"
)
BACKING_FORMAT_NOT_RECORDED = (
    "{path} starts like {found} but has the name of a raw disk, and {child}, which is based on "
    "it, does not record its format: record it with qemu-img rebase -u -F {found} -b {path} "
    "{child}, or with -F raw"
)

# images/recognise.py
FILE_TYPE_NOT_SUPPORTED = (
    "{path} is a {name} file, which is not supported: unpack or convert it first"
)

# images/redo.py
CHANGE_KEPT_IN_JOURNAL = (
    "{message}; the change of {path} is complete in the journal {journal}: when the cause is "
    "solved, run any zeroseal command on the image{where} to finish it"
)
JOURNAL_OF_ANOTHER_DISK = (
    "{path} is the journal of a change of another disk than {image} is now: if the image was "
    "restored from a copy, remove the journal; otherwise put the image back"
)

# images/redo_head.py
CHANGE_INTERRUPTED = (
    "a change of {image} in place was interrupted, and the rest of it is in {path}: run zeroseal "
    "survey on that image to finish it"
)

# images/vdi/read.py
VDI_VERSION_NOT_SUPPORTED = "{path} is a VDI of version {version:#x}, not 1.1"
VDI_TYPE_NOT_SUPPORTED = "{path} is a VDI of the {kind} type: merge it into its parent first"
DAMAGED_VDI_HEADER = "{path} has a damaged VDI header: {problem}"

# images/vdi/write.py
VDI_BLOCKS_INCONSISTENT = (
    "{path} has blocks that are used twice or gaps between blocks: convert a copy first"
)
VDI_TOO_LARGE = "VDI does not support a disk of this size: use --format vhdx"

# images/vhd/read.py
VHD_FOOTER_FAILS_CHECKSUM = "{path} is a VHD with a footer that fails its checksum"
VHD_OF_UNKNOWN_TYPE = "{path} is a VHD of an unknown type (version {version:#x}, type {disk_type})"
BELONGS_TO_MACHINE_WITH_SAVED_STATE = (
    "{path} belongs to a machine with a saved state: start the machine and shut it down cleanly"
)
IMPOSSIBLE_DISK_SIZE = "{path} has a disk size of {size_bytes} bytes"
DAMAGED_DYNAMIC_DISK_HEADER = "{path} has a damaged dynamic disk header"
IMPOSSIBLE_BLOCK_SIZE = "{path} has blocks of {block} bytes"
BLOCK_TABLE_TOO_SHORT = "{path} has a block table that is too short"
PARENT_NOT_VHD = "{child} gives {path} as its parent, which is not a VHD"
PARENT_IS_ANOTHER_DISK = (
    "{child} was created from another disk ({uuid}) than {path} is now: put the original parent "
    "back"
)
TRUNCATED_FIXED_VHD_OR_RAW = (
    "{path} ends like a fixed VHD of {size_bytes} bytes but is shorter: it is truncated, or it is "
    "a raw disk into which a guest wrote that end; if it is raw, give --source-format raw"
)

# images/vhd/write.py
VHD_TOO_LARGE = "VHD supports at most {max_disk_bytes} GiB: use --format vhdx"
VHD_DIFFERENCING_NOT_CHANGED = "{path} is a differencing disk: write a new file with -o"

# images/vhdx/log.py
IMPOSSIBLE_LOG_SIZE = "{path} has a log of {log_bytes} bytes"
LOG_NOT_REPLAYABLE = (
    "{path} was not closed cleanly, and its log has no entry that can be replayed: restore the "
    "image from a copy"
)
SHORTER_THAN_LOG_RECORDS = "{path} is shorter than its log records"
DAMAGED_LOG_ENTRY = "{path} has a damaged log entry"
LOG_OUTSIDE_FILE = "{path} has a log that extends outside the file"

# images/vhdx/read.py
VHDX_WITHOUT_VALID_HEADER = "{path} is a VHDX without a valid header"
VHDX_VERSION_NOT_SUPPORTED = "{path} is a VHDX of version {version}, not 1"
VHDX_WITHOUT_VALID_REGION_TABLE = "{path} is a VHDX without a valid region table"
BLOCK_TABLE_OR_METADATA_MISSING = "the block table or the metadata of {path} is missing"
IMPOSSIBLE_HEADER = "{path} has an impossible header: {problem}"
DAMAGED_METADATA_TABLE = "{path} has a damaged metadata table"
PARENT_NOT_VHDX = "{child} gives {path} as its parent, which is not a VHDX"
PARENT_CHANGED = (
    "{path} was changed after {child} was created from it: put the original parent back"
)
BLOCK_IN_UNKNOWN_STATE = "{path} has a block in an unknown state"
NEEDS_UNKNOWN_VHDX_REGION = "{path} needs an unknown VHDX region ({uuid})"
VHDX_METADATA_MISSING = "VHDX metadata is missing in {path}"
METADATA_OUTSIDE_BOUNDS = "{path} has metadata outside its bounds"
DAMAGED_PARENT_LOCATOR = "{path} has a damaged parent locator"
SECTOR_BITMAP_MISSING = "a sector bitmap is missing in {path}"
NEEDS_UNKNOWN_VHDX_METADATA_ITEM = "{path} needs an unknown VHDX metadata item ({uuid})"
BLOCK_OVERLAPS_HEADER = "{path} has a block that overlaps its header"

# images/vhdx/write.py
VHDX_DIFFERENCING_NOT_CHANGED = "{path} is a differencing disk: merge it first"
VHDX_TOO_LARGE = "VHDX supports at most 64 TiB"

# images/vmdk/descriptor.py
VMDK_DESCRIPTOR_WITHOUT_EXTENTS = "{path} has a VMDK descriptor without extents"
VMDK_SIZE_TOO_LARGE = "{path} gives a disk size that is too large"
VMDK_EXTENT_NOT_SUPPORTED = (
    "{path} has {foreign} ({kind}): clone the disk to the sparse or stream-optimized form first"
)
EXTENT_OF_UNKNOWN_TYPE = "{path} has an extent of unknown type {kind}"

# images/vmdk/read.py
ONE_EXTENT_OF_SPLIT_VMDK = "{path} is one extent of a split VMDK: give the descriptor file instead"
EXTENT_OUTSIDE_FOLDER = (
    "{path} refers to an extent in another folder ({name!r}): put all files into one folder, and "
    "correct the name"
)
EXTENT_NOT_FOUND = "{path} needs its extent {place}, which was not found"
EXTENT_SMALLER_THAN_RECORDED = "{place} is smaller than {path} records"
VMDK_PARENT_CHANGED = (
    "{path} was changed after {child} was created from it, or is not a VMDK: put the original "
    "parent back"
)
EXTENT_SHORTER_THAN_RECORDED = "{place} is shorter than {path} records"

# images/vmdk/sparse.py
STREAM_OPTIMIZED_VMDK_WITHOUT_END = (
    "{path} is a stream-optimized VMDK without its end: copy it again from its source"
)
VMDK_VERSION_NOT_SUPPORTED = "{path} is VMDK version {version}, which is not supported"
VMDK_FLAGS_NOT_SUPPORTED = "{path} has VMDK flags {flags:#x}, which are not supported"
TRANSFERRED_AS_TEXT = "{path} was transferred as text, which damaged it: copy it again"
DAMAGED_VMDK_HEADER = "{path} has a damaged VMDK header: {problem}"
GRAIN_OF_ANOTHER_ADDRESS = "{path}: the grain at byte {place} belongs to another address"
GRAIN_TOO_SHORT = "{path}: the grain at byte {place} is too short"
GRAIN_DAMAGED = "{path}: the grain at byte {place} cannot be decompressed"

# images/vmdk/stream.py
STREAM_VMDK_TOO_LARGE = "a stream-optimized VMDK supports at most 2 TiB"

# images/vmdk/write.py
SPARSE_VMDK_TOO_LARGE = "a sparse VMDK supports at most 2 TiB: use --format vhdx or qcow2"
VMDK_WITH_PARENT_NOT_CHANGED = "{path} has a parent or further extents: write a new file with -o"
STREAM_VMDK_NOT_CHANGED = (
    "{path} is stream-optimized, so it cannot be changed in place: write a new file with -o"
)
VMDK_WOULD_GROW_TOO_LARGE = "{path} would grow beyond 2 TiB"

# images/writable.py
NOT_CHANGED_IN_PLACE = (
    "{path} ({format_name}, {variant}) cannot be changed in place: write a new file with -o"
)

# images/resumed_copy.py
BEING_FILLED = "another command is writing to {folder} just now: wait for it, then repeat this one"
