"""Messages about templates, clones and the shelf."""

# templates/clone.py
CLONE_NAME_REQUIRED = "name at least one clone with --name, or give a clone sheet with --sheet"
TEMPLATE_NOT_SEALED = "{disk} is {verdict}, and only a sealed template can be cloned: {reason}"
TEMPLATE_DIFFERS_FROM_SHELF = (
    "{disk} is sealed, but its contents differ from those of {title} on the shelf: run zeroseal "
    "shelf verify"
)
TEMPLATE_RETIRED = (
    "{title} is retired: clone a newer version, or bring it back with zeroseal shelf retire "
    "{title} --undo"
)
IDENTITY_ALREADY_USED = (
    "{conflict} for {name} is already used by another machine: no clone was created; give it "
    "another value, or leave it out"
)
LINKED_CLONE_HAS_NO_FORMAT = "a linked clone is a qcow2 overlay: leave out --format"
TEMPLATE_NEEDS_OTHER_FILES = "{path} needs other files: create full clones of it"
LINKED_CLONE_HAS_NO_OVF = "{name} would be a linked clone, but OVF describes complete disks only"
NO_SECURITY_IDENTIFIER = "{title} is not a Windows guest and has no security identifier"
SETTING_NEEDS_RUNNING_GUEST = (
    "{name} needs {wanted}, which requires a running guest: give it a seed, without --into-disk"
)
NO_SUPPORTED_NETWORK_SERVICE = (
    "{title} has no supported network service: give the clones seeds, without --into-disk"
)
NO_LOADER_FOR_CLONE = (
    "its EFI partition has no fallback loader, and new firmware variables name none: the clone "
    "may not boot"
)
WINDOWS_SETTINGS_FOR_LINUX = "{name} has settings for Windows, but {title} is not a Windows guest"
NAME_GIVEN_TWICE = "the name {name} is given twice"
NOTHING_READS_SEED = (
    "nothing in {title} reads a seed medium, so {name} would not get its name and settings: write "
    "them into the disk with --into-disk, or seal the template with --plant-first-boot"
)
SETTING_NEEDS_CLOUD_INIT = (
    "{name} needs {more}, which only cloud-init takes from a seed, but {title} has the planted "
    "first-boot script: leave that setting out"
)

# templates/clone_check.py
NO_SUCH_ROW = "{path} has no row for {name}; its rows are {names}"

# templates/clone_disk.py
DISK_CANNOT_BE_SMALLER = (
    "the disk of {name} should have {wanted}, but its template has {present}: a disk cannot be "
    "made smaller, because data at its end would be lost; leave out --disk-size, or seal a "
    "smaller machine"
)
DISK_SIZE_NOT_A_MULTIPLE = "the size of the disk of {name} is not a multiple of 512 bytes"

# templates/clone_sheet/load.py
SHEET_TABLES_REQUIRED = "{path}: write [every] as a table, and each clone as [[clone]]"
KEY_OF_EVERY_NOT_KNOWN = "{path}{line_for}: the table every has no key {unknown}"
CLONE_SHEET_EMPTY = "the clone sheet {path} is empty: its first line must name the columns"
SHEET_TOO_LARGE = "{path} is too large: at most 16 MiB"
CLONE_SHEET_NOT_VALID_TOML = "the clone sheet {path} is not valid TOML: {error}"
CLONE_SHEET_NOT_VALID_CSV = "the clone sheet {path} is not valid CSV: {error}"
TOO_MANY_VALUES_IN_ROW = "{path}, row {number}: it has more values than there are columns"
CANNOT_READ = "cannot read the {what} {path}{hint}: {reason}"
NOT_VALID_HOST_NAME = (
    "{settings!r} is not a valid host name: use a-z, 0-9 and -, at most 63 characters"
)
NOT_VALID_ACCOUNT_NAME = "{value!r} is not a valid account name"
ACCOUNT_INVALID = "the account {name}: {error}"
VALUE_GIVEN_TWICE = (
    "{path}: the {what} {value} is given twice, for {seen} and {name}: correct one of them"
)
NOT_A_NUMBER = "{where}: {key} is wrong: {cell!r} is not a number"
NOT_YES_OR_NO = "{where}: {key} is wrong: write yes or no"

# templates/clone_sheet/model.py
PUBLIC_KEY_INVALID = "the public key is not in the OpenSSH format, such as 'ssh-ed25519 AAAA...'"
GIVE_EITHER_PASSWORD_OR_PASSWORD_HASH = "give either a password or a password_hash"
DOMAIN_NEEDS_ACCOUNT = "a domain needs a join_account and a join_password"
GIVE_EITHER_NAME_OR_NUMBERS = "give either a name or numbers"
COUNT_NEEDS_NUMBERS = "count goes with numbers, not with a name"
SETTING_FOR_ONE_MACHINE = "{several} is for one machine, but count asks for {count}"
GATEWAYS_FOR_STATIC_ADDRESSES = "gateways are for static addresses: DHCP provides its own"
GATEWAY_NOT_IN_ANY_NETWORK = "the gateway {gateway} is not in any network of {shown}"
GATEWAY_MACHINE_OWN_ADDRESS = "the gateway {gateway} is the machine's own address"
NOT_A_MACHINE_ADDRESS = (
    "{item} is the network or broadcast address of its network, not an address of a machine"
)

# templates/into_disk.py
NO_SUDOERS_FOLDER = (
    "the guest has no /etc/sudoers.d, so {admins} cannot become an administrator: write admin = "
    "false, or set a password for root"
)
TIME_ZONE_NOT_FOUND = "the time zone {time_zone} was not found in the guest"

# templates/renew.py
STOP_MACHINE_FIRST = "{name} is running: stop it first with zeroseal yard stop {name}"
BUILD_FAILED = "the build of {name} did not succeed: build it again first"
NOT_FIT_TO_BE_SEALED = "{name} is not fit to be sealed: {blockers}"
NO_PATCH_TASK = "{path} has no task with patch = true, so {name} cannot be patched: add one"
NOT_VALID_VERSION = "{version!r} is not a valid version: use letters, digits, dot, - and _"
RENEWED_VERSION_TAKEN = "the shelf already has {title}@{version}: give another --version"
EARLIER_RENEWAL_LEFT = (
    "{folder} was left by an earlier renewal: remove it with zeroseal yard remove {name} "
    "--with-disk --yes"
)

# templates/shelf/bundle.py
NO_DISK = "it has no disk"
NOT_FOUND = "{path} was not found"
BUNDLE_UNREADABLE = "{path} is not a readable packed template: {error}"
NO_VERSION = "{title!r} has no version: write NAME@VERSION"
UNEXPECTED_MEMBER = "it contains {name!r}"
MEMBER_TOO_LARGE = "its {name} is too large"

# templates/shelf/clone_links.py
SEVERAL_CLONES_OF_NAME = (
    "the shelf knows several clones named {wanted!r}: name one by its UUID ({uuids})"
)
NO_SUCH_CLONE = "the shelf knows no clone {wanted!r}: list the clones with zeroseal shelf show"
CLONE_RECORD_UNREADABLE = (
    "{path} is not a readable clone record: remove it if no linked clone depends on the template"
)

# templates/shelf/contents_file.py
CONTENTS_DAMAGED = (
    "{title}: {problem}; delete that file to have the contents read from the disk each time, or "
    "add the template again"
)

# templates/shelf/entry.py
NOT_SHELF_ENTRY = "it is not a shelf entry"
ANOTHER_VERSION = "it has another version: update zeroseal"
DISK_NOT_FILE_BESIDE = "its disk is not a file beside it"
NOT_VALID_TEMPLATE_NAME = "{name!r} is not a valid template name: use a-z, 0-9 and -"
NOT_VALID_TAG = "{tag!r} is not a valid tag: use a-z, 0-9 and . _ = -, at most 40 characters"
KEY_WRONG = "its key {key} is wrong"
SHELF_ENTRY_UNREADABLE = "{path} is not a readable shelf entry: {error}"

# templates/shelf/index.py
INDEX_UNUSABLE = "{path} cannot be used: {reason}; nothing was changed"
INDEX_LOCKED = "another command has locked {path} for {wait_seconds:.0f} s: wait until it ends"
INDEX_DAMAGED = (
    "{path} is damaged ({reason}): build it again with zeroseal shelf rebuild --shelf {folder}"
)
WRITTEN_BY_NEWER_VERSION = (
    "{path} was written by a newer version: update zeroseal, or build it again with zeroseal "
    "shelf rebuild --shelf {folder}"
)

# templates/shelf/intake.py
DISK_NEEDS_OTHER_FILES = (
    "{image} needs {other_files} too: give the shelf a disk that is complete in one file"
)
VERSION_TAKEN = "the shelf already has {name}@{version}: choose another --version"
SHELF_NEEDS_SEALED = "{image} is {verdict}, but the shelf accepts only sealed images: {reason}"
COPY_DOES_NOT_READ_BACK = (
    "the copy of {image} does not read back correctly: the disk may be failing"
)
SAME_DISK_ON_SHELF = "the shelf already has the same disk as {title}"

# templates/shelf/shelf.py
NO_SUCH_TEMPLATE = "the shelf {folder} has no template {wanted}{why}; it contains {titles}"
CLONES_DEPEND_ON_TEMPLATE = (
    "{title} is needed by {name_clones}: make them full clones with zeroseal clone --make-full, "
    "remove the records of deleted clones with zeroseal shelf forget, or name each one with "
    "--despite"
)
JUST_REMOVED_FROM_SHELF = "{title} was just removed from the shelf"
NOT_FOLDER = "{folder} is not a folder: name the shelf's folder with --shelf"
TEMPLATE_NAME_TAKEN = "the shelf already has templates named {new_name}"

# templates/shelf/sync.py
ONE_SHELF_TWICE = "{folder} is named twice: name the shelf to copy from and another one"

# templates/windows_clone.py
COMPUTER_NAME_TOO_LONG = (
    "{host_name} is too long for a Windows computer name: use up to {most_name} letters, digits "
    "and -"
)
SETTING_NOT_FOR_WINDOWS = (
    "{name} needs {wrong}, which cannot be set on a Windows guest: leave that out, and use DHCP"
)
SETTING_NEEDS_SETUP = (
    "{name} needs {wanted}, which only setup can do, but {title} is not resealed: leave that out, "
    "or reseal the reference machine with Windows' own generalize pass"
)
NO_REISSUE_FOR_RESEALED = (
    "{title} was resealed, so the next start of {name} creates its own security identifier: leave "
    "out --reissue-sid"
)
ACCOUNT_NEEDS_PASSWORD = (
    "{name} needs the account {blank}, which has no password: set one with a secret"
)
REPLACES_ANSWER_FILE = "its answer file replaces the template's {path}"

# templates/renew.py, what failed
PUT_BACK = "{message} (the disk of {name} is as it was before)"

# templates/addresses.py
RANGE_FORM = "a range of addresses is FIRST-LAST/PREFIX, such as 192.0.2.40-192.0.2.60/24"
RANGE_ENDS_BEFORE_ITS_START = "the range ends before it begins"
RANGE_LEAVES_ITS_NETWORK = "the range ends at {last}, which is not in its network {network}"
RESERVED_IN = "reserved in {path}"
RESERVATIONS_TOO_LARGE = "{path} is too large to be a file of reservations"
RESERVATIONS_NOT_FOUND = "the file of reservations {path} was not found"
NO_FREE_ADDRESS = (
    "no free address is left in {ranges} for {name}: give a larger range, or remove machines that "
    "are no longer needed"
)

# templates/clone.py: --new-volume-ids
NEW_VOLUME_IDS = "the disk has {count} new identities of partitions and volumes{named}"
NEW_IDS_NAMED_IN = ", changed in {places} too"
OLD_IDS_RECORDED = "{places} still record identities of the template\u2019s volumes"

# templates/clone_check.py: read_back
NOT_WRITTEN_AS_ASKED = "the disk of {name} was read again and differs from what was asked: {wrong}"

# templates/clone_growth.py
GROWTH_NEEDS_SIZE = (
    "the disk of {name} is as large as the template's: --grow-file-system and --move-swap need "
    "--disk-size"
)
FILE_SYSTEM_NOT_GROWN = (
    "{name} has a file system of kind {kind}, which is not grown here: leave out "
    "--grow-file-system and let the guest grow it"
)
NO_ROOM_BEHIND_ROOT = (
    "the root file system on {name} has gained no room: something lies behind it on the disk, or "
    "the disk is not larger than the template's (--disk-size); swap at the end is moved with "
    "--move-swap"
)
GROUP_NEEDS_NEW_IDS = (
    "{name} gets another name of its volume group only with new volume identities: give "
    "--new-volume-ids or new_volume_ids too"
)

# templates/clone.py: the room of a larger disk
SWAP_MOVED = "swap was moved to the end of the larger disk"
ROOT_GROWN = "the root file system was grown and uses the larger disk from the first start on"
