"""Messages of the command line: options that do not go together, and what is missing."""

# cli/cmd_build.py
SAME_MACHINE_FROM_TWO_SHEETS = (
    "two of the sheets or variants create the machine {twice}: give them different names"
)

# cli/cmd_check.py
AGAINST_NEEDS_DEEP = "--against needs --deep: values are searched for at that level only"
FILE_NEEDS_LEVEL_FULL_OR_DEEP = (
    "--file needs level full or deep of an image: only these read the whole file"
)
STRICT_NEEDS_LEVEL_FULL_OR_DEEP = (
    "--strict needs level full or deep: a quick check looks for nothing"
)
CANARIES_NEED_DEEP = "--canaries needs --deep: texts are searched for at that level only"
TREE_HAS_ONE_LEVEL = "a tree can be checked at level full only: leave out --level"

# cli/cmd_clone.py
TEMPLATE_REQUIRED = "name the template: an image, or NAME[@VERSION] on the shelf"
MAKE_FULL_ALONE = "--make-full creates no new clones: leave out TEMPLATE, --name and --sheet"
GIVEN_IN_CLONE_SHEET = "--{word} is given in the clone sheet: leave out the option or the sheet"

# cli/cmd_export.py
MACHINE_NEEDS_CPU_AND_MEMORY = "a machine needs at least 1 CPU and 1 MiB of memory"
INVALID_OVA_MACHINE_NAME = "{name!r} is not a valid machine name in an OVA"
SIGNED_MANIFEST_NEEDS_OVA = "--sign-key and --certificate are for --format ova"
SIGN_KEY_NEEDS_CERTIFICATE = "--sign-key and --certificate must be given together"

# cli/cmd_renew.py
KEEP_TOO_SMALL = (
    "--keep must be at least 1: the snapshot of this renewal is needed for the way back"
)
NOT_BUILT_FROM_SHEET = "{name} was not built from a sheet: give one with --sheet"

# cli/cmd_seal.py
SEAL_NEEDS_OUTPUT = (
    "name the new image with -o OUT, seal the image itself with --in-place, or show the plan with "
    "--dry-run"
)
NTFS_IN_PLACE_NEEDS_IN_PLACE = "--ntfs-in-place needs --in-place"
JOURNAL_TO_NEEDS_IN_PLACE = "--journal-to needs --in-place"
TREE_SEAL_NEEDS_OUTPUT = (
    "name the new archive with -o OUT.tar, or change the folder itself with --in-place"
)
DRAFT_RULES_NEEDS_REHEARSE = "--draft-rules needs --rehearse"
ALREADY_EXISTS = "{path} already exists: choose another name, or remove it first"
SEVERAL_IMAGES_ONE_OUTPUT = "-o names one file: for several images, name a folder with --to DIR"
SEVERAL_IMAGES_ONE_MACHINE = "--machine describes one machine: seal its image separately"
SEVERAL_IMAGES_NEED_FOLDER = (
    "name the folder for the new images with --to DIR, or seal the images themselves with "
    "--in-place"
)
FOLDER_NOT_FOUND = "the folder {to} was not found: create it first"
NOT_WITH_IN_PLACE = "--in-place seals IMAGE as it is, and cannot be combined with {wrong}"
NOT_WITH_REHEARSE = "--rehearse is for the seal of one image, and cannot be combined with {wrong}"

# cli/cmd_schema.py
SCHEMA_NOT_KNOWN = "the schema {name!r} is not known: the schemas are {names}"

# cli/cmd_shelf.py
FORMAT_NOT_KNOWN = "the format {format!r} is not known: choose from {formats}"
VERSION_REQUIRED = "give the version too: {template}@VERSION"
NOT_A_BUNDLE = (
    "{file} is not a bundle written by shelf export: if it is a sealed disk, name it with --as "
    "NAME@VERSION"
)

# cli/cmd_traces.py
NOT_WITH_MARKDOWN = "--markdown prints the catalogue, and cannot be combined with --json or --on"
FAMILY_NOT_KNOWN = "the family {family!r} is not known: the families are {families}"

# cli/cmd_yard.py
NO_CONSOLE_ON_SIMULATED_HOST = "{name} is on the simulated host, which has no console"
MACHINES_OR_BATCH_REQUIRED = "name the machines to remove, or their batch with --batch"
MACHINE_NAME_REQUIRED = "give the machine a name with --name"
NO_MACHINES_OF_BATCH = "the yard {yard} has no machines of the batch {batch}"
TEMPLATE_STAYS_ON_SHELF = "a template stays on the shelf: leave out --in-place"
ALREADY_RUNNING_ON_HOST = "{name} is already running on the host {host}"

# cli/image_arguments.py
IMAGE_REQUIRED = "name at least one image"
FOLDER_HAS_NO_DISK_IMAGE = (
    "the folder {path} has no disk image: name the images, or a folder with files that end in "
    "{suffixes}"
)
GIVEN_TWICE = "{path} is given twice"

# cli/cmd_check.py: --gate
NO_GATE_IN_FILE = "{path} has no rule in [gate]: see examples/gate.toml for one"

# cli/cmd_check.py: many images
CHANGED_NEEDS_STATE = "--changed needs --state FILE, where an earlier run kept its answers"
WATCH_NOT_WITH = "--watch goes on by itself, and cannot be combined with {wrong}"
WATCH_TIMES_TOO_SHORT = "--every and --again-after must be more than 0"

# cli/cmd_contents.py
IMAGE_OR_ROOT = "name an image, a template of the shelf as NAME[@VERSION], or a tree with --root"

# cli/cmd_shelf.py: sync
NO_SHELF_THERE = "there is no shelf at {folder}: name the folder of an existing one as FROM"

# cli/many.py

# cli/options.py
AS_IF_WRONG = (
    "everything after --as-if must be a choice of zeroseal seal, and {problem}; put the options of "
    "the survey itself before --as-if"
)
NOT_WITH_ROOT = "--root names one tree, and cannot be combined with {wrong}"

# cli/signing_options.py
KEY_NEEDS_PASSPHRASE = "the key {sign} has a passphrase: give it with --passphrase-from FILE"
PASSPHRASE_FROM_NEEDS_SIGN = "--passphrase-from needs --sign"
CANNOT_BE_READ = "{passphrase_from} cannot be read ({error})"

# cli/settings.py
SETTINGS_OF_ANOTHER_USER = (
    "the settings file {path} belongs to another user, who could choose what a seal accepts: "
    "remove it, or make it yours"
)
SETTING_WRONG = "{where} is wrong: {reason}"

# cli/ui.py
CONFIRM_WITH_YES = "{what} Confirm with --yes"
WRONG_NAME_TYPED = "that is not its name: nothing was changed"

# demo/scenario.py
FOLDER_NOT_EMPTY = "{folder} is not empty: name an empty or a new folder with --to"

# cli/time_window.py
NOT_A_TIME = (
    "{option} {text!r} is not a time: give HH:MM, or a date with a time, such as 2026-12-05T22:30"
)
WINDOW_EMPTY = "--until {until} is not after the time at which the first machine may be started"
WINDOW_ENDED = "the time until which machines may be started ended at {until}"

# cli/cmd_renew.py
NAMES_WITH_ALL = "give either names of machines or --all"
NO_MACHINE_TO_RENEW = (
    "no machine was named, and --all found none that was built from a sheet: give the name of a "
    "machine of the yard"
)
ONLY_FOR_ONE_MACHINE = "--template and --sheet are for one machine: leave them out, or renew one"
JOBS_TOO_FEW = "--jobs needs at least 1"

# cli/cmd_yard.py, adopting
IMAGE_OR_DOMAIN = (
    "give either an image, with --machine for its definition, or --domain for a domain of libvirt"
)

# cli/cmd_check.py: --started
STARTED_NEEDS_SHEET = "--started goes with --as SHEET, and --accept with --started"
STARTED_NEEDS_YARD = (
    "--started needs a disk in a yard: its machine file says from which template it was made"
)
