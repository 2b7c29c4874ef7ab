#!/bin/bash
# Boots a disk of make-debian-disk.sh once, with a seed that makes its services leave their traces,
# and lets it shut down by itself. Some minutes without KVM.
#   MORE=$(tests/lab/furnish-debian.sh --packages) tests/lab/make-debian-disk.sh BIG.qcow2
#   tests/lab/furnish-debian.sh BIG.qcow2
# Needs qemu-system-x86_64 and genisoimage. The disk itself is changed.
set -euo pipefail
PACKAGES=network-manager,postfix,chrony,sssd,docker.io,podman,snapd,puppet-agent,wireguard-tools,openvpn,samba
PACKAGES=$PACKAGES,popularity-contest,unattended-upgrades,sysstat,auditd,open-iscsi,nvme-cli,multipath-tools
PACKAGES=$PACKAGES,plocate,cups,ssl-cert,lvm2,at,krb5-user,udisks2,avahi-daemon,apache2,snmpd,collectd
PACKAGES=$PACKAGES,zabbix-agent,nfs-common,mdadm,acl,acct,iputils-ping
[ "$1" != --packages ] || { echo "$PACKAGES"; exit; }
DISK=$(realpath "$1"); WORK=$(mktemp -d); trap 'rm -rf "$WORK"' EXIT
printf 'instance-id: gangway-ref-1\nlocal-hostname: gangway-ref\n' > "$WORK/meta-data"
cat > "$WORK/user-data" <<'SEED'
#cloud-config
users:
  - {name: tom.kelp, shell: /bin/bash, sudo: "ALL=(ALL) NOPASSWD:ALL", lock_passwd: false,
     ssh_authorized_keys: [ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIbJ2YkR0mJ8nq0T5tWn3cA9u7s8v1kqPZx4hQm6yUe1 tom.kelp]}
runcmd:
  - [sh, -c, "fallocate -l 64M /swapfile && chmod 600 /swapfile && mkswap /swapfile && swapon /swapfile && echo '/swapfile none swap sw 0 0' >> /etc/fstab"]
  - [sh, -c, "updatedb; accton on; /usr/lib/sysstat/debian-sa1 1 1; lpadmin -p pier -E -v file:///dev/null; snmpwalk -v2c -c public localhost; true"]
  - [sh, -c, "umask 077; wg genkey > /etc/wireguard/wg0.key; openssl genrsa -out /etc/openvpn/client/gate.key 2048; iscsi-iname > /dev/null; smbpasswd -a -n root; systemctl restart multipathd; true"]
  - [sh, -c, "docker info; podman info; puppet ssl bootstrap --waitforcert 0; at now + 9 days -f /etc/hostname; crontab -u ada.brine -l; echo '5 4 * * * true' | crontab -u ada.brine -; true"]
  - [sh, -c, "mkdir -p /srv/tide && echo 11 > /srv/tide/gauge && chown tom.kelp /srv/tide/gauge && setfacl -m u:ada.brine:rw /srv/tide; loginctl enable-linger ada.brine; echo 'ada.brine ALL=(ALL) ALL' > /etc/sudoers.d/ada; true"]
  - [sh, -c, "echo hello | mail -s hello tom.kelp@quay.saltmarsh.example; logger gate opened; sync; systemctl --failed --no-legend > /root/failed-before; true"]
power_state: {mode: poweroff, delay: now, timeout: 60}
SEED
genisoimage -quiet -o "$WORK/seed.iso" -V cidata -r -J "$WORK/meta-data" "$WORK/user-data"
timeout 2400 qemu-system-x86_64 -cpu max -smp 2 -m 2048 -display none -serial "file:${CONSOLE:-$WORK/console}" \
  -drive "file=$DISK,if=virtio" -drive "file=$WORK/seed.iso,if=virtio,format=raw" -nic user,model=virtio-net-pci
