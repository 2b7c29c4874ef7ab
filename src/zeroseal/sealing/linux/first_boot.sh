#!/bin/sh
# Planted by Zero Seal when the template of this machine was sealed. Runs once, on the first boot:
# makes anew what the seal removed and nothing else here regrows, then removes itself.
# A step that fails is told on the console and tried again on the next boot.
TASKS="@TASKS@"

PATH=/usr/sbin:/usr/bin:/sbin:/bin
export PATH
umask 022
OWN=/etc/zeroseal-first-boot
SEED=/run/zeroseal-seed
failed=

say() { echo "zeroseal-first-boot: $*"; }
have() { command -v "$1" >/dev/null 2>&1; }
wanted() { case " $TASKS " in *" $1 "*) return 0 ;; esac; return 1; }

# -- what the machine is

make_machine_id() {
  [ ! -s /etc/machine-id ] && have dbus-uuidgen || return 0
  say "new machine ID"
  dbus-uuidgen > /etc/machine-id
}

make_host_keys() {
  if have ssh-keygen && [ -d /etc/ssh ]; then
    set -- /etc/ssh/ssh_host_*key
    [ -e "$1" ] || { say "new SSH host keys"; ssh-keygen -A >/dev/null || return 1; }
  fi
  if have dropbearkey; then
    mkdir -p /etc/dropbear
    set -- /etc/dropbear/dropbear_*_host_key
    [ -e "$1" ] || for kind in rsa ecdsa ed25519; do
      dropbearkey -t "$kind" -f "/etc/dropbear/dropbear_${kind}_host_key" >/dev/null 2>&1
    done
  fi
  ! have restorecon || restorecon -R /etc/ssh
}

make_certificate() {
  have make-ssl-cert && [ ! -e /etc/ssl/private/ssl-cert-snakeoil.key ] || return 0
  say "new self-made certificate"
  make-ssl-cert generate-default-snakeoil --force-overwrite
}

make_storage_name() {
  have iscsi-iname && [ -d /etc/iscsi ] && [ ! -e /etc/iscsi/initiatorname.iscsi ] || return 0
  say "new iSCSI initiator name"
  (umask 077; echo "InitiatorName=$(iscsi-iname)" > /etc/iscsi/initiatorname.iscsi)
}

# -- what the seed says: lines of a word and its value, see docs/first-boot.md

open_seed() {
  ! have udevadm || udevadm settle --timeout=10
  for label in cidata CIDATA; do
    device=/dev/disk/by-label/$label
    [ -e "$device" ] || device=$(blkid -L "$label" 2>/dev/null || findfs "LABEL=$label" 2>/dev/null)
    [ -n "$device" ] && [ -e "$device" ] || continue
    mkdir -p $SEED
    mount -o ro "$device" $SEED 2>/dev/null || mount -o ro -t iso9660 "$device" $SEED || continue
    [ "$(head -n 1 $SEED/first-boot 2>/dev/null)" = "zeroseal-seed 1" ] && return 0
    umount $SEED
  done
  return 1
}

take_seed() {
  open_seed || { say "no seed medium"; return 0; }
  account=
  while IFS= read -r line; do
    value=${line#* }
    case ${line%% *} in
      host-name) set_host_name "$value" ;;
      time-zone) [ ! -e "/usr/share/zoneinfo/$value" ] || ln -sf "/usr/share/zoneinfo/$value" /etc/localtime ;;
      account) account=$value; add_account "$account" ;;
      full-name) ! have usermod || usermod -c "$value" "$account" ;;
      key) add_key "$account" "$value" ;;
      password) echo "$account:$value" | chpasswd -e ;;
      admin) make_admin "$account" ;;
      root-password) echo "root:$value" | chpasswd -e ;;
    esac
  done < $SEED/first-boot
  grep -q '^address ' $SEED/first-boot && set_addresses
  umount $SEED
}

set_host_name() {
  say "host name ${1%% *}"
  echo "${1%% *}" > /etc/hostname
  hostname "${1%% *}"
  grep -q "^127.0.1.1" /etc/hosts 2>/dev/null || echo "127.0.1.1 ${1#* } ${1%% *}" >> /etc/hosts
}

add_account() {
  grep -q "^$1:" /etc/passwd && return 0
  say "account $1"
  shell=/bin/sh
  [ ! -x /bin/bash ] || shell=/bin/bash
  if have useradd; then useradd -m -s $shell "$1"; else adduser -D -s $shell "$1"; fi || return 1
  # no password opens it; a lock (!) would also keep keys out where there is no PAM
  echo "$1:*" | chpasswd -e
}

add_key() {
  home=$(sed -n "s/^$1:[^:]*:[^:]*:[^:]*:[^:]*:\([^:]*\):.*/\1/p" /etc/passwd)
  owner=$(sed -n "s/^$1:[^:]*:\([^:]*:[^:]*\):.*/\1/p" /etc/passwd)
  mkdir -p "$home/.ssh"
  grep -qxF "$2" "$home/.ssh/authorized_keys" 2>/dev/null || echo "$2" >> "$home/.ssh/authorized_keys"
  chmod 700 "$home/.ssh"
  chmod 600 "$home/.ssh/authorized_keys"
  chown -R "$owner" "$home/.ssh"
  ! have restorecon || restorecon -R "$home/.ssh"
}

make_admin() {
  if [ -d /etc/sudoers.d ]; then
    (umask 226; echo "$1 ALL=(ALL) NOPASSWD:ALL" > /etc/sudoers.d/90-zeroseal-seed)
  elif [ -d /etc/doas.d ]; then
    echo "permit nopass $1" > /etc/doas.d/zeroseal-seed.conf
  fi
}

# -- the network

cards() { for link in /sys/class/net/*; do [ ! -e "$link/device" ] || basename "$link"; done; }

set_addresses() {
  card=
  mac=$(sed -n 's/^mac //p' $SEED/first-boot)
  for name in $(cards); do
    [ "$(cat "/sys/class/net/$name/address")" != "$mac" ] || card=$name
  done
  [ -n "$card" ] || { say "no network card has the MAC $mac"; return 1; }
  set -- "$(sed -n 's/^address //p' $SEED/first-boot)" "$(sed -n 's/^gateway //p' $SEED/first-boot)" \
    "$(sed -n 's/^name-server //p' $SEED/first-boot)"
  write_network "$card" "$@"
}

ask_dhcp() { for card in $(cards); do write_network "$card" "" "" ""; done; }

# card, addresses, gateways, name servers; without addresses DHCP is asked
write_network() {
  say "network of $1: ${2:-DHCP}"
  if [ -d /etc/NetworkManager/system-connections ]; then
    (umask 077; nm_profile "$@" > "/etc/NetworkManager/system-connections/zeroseal-$1.nmconnection")
  elif have ifup && [ -e /etc/network/interfaces ]; then
    [ -e $OWN/interfaces ] || loopback_stanza > /etc/network/interfaces
    : > $OWN/interfaces
    ifupdown_stanzas "$@" >> /etc/network/interfaces
  elif [ -d /etc/systemd/network ]; then
    networkd_file "$@" > "/etc/systemd/network/05-zeroseal-$1.network"
    have systemctl && systemctl enable systemd-networkd.service >/dev/null 2>&1
  else
    return 1
  fi
}

nm_profile() {
  printf '[connection]\nid=%s\ntype=ethernet\ninterface-name=%s\n' "$1" "$1"
  [ -n "$2" ] || { printf '[ipv4]\nmethod=auto\n[ipv6]\nmethod=auto\n'; return; }
  for version in 4 6; do
    printf '[ipv%s]\n' $version
    number=0
    for address in $(of_version $version "$2"); do
      number=$((number + 1)); echo "address$number=$address"
    done
    [ $number -gt 0 ] && echo method=manual || echo method=auto
    for gateway in $(of_version $version "$3"); do echo "gateway=$gateway"; done
    [ -z "$(of_version $version "$4")" ] || printf 'dns=%s\n' "$(of_version $version "$4" | tr '\n' ';')"
  done
}

of_version() {
  for item in $2; do
    case $item in *:*) [ "$1" = 6 ] && echo "$item" ;; *) [ "$1" = 4 ] && echo "$item" ;; esac
  done
}

loopback_stanza() {
  printf 'source /etc/network/interfaces.d/*\n\nauto lo\niface lo inet loopback\n'
}

ifupdown_stanzas() {
  printf '\nauto %s\n' "$1"
  [ -n "$2" ] || { echo "iface $1 inet dhcp"; return; }
  for version in 4 6; do
    family=inet
    [ $version = 4 ] || family=inet6
    for address in $(of_version $version "$2"); do
      printf 'iface %s %s static\n  address %s\n' "$1" $family "$address"
      for gateway in $(of_version $version "$3"); do echo "  gateway $gateway"; done
    done
  done
  for server in $4; do echo "nameserver $server" >> /etc/resolv.conf; done
}

networkd_file() {
  printf '[Match]\nName=%s\n\n[Network]\n' "$1"
  [ -n "$2" ] || echo DHCP=yes
  for address in $2; do echo "Address=$address"; done
  for gateway in $3; do echo "Gateway=$gateway"; done
  for server in $4; do echo "DNS=$server"; done
}

# -- room on a larger disk

grow_root() {
  device=$(readlink -f "/sys/dev/block/$(mountpoint -d /)")
  if [ ! -d "$device" ]; then # a file system with a device number of its own, such as btrfs
    device=/sys/class/block/$(basename "$(sed -n 's:^\(/dev/[^ ]*\) / .*:\1:p' /proc/mounts | tail -n 1)")
    device=$(readlink -f "$device")
  fi
  if [ -d "$device/dm" ]; then grow_logical "$device"; else grow_partition "$device"; fi || return 1
  name=/dev/$(basename "$device")
  [ ! -d "$device/dm" ] || name=/dev/mapper/$(cat "$device/dm/name")
  case $(sed -n 's:^[^ ]* / \([^ ]*\) .*:\1:p' /proc/mounts | tail -n 1) in
    ext*) resize2fs "$name" >/dev/null 2>&1 ;;
    xfs) xfs_growfs / >/dev/null ;;
    btrfs) btrfs filesystem resize max / >/dev/null ;;
  esac
}

grow_partition() {
  [ -e "$1/partition" ] || return 0
  number=$(cat "$1/partition")
  disk=/dev/$(basename "$(dirname "$1")")
  sectors=$(cat "$1/size")
  if have growpart; then
    growpart "$disk" "$number" >/dev/null 2>&1
  elif have sfdisk; then
    echo ',+' | sfdisk --force --no-reread -q -N "$number" "$disk" >/dev/null 2>&1
    if have partx; then partx -u "$disk"; else partprobe "$disk"; fi 2>/dev/null
  fi
  [ "$(cat "$1/size")" = "$sectors" ] || say "root's partition grew"
}

grow_logical() {
  have lvm || return 0
  for below in "$1"/slaves/*; do
    below=$(readlink -f "$below")
    grow_partition "$below"
    lvm pvresize "/dev/$(basename "$below")" >/dev/null
  done
  lvm lvextend -q -l +100%FREE "/dev/mapper/$(cat "$1/dm/name")" >/dev/null 2>&1
  return 0
}

# -- the version history of /etc, which the seal removed; last, so that it begins with what was made

restart_history() {
  have etckeeper || return 0
  for old in /etc/.git /etc/.hg /etc/.bzr /etc/_darcs; do [ ! -e $old ] || return 0; done
  say "new version history of /etc"
  HOME=/root
  export HOME
  etckeeper init >/dev/null && etckeeper commit "First boot of a machine made from a sealed template" >/dev/null
}

# -- all of it

for task in make_machine_id make_host_keys make_certificate make_storage_name take_seed ask_dhcp grow_root restart_history; do
  wanted $task || continue
  $task || { say "$task failed"; failed=yes; }
done
[ -z "$failed" ] || exit 1
rm -f /etc/systemd/system/zeroseal-first-boot.service /etc/systemd/system/*.wants/zeroseal-first-boot.service \
  /etc/init.d/zeroseal-first-boot /etc/runlevels/*/zeroseal-first-boot
rm -rf $OWN
say "done"
