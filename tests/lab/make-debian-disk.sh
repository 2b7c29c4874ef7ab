#!/bin/bash
# Makes a real, bootable Debian 12 disk with the identity that a used machine has.
#   make-debian-disk.sh OUT.qcow2 [LAYOUT]     LAYOUT: ext4 (default), btrfs, lvm-xfs
# btrfs has the subvolumes @ and @home; with SNAPSHOT=1 one of each that another subvolume keeps, like snapper does.
# With SUITE=bullseye, trixie ... another Debian. With MORE=PACKAGE,... those are installed too; tests/lab/furnish-debian.sh starts them all once.
# GPT: BIOS boot, EFI system (FAT32), then swap and root (ext4, the last, so that it can grow), or /boot (ext4) and LVM with root and
# home on XFS and swap. One to three minutes; seconds with CACHE=DIR, which keeps the installed tree. Needs root, loop devices, a package
# mirror, and: mmdebstrap gdisk qemu-utils e2fsprogs dosfstools, for LVM lvm2 xfsprogs (no device-mapper).
# Boot it (no KVM needed, one to three minutes to the login prompt; root's password is "saltmarsh"):
#   qemu-system-x86_64 -m 1024 -nographic -drive file=OUT.qcow2,if=virtio,snapshot=on -nic user,model=virtio-net-pci
set -euo pipefail
OUT=$(realpath -m "$1"); LAYOUT=${2:-ext4}; SUITE=${SUITE:-bookworm}
WORK=$(mktemp -d); RAW=$WORK/disk.raw; MNT=$WORK/mnt; mkdir -p "$MNT"
LOOPS=(); LINKS=()
cleanup() {
  set +e
  for m in dev proc sys boot home ''; do mountpoint -q "$MNT/$m" && umount "$MNT/$m"; done
  for l in "${LOOPS[@]}"; do losetup -d "$l"; done
  rm -f "${LINKS[@]}"; rm -rf "$WORK"
}
trap cleanup EXIT
region() { losetup -f --show -o "$1" --sizelimit "$2" "$RAW"; }
# a loop device over one partition: works where the kernel reads no partition tables
part() {
  local first sectors
  first=$(sgdisk -i "$1" "$RAW" | awk '/First sector/{print $3}')
  sectors=$(sgdisk -i "$1" "$RAW" | awk '/Partition size/{print $3}')
  region $((first * 512)) $((sectors * 512))
}
uuid() { blkid -p -s UUID -o value "$1"; }

truncate -s 4G "$RAW"
sgdisk -n1:2048:4095 -t1:ef02 -c1:bios -n2:4096:+64M -t2:ef00 -c2:esp "$RAW" >/dev/null
case $LAYOUT in
  ext4 | btrfs) sgdisk -n4:0:+256M -t4:8200 -c4:swap -n3:0:0 -t3:8304 -c3:root "$RAW" >/dev/null ;;
  lvm-xfs) sgdisk -n4:0:+300M -t4:8300 -c4:boot -n3:0:0 -t3:8e00 -c3:lvm "$RAW" >/dev/null ;;
  *) echo "unknown layout $LAYOUT" >&2; exit 2 ;;
esac
DISK=$(losetup -f --show "$RAW"); LOOPS+=("$DISK")
ESP=$(part 2); LOOPS+=("$ESP")
mkfs.vfat -F32 -n ESP "$ESP" >/dev/null
if [ "$LAYOUT" != lvm-xfs ]; then
  FS=$LAYOUT; ROOT=$(part 3); SWAP=$(part 4); LOOPS+=("$ROOT" "$SWAP"); BOOT=$ROOT
else
  FS=xfs; PV=$(part 3); BOOT=$(part 4); LOOPS+=("$BOOT")
  LVM=(--driverloaded n --config 'devices{use_devicesfile=0 global_filter=["a|^/dev/loop|","r|.*|"]} activation{udev_sync=0 udev_rules=0} backup{backup=0 archive=0}')
  pvcreate -q -ff -y "${LVM[@]}" "$PV" >/dev/null 2>&1; vgcreate -q "${LVM[@]}" saltmarsh "$PV" >/dev/null 2>&1
  for s in swap:256M home:512M root:2500M; do
    lvcreate -q -y "${LVM[@]}" -an -Zn -Wn -n "${s%:*}" -L "${s#*:}" saltmarsh >/dev/null 2>&1
  done
  columns() { "$1" "${LVM[@]}" --noheadings --nosuffix --units b -o "$2" "$3" 2>/dev/null; }
  START=$(columns pvs pe_start "$PV" | tr -d ' '); EXTENT=$(columns vgs vg_extent_size saltmarsh | tr -d ' ')
  BASE=$(($(sgdisk -i 3 "$RAW" | awk '/First sector/{print $3}') * 512))
  while read -r name range size; do # without device-mapper a volume in one piece is a range of the disk
    first=${range##*:}; first=${first%%-*}
    declare "LV_$name=$(region $((BASE + START + first * EXTENT)) "$size")"
  done < <(columns lvs lv_name,seg_pe_ranges,lv_size saltmarsh)
  losetup -d "$PV"
  # shellcheck disable=SC2154  # declared by name above
  ROOT=$LV_root; SWAP=$LV_swap; HOME_=$LV_home; LOOPS+=("$ROOT" "$SWAP" "$HOME_")
fi
mkswap -q -L swap "$SWAP"
"mkfs.$FS" -q -L root "$ROOT"; mount "$ROOT" "$MNT"
OPTIONS=defaults; IN=; FLAGS=
if [ "$LAYOUT" = btrfs ]; then
  for s in @ @home; do btrfs -q subvolume create "$MNT/$s"; done
  umount "$MNT"; mount -o subvol=@ "$ROOT" "$MNT"; mkdir "$MNT/home"; mount -o subvol=@home "$ROOT" "$MNT/home"
  OPTIONS=subvol=@; IN=/@; FLAGS=rootflags=subvol=@
fi
if [ "$LAYOUT" = lvm-xfs ]; then
  mkdir "$MNT/boot" "$MNT/home"
  mkfs.ext4 -q -L boot "$BOOT"; mount "$BOOT" "$MNT/boot"
  mkfs.xfs -q -L home "$HOME_"; mount "$HOME_" "$MNT/home"
fi

PKGS=systemd,systemd-sysv,udev,dbus,openssh-server,rsyslog,cron,cloud-init,cloud-guest-utils,isc-dhcp-client,ifupdown,iproute2,sudo
PKGS=$PKGS,python3,logrotate,linux-image-cloud-amd64,grub-pc,initramfs-tools,zstd,nano,less,e2fsprogs,xfsprogs,btrfs-progs,lvm2,ca-certificates${MORE:+,$MORE}
TREE=${CACHE:-$WORK}/$SUITE-tree.tar; mkdir -p "${TREE%/*}"
if [ ! -s "$TREE" ]; then
  mmdebstrap --quiet --mode=root --variant=minbase --skip=cleanup/apt --include="$PKGS" "$SUITE" "$TREE.part.tar"
  mv "$TREE.part.tar" "$TREE"
fi
tar -C "$MNT" --xattrs --xattrs-include='*' -xpf "$TREE"
mkdir -p "$MNT/boot/efi"
if [ "$LAYOUT" != lvm-xfs ]; then RN=UUID=$(uuid "$ROOT"); SN=UUID=$(uuid "$SWAP"); P=$IN/boot
else RN=/dev/mapper/saltmarsh-root; SN=/dev/mapper/saltmarsh-swap; P=; fi
{ echo "$RN / $FS $OPTIONS 0 1"
  if [ "$LAYOUT" = btrfs ]; then echo "$RN /home btrfs subvol=@home 0 0"; fi
  if [ "$LAYOUT" = lvm-xfs ]; then
    echo "UUID=$(uuid "$BOOT") /boot ext4 defaults 0 2"; echo "/dev/mapper/saltmarsh-home /home xfs defaults 0 2"
  fi
  echo "UUID=$(uuid "$ESP") /boot/efi vfat umask=0077,nofail 0 1"
  echo "$SN none swap sw 0 0"; } > "$MNT/etc/fstab"
echo gangway-ref > "$MNT/etc/hostname"
printf '127.0.0.1 localhost\n127.0.1.1 gangway-ref.saltmarsh.example gangway-ref\n' > "$MNT/etc/hosts"
printf 'auto lo eth0\niface lo inet loopback\niface eth0 inet dhcp\n' > "$MNT/etc/network/interfaces"

# the identity of a used machine
tr -d - < /proc/sys/kernel/random/uuid > "$MNT/etc/machine-id"
mkdir -p "$MNT/var/log/journal/$(cat "$MNT/etc/machine-id")"
rm -f "$MNT"/etc/ssh/ssh_host_*; chroot "$MNT" ssh-keygen -q -A
head -c 512 /dev/urandom > "$MNT/var/lib/systemd/random-seed"
chroot "$MNT" useradd -m -s /bin/bash -c "Ada Brine,,02-555-0117" ada.brine
for u in root ada.brine; do printf '%s:saltmarsh\n' $u | chroot "$MNT" chpasswd -c SHA512; done
printf 'ssh ledger-ref\nexport TIDE_TOKEN=not-a-real-token-4471\n' > "$MNT/home/ada.brine/.bash_history"
chroot "$MNT" su ada.brine -c 'mkdir -m700 -p ~/.ssh && ssh-keygen -q -t ed25519 -N "" -f ~/.ssh/id_ed25519'
printf 'Nov 03 08:12:44 gangway-ref sshd[412]: Accepted password for ada.brine from 192.0.2.17\n' >> "$MNT/var/log/auth.log"

for d in dev proc sys; do mount --bind /$d "$MNT/$d"; done
mkdir -p /dev/disk/by-uuid; LINKS+=("/dev/disk/by-uuid/$(uuid "$BOOT")"); ln -sf "$BOOT" "${LINKS[0]}"
chroot "$MNT" grub-install --target=i386-pc --modules="part_gpt ext2 btrfs" "$DISK" >/dev/null 2>&1
chroot "$MNT" update-initramfs -u >/dev/null 2>&1 || true
K=$(basename "$MNT"/boot/vmlinuz-*); K=${K#vmlinuz-}
# written by hand: grub-mkconfig makes no entry for a root file system on a loop device
cat > "$MNT/boot/grub/grub.cfg" <<F
serial --speed=115200
terminal_input console serial
terminal_output console serial
set timeout=1
search --no-floppy --fs-uuid --set=root $(uuid "$BOOT")
menuentry "Debian" { linux $P/vmlinuz-$K root=$RN $FLAGS ro console=tty0 console=ttyS0,115200n8 net.ifnames=0
  initrd $P/initrd.img-$K
}
F
for d in dev proc sys; do umount "$MNT/$d"; done
dd if=/dev/urandom of="$SWAP" bs=4096 seek=64 count=16 conv=notrunc status=none
# last of all, so that nothing is written over it: a log that was rotated and deleted
printf 'deleted-canary-5512 %.0s' {1..20000} > "$MNT/var/log/old.log"; gzip -k "$MNT/var/log/old.log"
sync -f "$MNT"; rm "$MNT/var/log/old.log"
if [ -n "${SNAPSHOT:-}" ] && [ "$LAYOUT" = btrfs ]; then
  btrfs -q subvolume create "$MNT/.snapshots"
  for n in 1 2; do
    mkdir -p "$MNT/.snapshots/$n"
    btrfs -q subvolume snapshot -r "$MNT" "$MNT/.snapshots/$n/snapshot"
    printf '<?xml version="1.0"?>\n<snapshot>\n  <type>single</type>\n  <num>%s</num>\n  <date>2026-11-03 08:12:4%s</date>\n</snapshot>\n' $n $n \
      > "$MNT/.snapshots/$n/info.xml"
    printf 'written after snapshot %s\n' $n >> "$MNT/var/log/auth.log"
  done
  btrfs -q subvolume snapshot -r "$MNT/home" "$MNT/home/before"
  sync -f "$MNT"
fi
for m in boot home ''; do if mountpoint -q "$MNT/$m"; then umount "$MNT/$m"; fi; done
qemu-img convert -O qcow2 "$RAW" "$OUT"
