"""Messages about seals, checks, records and house rules."""

# sealing/compare.py
TWO_IMAGES_REQUIRED = "name at least two images to compare"
GIVEN_TWICE = "{paths} is given twice"

# sealing/envelope.py
ENVELOPE_TYPE_WRONG = "its envelope has {kind!r}"
ENVELOPE_TOO_MANY_SIGNATURES = "its envelope has too many signatures"

# sealing/house_rules.py
RULES_VERSION_REQUIRED = "{name}: the first line of house rules must be version = {version}"
MUST_BE_ABSOLUTE_PATH = "{key}: {path!r} must be an absolute path"
SOURCE_FORMAT_NOT_KNOWN = "source-format: {source_format!r} is not one of {source_formats}"
KEY_WRONG = "{name}: {key}: {reason}"
TRACE_ID_TAKEN = "the trace {id} in the house rules uses an id that is already taken"
KEPT_TRACE_NOT_KNOWN = "the house rules keep the trace {name!r}, which is not known"
RESIDUE_PLACE_INVALID = (
    "residue: {place!r} must be an absolute path, or a place as a seal prints it"
)
SEARCH_TEXT_TOO_SHORT = (
    "texts: text number {number} is too short to search for, it needs at least {min_text} letters"
)
REMARK_NOT_KNOWN = "{key}: the remark {code!r} is not known; known remarks are {codes}"

# sealing/canaries.py
CANARY_INVALID = (
    "{path}, line {number}: a text to be searched for has {shortest} letters or more and at most "
    "{longest} bytes, and 8 bytes or more where it is not plain ASCII"
)
NO_CANARIES = "{path} has no text to be searched for: write one on each line"

# sealing/inspection.py
NO_SUCH_ACCOUNT = "the guest has no account {name!r}; its human accounts: {human_names}"

# sealing/packed_files.py
LARGER_THAN_1_GIB = "it is larger than 1 GiB"
COULD_NOT_READ_INSIDE = "{path} could not be read, so its contents were not searched ({message})."
COULD_NOT_OPEN_INSIDE = "{path} could not be opened, so its contents were not searched ({error})."

# sealing/policy.py
GIVEN_WITH_BOTH_ONLY_AND_SKIP = "{both} is given with both --only and --skip: choose one"
GIVEN_WITH_BOTH_RETAIN_AND_REMOVE = "{name} is to be both kept and removed: choose one"
UNCLAIMED_FILES = (
    "Unknown to the catalogue: {count} that no package owns may identify this machine on every "
    "clone ({paths}); zeroseal survey --unclaimed gives the reasons."
)
SECRETS_STAY = "{what} stay, and all clones will share them: {paths}."
COVERED_FILES = (
    "{count} ({size}) on {volume} are beneath the mount point {point}, where the guest does not "
    "see them, and they stay: {paths}."
)
COVERED_SUSPECTS = (
    "{count} ({size}) on {volume} are beneath the mount point {point}, where the guest does not "
    "see them, and they stay; these look like identity or a secret: {suspects}."
)
STRICT_SEAL = (
    "{counts} would stay, and --strict allows none: see them with zeroseal survey --unclaimed, "
    "then remove them in the guest, or accept them in the house rules (allow.unclaimed, "
    "allow.secrets)."
)
STRICT_CHECK = "{counts} are on it, and --strict allows none"
SNAPSHOTS_DROPPED_AND_SEALED = "snapshots are to be both removed and treated: choose one"
BUILD_ACCOUNT_NOT_RETAINED = (
    "{name} is the account of the machine's build, which a seal always removes: keep another "
    "account"
)
BUILD_ACCOUNT_NEEDS_TREATMENT = (
    "{name} is the account of the machine's build, which a seal always removes: include the trace "
    "people.accounts too"
)

# sealing/proof.py
RESULT_HAS_FINDINGS = (
    "the result still has {count} findings ({named}): nothing was written; please report this "
    "together with the output of --debug"
)
RESIDUE_LEFT = (
    "removed values are still on the disk: nothing was written; list them with --rehearse, decide "
    "on each with --rehearse --draft-rules FILE, or accept all with --allow-residue"
)
FILE_SYSTEM_NOT_CONSISTENT = (
    "the file system of {name} is not consistent ({problem}): nothing was written; run {checker} "
    "on it in the guest or on a copy, then seal again"
)

# sealing/readiness.py
IMAGE_KEEPS_SNAPSHOTS = "The image has {kept}, which a new file does not have."
IMAGE_HAS_BACKING_FILE = "The image has a backing file; a new file is complete without one."
FILE_SYSTEM_FULL = "{path} is {used:.0%} full: clones will soon run out of space."
RULES_REQUIRE_SERVICE = "The house rules require the service {service}, which is not enabled."
RULES_FORBID_PATH = "The house rules do not allow {paths}."
RULES_REQUIRE_PACKAGE = "The house rules require the package {name}, which is not installed."

# sealing/record.py
STATEMENT_OF_ANOTHER_TYPE = "it is a statement of another type"
CHUNK_SIZE_NOT_SUPPORTED = "its chunks have {chunk_bytes} bytes"
TOO_LARGE = "it is too large"
NOT_READABLE_SEAL_RECORD = (
    "{path} is not a readable seal record ({where}{error}): restore it, or remove it to check the "
    "image without a record"
)

# sealing/residue.py
RESIDUE_IN_PLACES = "The {label} was found in {places}."

# sealing/searched_value.py
NOT_SEARCHED_FOR = "The {label} was not searched for: it is too short, or too common a word."

# sealing/signing.py
PASSPHRASE_DOES_NOT_OPEN_KEY = "the passphrase does not open the key {path}"
NOT_ED25519_KEY = "{path} is not an Ed25519 key: create one with ssh-keygen -t ed25519 -f {name}"
NOT_PUBLIC_ED25519_KEY = "{path} is not a public Ed25519 key: give the .pub file of the signer"
KEY_CANNOT_BE_READ = "the key {path} cannot be read ({strerror})"
NOT_READABLE_PRIVATE_KEY = "{path} is not a readable private key ({error})"

# sealing/targets/in_place.py
NOT_SEALED_IN_PLACE = (
    "{path} cannot be sealed in place: {reason}; seal it into a new file with -o, which is "
    "complete and has no snapshots"
)
NTFS_NOT_SEALED_IN_PLACE = (
    "{path} cannot be sealed in place: {volume} is {kind}; seal it into a new file with -o, which "
    "leaves the old file unchanged, or give --ntfs-in-place as well"
)

# sealing/targets/new_file.py
ALREADY_EXISTS = "{target} already exists: choose another name with -o, or remove it first"
CHANGED_OR_REMOVED_WHILE_SEALED = (
    "{source} was changed or removed while it was sealed: shut the machine down and try again"
)

# sealing/targets/tree.py
TREE_RESULT_HAS_FINDINGS = (
    "the result still has {count} findings ({traces}): please report this together with the "
    "output of --debug"
)
RESIDUE_IN_FILES = (
    "values that should have been removed are still in the files ({named}): nothing was written; "
    "remove them first, or accept them with --allow-residue"
)
ARCHIVE_NOT_SEALED_IN_PLACE = (
    "only a folder can be sealed in place: name a new archive with -o OUT.tar"
)

# sealing/tree_image.py
NOT_A_ROOT_FILE_SYSTEM = (
    "{where} is not the root file system of a Linux system: it has no /etc/os-release"
)

# sealing/volume_ids/
ID_OF_VOLUME_NOT_CHANGED = (
    "{name} is a volume of kind {kind}, whose identity cannot be changed: leave the volume "
    "identities as they are"
)
IDS_NAMED_WHERE_FIXED = (
    "identities of the disk's volumes are named where they cannot be changed: {places}; remove "
    "these references, or leave the volume identities as they are"
)
INSIDE_BOOT_IMAGE = "inside a boot image for UEFI"
INSIDE_ARCHIVE = "inside it {name}, which is not a text file"
SIGNED_PROGRAM = "a program with a signature"
NO_PLAIN_TEXT = "not a text file"
PACKED_IN_A_WAY_NOT_WRITTEN = "packed with LZ4, which is neither read nor written here"
ON_UNMOUNTED_VOLUME = "the guest does not mount it"
BOOT_LOADER_ON = "the boot loader on {name}"
BOOT_LOADER_IN_GAP = "the boot loader behind the master boot record"
IDS_NOT_CHANGED = "{places} would still name an old identity of a volume"
DISK_HAS_NO_IDS = "the disk has no identity that could be changed"
NOT_ONE_VOLUME_GROUP = (
    "the disk has {count} volume groups, and only the name of a single one can be changed: leave "
    "out the new name"
)
LENGTH_IS_FIXED = "it names the volume group, and nothing in it can change its length"

# sealing/readiness.py: an EFI system partition that cannot be read
LOADERS_NOT_READ = (
    "{reason}: without it nobody can tell whether clones with UEFI find a boot loader, and none is "
    "planted"
)
