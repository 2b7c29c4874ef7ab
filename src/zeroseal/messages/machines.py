"""Messages about machines, hosts, build sheets and media."""

# machines/adopt.py
NOT_VALID_MACHINE_NAME = (
    "{name!r} is not a valid machine name: use a-z, 0-9 and -, at most 63 characters"
)
DEVICE_WAS_ADDED = "somebody plugged {device} into its domain while it ran"
DEVICE_WAS_TAKEN = "somebody took {device} out of its domain while it ran"
NO_SUCH_DOMAIN = "{connection} has no domain {name!r}; it has {names}"
DOMAIN_RUNS = "the domain {name} runs: shut it down first (virsh shutdown {name})"
DOMAIN_SLEEPS = (
    "the domain {name} has a saved memory, so that its disk is in the middle of something: start "
    "it and shut it down, or remove that (virsh managedsave-remove {name})"
)
DOMAIN_HAS_SNAPSHOTS = (
    "the domain {name} has snapshots ({snapshots}), which keep earlier states of its disk: delete "
    "them first (virsh snapshot-delete), or adopt a copy of the disk"
)
DOMAIN_DISK_ELSEWHERE = (
    "the disk {path} of the domain {name} is not on this computer: run this on the computer of "
    "{connection}, or copy the disk and adopt it with --machine"
)
FURTHER_DISK_NOT_FOUND = (
    "the definition names a further disk, {path}, that was not found: put it there, or take it out "
    "of the definition"
)
DISK_NEEDS_OTHER_FILES = (
    "{image} needs {other_files} too: adopt a copy that is complete in one file"
)

# machines/blueprint.py
MAC_ADDRESS_ALREADY_USED = "the MAC address {mac} is already used by another machine of {folder}"

# machines/build.py
EXISTING_FOLDER_NOT_OF_SHEET = (
    "{folder} already exists and was not built from this sheet: choose another machine.name, or "
    "remove it first"
)
RUNNING_MACHINE_NOT_REBUILT = (
    "{name} is running and would be built again: stop it first with zeroseal yard stop {name}"
)
SIMULATED_HOST_CANNOT_INSTALL_SYSTEM = (
    "the simulated host cannot install a system: give a base disk, or use QEMU"
)
NO_BUILD_ACCOUNT_WITH_KEY = (
    "{name} has no build account with a key: give its sheet a user with throwaway = true, or "
    'connect.by = "agent"'
)
IN_PHASE = "in the phase {name!r}: {message}"

# machines/definition.py
NO_SEED_MEDIUM_ATTACHED = "{name} has no seed medium attached"
ALREADY_EXISTS = "{folder} already exists: choose another name, or remove it first"
MACHINE_FILE_NOT_FOUND = "the machine file {path} was not found"
MACHINE_FILE_KEY_WRONG = "{path} is not a readable machine file: key {key}"
MACHINE_FILE_UNREADABLE = "{path} is not a readable machine file: {error}"
ANOTHER_VERSION = "it has another version"

# machines/definition_files.py
DOES_NOT_DESCRIBE_MACHINE = (
    "{path} does not describe a machine: give a libvirt domain, an OVF or machine.toml"
)
NOT_MACHINE_DEFINITION = "{path} is not a machine definition: it is too large or has a DOCTYPE"
MACHINE_DEFINITION_NOT_FOUND = "the machine definition {path} was not found"
NOT_VALID_XML = "{path} is not valid XML: {error}"

# machines/definition_writers.py
FORMAT_NOT_KNOWN = "the format {kind!r} is not known: choose from {kinds}"
LINKED_CLONE_HAS_NO_OVF = (
    "{name} is a linked clone, but OVF describes complete disks only: make it a full clone first "
    "with zeroseal clone --make-full"
)

# machines/domain_xml.py
NOT_COMPLETE_DOMAIN = "{where} is not a complete domain: it has no name or no devices"
NO_DISK_FILE_OR_DEVICE = "{where} has no disk that is a file or device"
DOES_NOT_GIVE_MACHINE_MEMORY_SIZE = "{where} does not give the machine's memory size"
MEMORY_IN_UNKNOWN_UNIT = "{where} has memory in the unknown unit {memory!r}"

# machines/hosts/choose.py
HOST_NOT_KNOWN = "the host {name!r} is not known: choose {host_names}"

# machines/hosts/qemu/agent.py
GUEST_AGENT_DID_NOT_ANSWER_WITHIN = "the guest agent did not answer within {within_seconds} s"
GUEST_DID_NOT_RESTART_WITHIN = "the guest did not restart within {within_seconds} s"
DID_NOT_END_IN_TIME = "it did not end in time"
GUEST_AGENT_REFUSED = "the guest agent refused: {reason}"
GUEST_AGENT_CHANNEL_CLOSED = "the guest agent's channel is closed"
GUEST_AGENT_SENT_INVALID_ANSWER = "the guest agent sent an invalid answer"
AGENT_CONNECTION_FAILED = "the connection to the guest agent is lost: {error}"
AGENT_CONNECTION_LOST = "the connection to the guest agent is lost"
GUEST_AGENT_DOES_NOT_ANSWER = "the guest agent does not answer"

# machines/hosts/qemu/command.py
DEVICE_NOT_PROVIDED = (
    "{name} has the device {device!r}, which QEMU does not provide: remove it from the machine's "
    "devices"
)
QEMU_CANNOT_RUN_DISK_OF_FORMAT = "QEMU cannot run a disk of the format {name}: export it first"
QEMU_NO_NETWORK_CARD = "QEMU has no network card {model!r} for {name}"

# machines/hosts/qemu/host.py
GUEST_NOT_STABLE_IN_TIME = (
    "{name} did not reach a stable state within {within_seconds} s; its console ended with: "
    "{last_line}"
)
QEMU_MONITOR_DID_NOT_ANSWER = "QEMU's monitor did not answer for {name}: {log_tail}"
ALREADY_RUNNING = "{name} is already running"
NOT_RUNNING = "{name} is not running"
STARTING_QEMU = "starting QEMU in"
STARTING_TPM = "starting swtpm in"
INSTALL_SWTPM = "install it (Debian: apt-get install swtpm), or leave out tpm"
TPM_DID_NOT_START = "swtpm did not start the TPM of {name}: {log_tail}"
QEMU_DID_NOT_START = "QEMU did not start {name}: {log_tail}"
QEMU_DID_NOT_START_IN_TIME = "QEMU did not start {name} in time: {log_tail}"
MEDIUM_NOT_FOUND = "the medium {path} was not found: put it back, or detach it from {name}"
QEMU_ENDED_WHILE_IN_USE = "QEMU ended while {name} was in use: {log_tail}"
CONSOLE_ENDED = "{message}; the console ended with: {line}"
ENDED_BY_ITSELF = "{name} ended by itself: {message}"

# machines/hosts/qemu/monitor.py
MONITOR_CONNECTION_FAILED = "the connection to the machine is lost: {error}"
MACHINE_MONITOR_DOES_NOT_ANSWER = "the machine's monitor does not answer"
MACHINE_MONITOR_REFUSED = "the machine's monitor refused: {error}"
MONITOR_CONNECTION_LOST = "the connection to the machine is lost"

# machines/hosts/qemu/programs.py
NO_UEFI_FIRMWARE_FOR_QEMU_FOUND = (
    'no UEFI firmware for QEMU was found: {way_out}, or use firmware = "bios"'
)
NOT_FOUND_ON_PATH = "{program} was not found on the PATH: {way_out}"

# machines/hosts/simulated.py
SSH_DID_NOT_COME_UP_WITHIN = (
    "SSH did not come up within {within_seconds} s; the console ended with: {last_line}"
)
SIMULATED_HOST_DIED_WHILE_STARTING = "the simulated host died while {name} was starting"

# machines/hosts/ssh.py
SSH_LOGIN_NOT_POSSIBLE = "SSH as {account} did not come up within {within_seconds} s ({reason})"
CANNOT_BE_WRITTEN_IN_GUEST = "{target} cannot be written in the guest: {answer}"
SSH_CONNECTION_LOST = "the connection to the guest is lost"
SSH_CONNECTION_FAILED = "the connection to the guest is lost: {error}"

# machines/media.py
MEDIUM_DOES_NOT_READ_BACK = "{target} does not read back as it was written"
NOT_READABLE_MEDIUM = "{path} is not a readable medium: {error}"
NOT_SEED_MEDIUM = "{path} is not a seed medium: it has no {error}"

# machines/origin.py
CHECKSUM_LINE_MISSING = "{path} has no SHA-256 or SHA-512 line for {name}: correct origin.checksums"
BASE_DISK_NEEDS_OTHER_FILES_TOO = (
    "the base disk {base} needs other files too: give a disk that is complete in one file"
)
BASE_DISK_NOT_FOUND = "the base disk {base} was not found: correct origin.base_disk in the sheet"
NOT_DISK_THAT_SHEET_NAMES = (
    "{base} is not the disk that the sheet names: its {kind} is {actual}; fetch it again, or "
    "correct the checksum in the sheet"
)

# machines/ovf.py
DESCRIBES_SEVERAL_MACHINES = "{where} describes {systems} machines, but must describe one"

# machines/readiness.py
BUILD_FAILED = "Its build did not succeed: {unfinished}."
MACHINE_RUNS = "The machine is running: shut it down first."
MEDIUM_IN_DRIVE = "A drive holds {path}: {kind}; detach it."
DISK_NOT_JUDGED = "Its disk cannot be examined: {message}."

# machines/seed.py
SEED_MEDIUM_NO_READABLE_SEED = "the seed medium has no readable seed: {error}"

# machines/sheet/load.py
SEVERAL_VARIANTS = "{path} has several variants ({names}): name one with --variant"
INCLUDES_TOO_DEEP = "{path} includes itself, or includes files too deeply"
INCLUDE_NOT_A_LIST = "{path}, line {lines}: include is not a list of files"
SET_WITHOUT_VALUE = "--set {word} is not valid: write --set KEY=VALUE"
VARIANT_NOT_A_TABLE = "{path}: write each variant as a table, [variant.NAME]"
NOT_FOUND = "{path} was not found: correct {key} in {sheet}"
CANNOT_READ_BUILD_SHEET = "cannot read the build sheet {path}: {reason}"
BUILD_SHEET_NOT_VALID_TOML = "the build sheet {path} is not valid TOML: {error}"
NO_VARIANTS = "{path} has no variants: leave out --variant"
NO_VARIANT = "{path} has no variant {name!r}; its variants are {variants}"
SHEET_KEY_WRONG = "{messages}: {key} is wrong: {reason}{hint}"
SET_WITH_UNKNOWN_KEY = "--set {word} is not valid: the key {key!r} is not known"

# machines/sheet/model.py
ADDRESS_WITHOUT_PREFIX = "write the address with its prefix, such as 192.0.2.10/24"
GIVE_EITHER_NAME_OR_NUMBERS = "give either a name or numbers"
ORIGIN_REQUIRED = "give either a base_disk, or an install medium or kernel"
CHECKSUM_REQUIRED = "a base_disk needs one of sha256, sha512 and checksums"
SECURE_BOOT_NEEDS_UEFI = 'secure_boot needs firmware = "uefi"'
ANSWERS_NEED_INITRD = 'answers with place = "initrd" need the initrd that they are added to'
INSTALLER_STUCK = "{reason}; {place}"
INSTALLER_STAGE = "it was at stage {number}, {stage!r}"
INSTALLER_NO_STAGE = "it had not named any stage on its console"
INSTALLER_ASKS = (
    "the installer asks a question that nobody answers: {question!r} (put the answer into the "
    "answer file)"
)
INSTALLER_LOOPS = (
    "the installer repeats the same stages: see the end of its console, and correct the answer file"
)
INSTALLER_HAS_NO_ROOM = "the installer has no room left: {line!r} (give the machine more disk_mib)"
INSTALLER_IS_IDLE = (
    "the installer wrote nothing to its console and used no disk for {seconds} s "
    "(origin.install_quiet_seconds)"
)
INSTALLER_DOES_NOT_END = "the installer did not end within {seconds} s (origin.install_seconds)"
HOST_HAS_NO_ROOM = "no space is left for the disk of {name}: free some in {folder}"
INITRD_NEEDS_KERNEL = "an initrd needs a kernel"
GIVE_OUTPUT_OR_STATUS = "give output or status"
TASK_ACTION_REQUIRED = "give exactly one of run, script, copy, reboot and wait_seconds"
UNTIL_NEEDS_RUN_OR_SCRIPT = "only run and script can be repeated with until"
SSH_ACCOUNT_REQUIRED = "tasks over SSH need one account in seed.users with admin and throwaway"

# machines/sheet/secret_values.py
OTHER_USERS_CAN_READ_SECRETS = "other users can read the secrets in {path}: run chmod 600 {path}"
SECRET_NOT_TEXT = "the secret {wrong!r} in {path} is not a text: write it in quotes"
SECRET_NOT_FOUND = (
    "the secret {name!r}, which {key} refers to, was not found: give it in a file with --secrets, "
    "or as {environment_prefix}{variable}"
)
CANNOT_READ_SECRETS = "cannot read the secrets in {path}: {reason}"
SECRETS_NOT_TOML = "the secrets in {path} are not valid TOML"

# machines/simulated_use.py
FILE_OWNER_NOT_AN_ACCOUNT = "the sheet's file {path} belongs to {owner!r}, which is not an account"

# machines/snapshots.py
STOP_MACHINE_FIRST = "{name} is running: stop it first with zeroseal yard stop {name}"
DISK_CANNOT_KEEP_SNAPSHOTS = (
    "a {format_name} disk cannot keep snapshots: export {disk} to qcow2 and adopt that"
)
NO_SNAPSHOT = "{name} has no snapshot {snapshot!r}; it has {names}"
CANNOT_BE_CHANGED = "{disk} cannot be changed"
SNAPSHOTS_UNREADABLE = "{path} is not readable: {error}"

# machines/tasks.py
TASK_ENDED_WITH_STATUS = "it ended with status {status}"
WORK_LEFT_AFTER_RUNS = "after {bound} runs there is still work left"
COMMAND_ENDED_WITH_STATUS = "{what}: {redact!r} ended with status {status}"

# machines/trial.py
ONLY_SEALED_IMAGES_CAN_BE_TRIED = (
    "{image} is {verdict}, but only sealed images can be tried: {reason}; seal it first, with "
    "zeroseal seal {image} -o OUT"
)
CHANGED_DURING_TRIAL = "{image} was changed by another program during the trial: try again"
LEARN_IS_FOR_LINUX = (
    "{image} holds a Windows guest, and learning compares Linux guests only: use zeroseal trial "
    "{image} --host simulated"
)
GUEST_HAS_NO_ADDRESS = "it has no address yet"
LIBVIRT_REFUSED = "{connection} refused: {reason}"
DOMAIN_IS_THERE = (
    "{connection} already has a domain {name} ({uuid}): give the machine another name, or "
    "undefine that domain"
)
DOMAIN_ENDED_WHILE_IN_USE = "the domain of {name} ended while it was in use"
WINDOWS_TRIAL_IS_SIMULATED = (
    "{image} is a Windows guest, which can be tried on the simulated host only: use --host "
    "{label}; docs/windows-first-start.md describes a real first start"
)

# machines/yard.py
NO_SUCH_MACHINE = "the yard {folder} has no machine {name!r}; it contains {names}"
NO_MACHINE_NUMBER_LEFT = (
    "the yard {folder} has a machine for every number from {first} to {last} of {prefix}: widen "
    "the range, or remove one"
)
MACHINE_STATE_UNREADABLE = "{path} is not readable"
NOT_FOLDER = "{folder} is not a folder: name the yard's folder with --yard"
MACHINE_LOCKED = "another command is working on {name} in {folder}: wait until it ends"
NO_FREE_ADDRESS = "the simulated network {network} has no free address"
