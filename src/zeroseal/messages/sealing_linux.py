"""Remarks on Linux guests: what clones get, and what to solve before a seal."""

# sealing/linux/first_boot.py
PLANT_FIRST_BOOT_NEEDS_SYSTEMD = (
    "--plant-first-boot needs systemd or OpenRC, and the guest has neither: leave the option out "
    "and keep the host keys, or use --expect-seed"
)
PLANT_FIRST_BOOT_NEEDS_SHELL = (
    "--plant-first-boot needs a shell in the guest, and /bin/sh was not found: leave the option "
    "out and keep the host keys, or let every clone get a seed"
)

# sealing/linux/guard.py
NO_LOGIN_LEFT = (
    "nobody could log in to a clone: no account with a password or key stays, and {why_unseeded}. "
    "{ways_in}"
)
NO_HOST_KEYS_LEFT = (
    "clones would have no SSH host keys, because nothing in the guest creates new ones: "
    "{planting}use --skip keys.ssh-host to let all clones share the old keys"
)
NO_NETWORK_LEFT = (
    "clones would have no network, because {why}: {planting}configure the network on the "
    "reference machine{seeded}"
)
NO_GROWTH_LEFT = (
    "clones with a larger disk would not use the space, because nothing in the guest grows the "
    "root file system: {planting}install a tool that grows it on the reference machine (growpart "
    "or sfdisk, and resize2fs or xfs_growfs), or use --same-size-clones if no clone's disk will "
    "be larger"
)
LOGIN_BY_CLOUD_INIT = "Login: cloud-init is enabled and creates the accounts of the clone's seed."
LOGIN_BY_EXPECTED_SEED = "Login: every clone gets a seed (--expect-seed)."
NO_SSH_SERVER = "SSH host keys: the guest has no SSH server."
HOST_KEYS_KEPT = "SSH host keys: they are kept."
HOST_KEYS_BY_PLANTED_SCRIPT = "SSH host keys: the planted first-boot script creates new ones."
HOST_KEYS_BY_UNIT = "SSH host keys: {unit} is enabled and creates new ones."
HOST_KEYS_BY_UNIT_WITH_SEED = "SSH host keys: {unit} creates new ones when the clone gets its seed."
HOST_KEYS_NEED_SEED = (
    "clones without a seed would have no SSH host keys, because only {unit} creates new ones, and "
    "only with a seed: {planting}use --expect-seed if every clone gets a seed"
)
NETWORK_BY_INTERFACES = "Network: /etc/network/interfaces configures it."
NETWORK_BY_UNIT = "Network: {unit} is enabled and requests an address."
NETWORK_BY_SEED = "Network: it is configured from the clone's seed."
GROWTH_NOT_NEEDED = "Larger disks: every clone's disk has the same size as the template's."
GROWTH_BY_SERVICE = "Larger disks: {grower} grows the root file system."
NETWORK_BY_FILE = "Network: {path} configures it."

# sealing/linux/readiness.py
HALF_INSTALLED_PACKAGES = (
    "{count} packages are only partly installed ({packages}): start the machine and let the "
    "package manager finish them (dpkg --configure -a, or dnf remove --duplicates)."
)
HOMED_ACCOUNTS = (
    "systemd-homed manages the accounts {names} and their homes, which are not examined: remove "
    "them on the reference machine (homectl remove)."
)
DISK_MUCH_LARGER = (
    "The disk has {size}, of which {used} are used: clones may not need so large a disk."
)
SERVICE_RUNS_AS_PERSON = (
    "{services} runs as {name}, an account in the human range that would be removed: keep it with "
    "--retain-account {name}, or use --remove-account {name}."
)
OLDER_KERNEL_BOOTS = "The kernel {default} boots by default, although {kernels} is installed."
SEVERAL_KERNELS = "{count} kernels are installed; the older ones are {older}."
RESTART_DUE = "The package manager requested a restart that has not taken place."
NO_GUEST_AGENT_INSTALLED = (
    "No guest agent is installed: hosts cannot ask the clones for their addresses."
)
SSH_SERVER_INSTALLED_NOT_ENABLED = "The SSH server is installed but not enabled."
SECURITY_STATE = "On clones {parts}, as on this machine."
CLOUD_INIT_DISABLED = "cloud-init is installed but disabled ({off_by}): clones do not read a seed."
INSTALLATION_MEDIUM_AS_SOURCE = (
    "/etc/apt/sources.list refers to the installation medium, which clones do not have."
)
CD_DRIVE_IN_FSTAB = "/etc/fstab mounts a CD drive, which clones may not have."
NO_SERIAL_CONSOLE = (
    "The kernel does not write to a serial console: a host without a screen shows nothing of it."
)
SNAPD_IDENTITY = (
    "snapd keeps one device identity in /var/lib/snapd/state.json, which all clones share."
)
SHARED_SNAKEOIL_CERTIFICATE = (
    "All clones will share the self-signed certificate of this machine "
    "(/etc/ssl/certs/ssl-cert-snakeoil.pem): with --plant-first-boot each clone creates its own."
)
DATABASES_STAY = (
    "The data of {names} stay: clones share their identifiers, accounts and rows, and "
    "replication between clones breaks. Empty or rebuild them on each clone."
)
DATABASE_NAMED_AFTER_HOST = (
    "{path} is named after the host: on a clone with another name RabbitMQ starts with an empty "
    "database."
)
STORAGE_TARGETS = (
    "iSCSI targets stay ({paths}): every clone may log in to the same storage, and two that "
    "mount one volume destroy it. Remove them (iscsiadm -m node -o delete) or restrict them at "
    "the storage."
)
FIXED_NAME_SERVERS = (
    "/etc/resolv.conf sets the name servers ({fixed}) until DHCP or a seed sets others."
)
VOLUME_NAMED_AFTER_HOST = (
    "{named} has the host name in its own name, and every clone would have it: rename it in the "
    "guest (vgrename or lvrename, then boot loader, /etc/fstab and initramfs), or accept it in "
    'the house rules (allow.residue = ["{places}"] and the files that name it).'
)
SIGNED_BOOT_IMAGE = (
    "{path} is a boot image with {list} of this machine inside, and cannot be changed without "
    "breaking its signature: build it again without them, remove it, or accept it in the house "
    "rules (allow.residue)."
)
STATIC_ADDRESS = (
    "{path} gives the machine the static address {addresses}, which every clone would take: use "
    "--to-dhcp to let clones use DHCP, or --allow-static-address."
)
VERSION_HISTORY = (
    "{path} is a version history that still holds what the seal removes from its files: use "
    "--restart-history to remove it (where etckeeper is installed, it starts again on a clone's "
    'first boot), or keep it by the house rules (readiness.advice = ["version-history"]).'
)
SNAPSHOTS_STAY = (
    "{count} {what} ({paths}). A snapshot is an earlier state of the machine and keeps all that a "
    "seal removes: use --drop-snapshots to remove it, or --seal-snapshots to treat it like the "
    "machine itself."
)
SNAPSHOTS_DROPPED = (
    "Snapshots: {count} {what} ({paths}) removed. Clones cannot go back to such a state; the "
    "source still has it."
)
SNAPSHOTS_SEALED = (
    "Snapshots: {count} {what} ({paths}) treated like the machine. A clone that goes back to one "
    "has no identity then; a script for the first boot is not planted there."
)
HIBERNATED_SYSTEM = "{path} holds a hibernated system: start the machine and shut it down."
JOINED_DOMAIN = (
    "The machine has joined a domain ({path}), and clones cannot take its place: leave the domain "
    "on the reference machine and let each clone join (realm leave, net ads leave)."
)
NO_SSH_SERVER_INSTALLED = "No SSH server is installed."
START_MARKER = (
    "{path} makes the next start ask questions or take longer: remove it if clones should start "
    "unattended."
)
NO_FALLBACK_LOADER = (
    "Clones with UEFI do not start: this machine's firmware starts {started}, by an entry in its "
    "own variables; {esp}/EFI/BOOT, where the firmware of a clone looks, has no loader. {way}"
)
TPM_IN_CRYPTTAB = (
    "/etc/crypttab opens a volume with the TPM of this machine: clones have another TPM and will "
    "ask for a password when they start."
)
SEALED_CREDENTIAL = (
    "{path} is an encrypted credential: where it is sealed to this machine or its TPM, no clone "
    "can read it."
)
PLANT_LOADER = "Use --plant-fallback-loader, which copies it there."
INSTALL_LOADER = "On the machine, run grub-install --force-extra-removable."
ONLY_BIOS_LOADER = (
    "{esp}/EFI/BOOT has no loader: machines with UEFI do not start from this disk, those with BIOS "
    "do."
)
NO_ROOM_FOR_LOADER = "{message}: free {size} in {folder} for a copy of its loader"
NO_LOADER_TO_COPY = (
    "--plant-fallback-loader does not know which file in {esp}/EFI starts this guest: run "
    "grub-install --force-extra-removable on the machine"
)
CONTAINER_FILES = "{folder} has {files} files ({size_text}) of containers, which stay."
PROXY_PASSWORD = "{path} configures a proxy with a password, which stays."
