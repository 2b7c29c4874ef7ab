#!/bin/bash
# Makes a real, bootable Debian 12 disk with the identity that a used machine has.
#   make-debian-disk.sh OUT.qcow2
# With MORE=PACKAGE,... those are installed too; tests/lab/furnish-debian.sh starts them all once.
# GPT: BIOS boot, EFI system (FAT32), swap, root (ext4, the last, so that it can grow). One to three minutes; seconds with CACHE=DIR, which keeps
# the installed tree. Needs root, loop devices, a package mirror, and: mmdebstrap gdisk qemu-utils e2fsprogs dosfstools.
# Boot it (no KVM needed, one to three minutes to the login prompt; root's password is "saltmarsh"):
#   qemu-system-x86_64 -m 1024 -nographic -drive file=OUT.qcow2,if=virtio,snapshot=on -nic user,model=virtio-net-pci
set -euo pipefail
OUT=$(realpath -m "$1")
WORK=$(mktemp -d); RAW=$WORK/disk.raw; MNT=$WORK/mnt; mkdir -p "$MNT"
LOOPS=(); LINKS=()
cleanup() {
  set +e
  for m in dev proc sys ''; do mountpoint -q "$MNT/$m" && umount "$MNT/$m"; done
  for l in "${LOOPS[@]}"; do losetup -d "$l"; done
  rm -f "${LINKS[@]}"; rm -rf "$WORK"
}
trap cleanup EXIT
# a loop device over one partition: works where the kernel reads no partition tables
part() {
  local first sectors
  first=$(sgdisk -i "$1" "$RAW" | awk '/First sector/{print $3}')
  sectors=$(sgdisk -i "$1" "$RAW" | awk '/Partition size/{print $3}')
  losetup -f --show -o $((first * 512)) --sizelimit $((sectors * 512)) "$RAW"
}
uuid() { blkid -p -s UUID -o value "$1"; }

truncate -s 4G "$RAW"
sgdisk -n1:2048:4095 -t1:ef02 -c1:bios -n2:4096:+64M -t2:ef00 -c2:esp -n4:0:+256M -t4:8200 -c4:swap \
  -n3:0:0 -t3:8304 -c3:root "$RAW" >/dev/null
DISK=$(losetup -f --show "$RAW"); LOOPS+=("$DISK")
ESP=$(part 2); ROOT=$(part 3); SWAP=$(part 4); LOOPS+=("$ESP" "$ROOT" "$SWAP")
mkfs.vfat -F32 -n ESP "$ESP" >/dev/null
mkswap -q -L swap "$SWAP"
mkfs.ext4 -q -L root "$ROOT"; mount "$ROOT" "$MNT"

PKGS=systemd,systemd-sysv,udev,dbus,openssh-server,rsyslog,cron,cloud-init,cloud-guest-utils,isc-dhcp-client,ifupdown,iproute2,sudo
PKGS=$PKGS,python3,logrotate,linux-image-cloud-amd64,grub-pc,initramfs-tools,zstd,nano,less,e2fsprogs,ca-certificates${MORE:+,$MORE}
if [ -n "${CACHE:-}" ] && [ -s "$CACHE/tree.tar" ]; then cp "$CACHE/tree.tar" "$WORK/tree.tar"
else
  mmdebstrap --quiet --mode=root --variant=minbase --skip=cleanup/apt --include="$PKGS" bookworm "$WORK/tree.tar"
  [ -z "${CACHE:-}" ] || { mkdir -p "$CACHE"; cp "$WORK/tree.tar" "$CACHE/tree.tar"; }
fi
tar -C "$MNT" --xattrs --xattrs-include='*' -xpf "$WORK/tree.tar"; rm "$WORK/tree.tar"
mkdir -p "$MNT/boot/efi"
{ echo "UUID=$(uuid "$ROOT") / ext4 defaults 0 1"
  echo "UUID=$(uuid "$ESP") /boot/efi vfat umask=0077,nofail 0 1"
  echo "UUID=$(uuid "$SWAP") none swap sw 0 0"; } > "$MNT/etc/fstab"
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
mkdir -p /dev/disk/by-uuid; LINKS+=("/dev/disk/by-uuid/$(uuid "$ROOT")"); ln -sf "$ROOT" "${LINKS[0]}"
chroot "$MNT" grub-install --target=i386-pc --modules="part_gpt ext2" "$DISK" >/dev/null 2>&1
chroot "$MNT" update-initramfs -u >/dev/null 2>&1 || true
K=$(basename "$MNT"/boot/vmlinuz-*); K=${K#vmlinuz-}
# written by hand: grub-mkconfig makes no entry for a root file system on a loop device
cat > "$MNT/boot/grub/grub.cfg" <<F
serial --speed=115200
terminal_input console serial
terminal_output console serial
set timeout=1
search --no-floppy --fs-uuid --set=root $(uuid "$ROOT")
menuentry "Debian 12" { linux /boot/vmlinuz-$K root=UUID=$(uuid "$ROOT") ro console=tty0 console=ttyS0,115200n8 net.ifnames=0
  initrd /boot/initrd.img-$K
}
F
for d in dev proc sys; do umount "$MNT/$d"; done
dd if=/dev/urandom of="$SWAP" bs=4096 seek=64 count=16 conv=notrunc status=none
# last of all, so that nothing is written over it: a log that was rotated and deleted
printf 'deleted-canary-5512 %.0s' {1..20000} > "$MNT/var/log/old.log"; gzip -k "$MNT/var/log/old.log"
sync -f "$MNT"; rm "$MNT/var/log/old.log"
umount "$MNT"
qemu-img convert -O qcow2 "$RAW" "$OUT"
