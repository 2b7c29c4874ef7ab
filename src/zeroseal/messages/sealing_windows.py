"""Remarks on Windows guests: what clones get, and what to solve before a seal."""

# sealing/windows/guard.py
NO_LOGIN_LEFT = (
    "nobody could log in to a clone: no account with a password stays, and the system is not "
    "resealed. Use --retain-account NAME, or enable the built-in Administrator with a password in "
    "the guest, or run Windows' own generalize pass on a throwaway copy and seal that"
)
HOST_KEYS_BY_SSHD = "SSH host keys: the service sshd creates missing keys when it starts."
NO_SSH_SERVER = "SSH host keys: the guest has no SSH server."
NO_GROWTH_BY_ITSELF = (
    "A clone's larger disk is not used until its system volume is extended there: Windows does "
    "not do that by itself."
)

# sealing/windows/judge.py
PLANTING_LOADER_IS_FOR_LINUX = (
    "--plant-fallback-loader is for Linux guests: Windows puts its loader where any firmware finds "
    "it; leave the option out"
)
PLANTING_IS_FOR_LINUX = (
    "--plant-first-boot is for Linux guests: Windows creates what is missing by itself, and "
    "clones get an answer file or registry settings; leave the option out"
)

# sealing/windows/readiness.py
GENERALIZE_WOULD_REFUSE = (
    "Windows' own generalize pass would stop on this machine, or change it, because of {reasons}: "
    "solve this first if you use it."
)
PRODUCT_IDS = (
    "The product ID and the product key stay, and all clones have the same: a key in the clone "
    "sheet (product_key) or Windows' own generalize pass replaces them."
)
SERVICE_OF_REMOVED_ACCOUNT = (
    "The service {service} logs in as {account}, which a seal removes: retain the account with "
    "--retain-account {account}, give the service another account in the guest, or confirm with "
    "--remove-account {account}."
)
EVENT_SUBSCRIPTIONS = (
    "Event subscriptions stay ({names}): every clone collects the same events, or sends its own "
    "to the same collector."
)
REDIRECTED_FOLDERS = (
    "Folders of {name} are redirected to {places}, which a seal does not examine: remove them "
    "there."
)
PROFILE_ELSEWHERE = (
    "The profile of {name} is at {place}, outside the system volume: remove the folder there."
)
SERVICE_PROFILES = "Profiles of services stay, without their caches and keys: {names}."
CERTIFICATE_OF_MACHINE = (
    "The certificate {subject} in the store {store}, valid until {day}, names this computer and "
    "stays: remove it in the guest where clones do not need it."
)
UNKNOWN_VERSION = (
    "Build {build} of Windows is not known here: only what the catalogue is certain of is treated, "
    "and its layouts are those of the versions from 7 and Server 2008 R2 to 11 and Server 2025."
)
BUILTIN_PROFILE_GOES = (
    "The profile of {name} is removed like any other and created again at its next logon; its "
    "account and password stay. Keep the profile with --retain-account {name}."
)
BUILTIN_PROFILE_STAYS = "The profile of {name} stays with all that it contains ({reason})."
REMOTE_DESKTOP = "Clones keep Remote Desktop switched {state}, as on this machine."
ACTIVATION = (
    "Activation is not changed: how often it can still be re-armed is in an encrypted store that "
    "is not read here, and only Windows' own generalize pass resets a client's ID."
)
PLAIN_START = (
    "The system is not resealed, and every clone would share its security identifier {sid}: run "
    "Windows' own generalize pass on a throwaway copy and seal that, or replace the identifier "
    "with --reissue-sid."
)
NO_NEW_SID_NEEDED = "A new security identifier is not needed: the next start creates one."
BROKEN_BY_NEW_SID = "A new security identifier breaks: {effects}."
CLONES_SHARE_NEW_SID = (
    "Clones share the template's new security identifier unless each gets its own: zeroseal clone "
    "--reissue-sid."
)
JOINED_DOMAIN = (
    "The machine has joined the domain {domain}, and clones cannot take its place: leave it in "
    "the guest and let each clone join."
)
JOINED_CLOUD = (
    "The machine has joined a cloud directory, and clones would share its registration: leave it "
    "in the guest (dsregcmd /leave)."
)
SERVER_ROLE = "The machine is {role}, which cannot be copied: remove the role in the guest."
WORK_PENDING = (
    "The machine has pending work ({pending}): restart it until none is left, and shut it down."
)
FAST_START = (
    "Fast start is on: Windows hibernates its kernel when it is shut down from the menu. Shut "
    "reference machines down with: shutdown /s /t 0."
)
HOSTS_FILE = "The hosts file has {held}."
SERVICE_PASSWORDS = (
    "The stored passwords of service accounts are removed: {secrets} will not start until the "
    "password is entered again."
)
NO_GUEST_AGENT = "No guest agent is enabled: hosts cannot ask the clones for their addresses."
BOOT_DRIVER_DISABLED = (
    "The driver {boot} is not started at boot: a clone on such a disk does not boot."
)
NO_SSH_SERVER_ENABLED = "No SSH server is enabled."
TIME_ZONE = "Clones keep the time zone {zone}."
SKIP_REARM = "SkipRearm is set: a generalize pass will not re-arm activation."
UNKNOWN_AGENTS = (
    "These agents keep identifiers that are not in the catalogue: {found_agents}; see how each is "
    "prepared for copies."
)
LIKELY_PASSWORDS = "These settings look like passwords, and stay: {places}."
APPLICATION_FOR_ONE_USER = (
    "{count} application{plural} installed for one user only ({list}, of {sid}), which Windows' "
    "own generalize pass refuses: Remove-AppxPackage -AllUsers -Package {package} in the guest "
    "removes it."
)
FIRST_START_NOT_ALLOWED = "The first start is {word}; the house rules allow {allowed}."
STATIC_ADDRESS = (
    "A network card has the static address {addresses}, which every clone would take: use "
    "--to-dhcp to let clones use DHCP, or --allow-static-address."
)
CARD_GUIDS_STAY = "{guids}: many lists refer to it, and a clone's own cards get others"
UNKNOWN_SIDS = (
    "Permissions on {name} refer to {count} security identifier{plural} that no account here has: "
    "{identifiers}."
)
ANSWER_FILE_STAYS = (
    "{path} stays, because the next start reads it, and contains {count}: an answer file of a "
    "clone replaces it."
)
