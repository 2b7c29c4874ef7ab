"""Every trace: documented, found where it is, not where it is not, gone after a seal."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.disks import MACHINE_ID, SEEDING, make_guest_volume
from tests.oracles import run
from zeroseal.errors import UsageError
from zeroseal.images.detect import open_image
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.job import SealRequest, seal
from zeroseal.sealing.policy import DEFAULT_POLICY
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.traces.finder import defined_finders
from zeroseal.traces.finders import get_finder
from zeroseal.traces.linux.accounts import DropAccounts, LockPassword
from zeroseal.traces.linux.host_name import DropHostNames
from zeroseal.traces.load import get_trace, load_catalogue, parse_traces
from zeroseal.traces.model import FAMILIES, InCode

# A guest without identity, that seeds itself and so may be sealed.
CLEAN = {
    "/etc/os-release": "ID=tideline\n",
    "/etc/hostname": "localhost\n",
    "/etc/hosts": "127.0.0.1 localhost\n",
    "/etc/machine-id": "",
    "/etc/passwd": "root:x:0:0:root:/root:/bin/sh\n",
    "/etc/shadow": "root:!:1::::::\n",
    **SEEDING,
    "/root/": "",
    "/tmp/": "",
    "/var/log/empty.log": "",
}
HUMAN = {
    "/etc/passwd": CLEAN["/etc/passwd"] + "ada.brine:x:1000:1000::/home/ada.brine:/bin/sh\n",
    "/home/ada.brine/letter": "dear tom",
}


def files(*paths: str) -> tuple[dict[str, str], list[str]]:
    """A trace that is in all of these files, whatever they hold."""
    return dict.fromkeys(paths, "x"), list(paths)


# For each trace: what makes it hit, and the places that must be named.
HITS: dict[str, tuple[dict[str, str], list[str]]] = {
    "identity.machine-id": (
        {"/etc/machine-id": MACHINE_ID, "/var/lib/dbus/machine-id": MACHINE_ID},
        ["/etc/machine-id", "/var/lib/dbus/machine-id"],
    ),
    "identity.host-name": (
        {"/etc/hostname": "pier-ref\n", "/etc/hosts": "127.0.1.1 pier-ref.x pier-ref\n"},
        ["/etc/hostname", "/etc/hosts"],
    ),
    "identity.initramfs": ({}, []),  # made with cpio: see test_initramfs.py
    "identity.random-seed": (
        {"/var/lib/systemd/random-seed": "x" * 512},
        ["/var/lib/systemd/random-seed"],
    ),
    "keys.ssh-host": (
        {"/etc/ssh/ssh_host_rsa_key": "k", "/etc/ssh/ssh_host_rsa_key.pub": "p"},
        ["/etc/ssh/ssh_host_rsa_key", "/etc/ssh/ssh_host_rsa_key.pub"],
    ),
    "keys.kerberos": ({"/etc/krb5.keytab": "k"}, ["/etc/krb5.keytab"]),
    "keys.vpn": (
        {"/etc/wireguard/wg0.conf": "k", "/etc/openvpn/client/tls.key": "k"},
        ["/etc/wireguard/wg0.conf", "/etc/openvpn/client/tls.key"],
    ),
    "people.accounts": (HUMAN, ["/home/ada.brine", "/etc/passwd"]),
    "people.root-password": ({"/etc/shadow": "root:$6$x:1::::::\n"}, ["/etc/shadow"]),
    "people.account-backups": ({"/etc/shadow-": "old"}, ["/etc/shadow-"]),
    "people.ssh-keys": (
        {"/root/.ssh/authorized_keys": "k", "/root/.ssh/id_rsa": "k"},
        ["/root/.ssh/authorized_keys", "/root/.ssh/id_rsa"],
    ),
    "people.histories": (
        {"/root/.bash_history": "x", "/root/.cache/a/b": "x"},
        ["/root/.bash_history", "/root/.cache"],
    ),
    "people.lectured": files("/var/lib/sudo/lectured/ada.brine", "/var/db/sudo/ts/tom.kelp"),
    "keys.saved-passwords": files(
        "/root/.netrc",
        "/root/.pgpass",
        "/root/.my.cnf",
        "/root/.vault-token",
        "/root/.config/gh/hosts.yml",
        "/root/.cargo/credentials.toml",
    ),
    "keys.message-broker": files("/var/lib/rabbitmq/.erlang.cookie", "/root/.erlang.cookie"),
    "keys.name-server": files("/etc/bind/rndc.key"),
    "keys.firmware-updates": files(
        "/var/lib/fwupd/pki/secret.key", "/var/lib/fwupd/pki/client.pem"
    ),
    "identity.agent-ids": files("/var/lib/monit/id"),
    "keys.backup-agent": (
        {
            "/etc/bacula/common_default_passwords": "FDPASSWD=Qwd6v-not-real\n",
            "/etc/bacula/bacula-fd.conf": 'Director {\n  Name = x-dir\n  Password = "Qwd6v"\n}\n',
            "/var/lib/ucf/cache/:etc:bacula:bacula-fd.conf": 'D {\n  Password = "Qwd6v"\n}\n',
        },
        [
            "/etc/bacula/common_default_passwords",
            "/etc/bacula/bacula-fd.conf",
            "/var/lib/ucf/cache/:etc:bacula:bacula-fd.conf",
        ],
    ),
    "keys.directory-server": (
        {
            "/etc/ldap/slapd.d/cn=config/olcDatabase={1}mdb.ldif": "dn: olcDatabase={1}mdb\n"
            "olcRootPW:: e1NTSEF9not\n real==\nolcDbDirectory: /var/lib/ldap\n",
        },
        ["/etc/ldap/slapd.d/cn=config/olcDatabase={1}mdb.ldif"],
    ),
    "keys.network-passwords": (
        {
            "/etc/NetworkManager/system-connections/pier.nmconnection": "[connection]\nid=pier\n"
            "type=ethernet\n[802-1x]\nidentity=pier\npassword=not-real\n[ipv4]\nmethod=auto\n",
        },
        ["/etc/NetworkManager/system-connections/pier.nmconnection"],
    ),
    "wire.sent-names": (
        {
            "/etc/sysconfig/network-scripts/ifcfg-eth0": "BOOTPROTO=dhcp\nDHCP_HOSTNAME=pier\n",
            "/etc/systemd/network/20-pier.network": "[DHCPv4]\nHostname=pier\n",
        },
        ["/etc/sysconfig/network-scripts/ifcfg-eth0", "/etc/systemd/network/20-pier.network"],
    ),
    "wire.dhcp-leases": (
        {"/var/lib/dhcp/dhclient.ens3.leases": "x"},
        ["/var/lib/dhcp/dhclient.ens3.leases"],
    ),
    "wire.interface-names": (
        {"/etc/udev/rules.d/70-persistent-net.rules": "x"},
        ["/etc/udev/rules.d/70-persistent-net.rules"],
    ),
    "wire.cloud-init-network": (
        {"/etc/netplan/50-cloud-init.yaml": "x"},
        ["/etc/netplan/50-cloud-init.yaml"],
    ),
    "diary.journal": (
        {f"/var/log/journal/{MACHINE_ID}/system.journal": "x"},
        [f"/var/log/journal/{MACHINE_ID}"],
    ),
    "diary.rotated-logs": (
        {"/var/log/a/b.log.1": "x", "/var/log/c.gz": "x", "/var/log/d-20261101": "x"},
        ["/var/log/a/b.log.1", "/var/log/c.gz", "/var/log/d-20261101"],
    ),
    "diary.logs": (
        {"/var/log/a/b.log": "x", "/var/crash/c": "x"},
        ["/var/log/a/b.log", "/var/crash/c"],
    ),
    "leftovers.temporary-files": ({"/tmp/a": "x", "/var/tmp/.b": "x"}, ["/tmp/a", "/var/tmp/.b"]),
    "leftovers.fetched-packages": (
        {"/var/cache/apt/archives/a.deb": "x", "/var/lib/apt/lists/m_dists": "x"},
        ["/var/cache/apt/archives/a.deb", "/var/lib/apt/lists/m_dists"],
    ),
    "birth.cloud-init-state": ({"/var/lib/cloud/sem/x": "x"}, ["/var/lib/cloud/sem"]),
    "birth.cloud-init-rights": (
        {"/etc/sudoers.d/90-cloud-init-users": "x"},
        ["/etc/sudoers.d/90-cloud-init-users"],
    ),
    "identity.host-id": files("/etc/hostid"),
    "identity.nvme-host": files("/etc/nvme/hostnqn", "/etc/nvme/hostid"),
    "identity.multipath": files("/etc/multipath/bindings", "/etc/multipath/wwids"),
    "identity.lvm-history": files(
        "/etc/lvm/archive/tide",
        "/etc/lvm/backup/tide",
        "/etc/lvm/cache/tide",
        "/etc/lvm/cache/.cache",
    ),
    "keys.config-agents": files(
        "/etc/salt/minion_id",
        "/etc/salt/pki/minion/tide",
        "/etc/puppetlabs/puppet/ssl/private/tide.pem",
        "/var/lib/puppet/ssl/private/tide.pem",
        "/etc/chef/client.pem",
    ),
    "keys.container-engine": files(
        "/etc/docker/key.json",
        "/var/lib/docker/engine-id",
        "/var/lib/docker/swarm/certificates/tide",
        "/var/lib/containerd/io.containerd.grpc.v1.introspection/uuid",
    ),
    "keys.cluster-node": (
        dict.fromkeys(
            ["/var/lib/kubelet/pki/tide", "/etc/kubernetes/admin.conf", "/etc/kubernetes/pki/x/y"],
            "x",
        ),
        ["/var/lib/kubelet/pki/tide", "/etc/kubernetes/admin.conf", "/etc/kubernetes/pki/x"],
    ),
    "keys.subscription": files(
        "/etc/pki/consumer/tide",
        "/etc/pki/entitlement/tide",
        "/etc/sysconfig/rhn/systemid",
        "/etc/insights-client/machine-id",
        "/etc/insights-client/.registered",
        "/etc/insights-client/.unregistered",
        "/etc/insights-client/.lastupload",
        "/var/lib/rhsm/facts/tide",
        "/var/lib/rhsm/cache/tide",
        "/etc/yum.repos.d/redhat.repo",
        "/etc/zypp/credentials.d/SCCcredentials",
        "/etc/zypp/credentials.d/NCCcredentials",
        "/var/lib/ubuntu-advantage/private/tide",
        "/var/lib/ubuntu-advantage/machine-token.json",
        "/etc/apt/auth.conf.d/90ubuntu-advantage",
    ),
    "keys.samba": files(
        "/var/lib/samba/private/secrets.tdb",
        "/var/lib/samba/private/tide.keytab",
        "/etc/samba/secrets.tdb",
    ),
    "keys.sssd": files("/var/lib/sss/db/tide", "/var/lib/sss/mc/tide", "/var/lib/sss/secrets/tide"),
    "people.installer-answers": (
        dict.fromkeys(
            [
                "/root/anaconda-ks.cfg",
                "/root/original-ks.cfg",
                "/root/initial-setup-ks.cfg",
                "/preseed.cfg",
                "/autoinst.xml",
                "/var/lib/autoinstall/x/y",
            ],
            "x",
        ),
        [
            "/root/anaconda-ks.cfg",
            "/root/original-ks.cfg",
            "/root/initial-setup-ks.cfg",
            "/preseed.cfg",
            "/autoinst.xml",
            "/var/lib/autoinstall/x",
        ],
    ),
    "people.account-settings": files(
        "/var/lib/AccountsService/users/tide", "/var/lib/AccountsService/icons/tide"
    ),
    "people.later-jobs": files(
        "/var/spool/cron/atjobs/a0001", "/var/spool/at/a0001", "/var/spool/cron/atspool/tide"
    ),
    "wire.clock-drift": files(
        "/var/lib/chrony/drift",
        "/var/lib/ntp/drift",
        "/var/lib/ntp/ntp.drift",
        "/var/lib/ntpsec/ntp.drift",
    ),
    "diary.login-databases": files(
        "/var/lib/wtmpdb/wtmp.db", "/var/lib/lastlog/lastlog2.db", "/var/lib/wtmpdb/wtmp.db-wal"
    ),
    "diary.timer-stamps": files("/var/lib/systemd/timers/stamp-tide.timer"),
    "diary.package-history": files(
        "/var/lib/dnf/history.sqlite",
        "/var/lib/dnf/history/tide",
        "/usr/lib/sysimage/libdnf5/transaction_history.sqlite",
        "/var/lib/yum/history/tide",
        "/var/lib/yum/uuid",
    ),
    "leftovers.mail-queues": files(
        "/var/spool/postfix/deferred/x/y",
        "/var/spool/postfix/active/tide",
        "/var/spool/postfix/incoming/tide",
        "/var/spool/postfix/maildrop/tide",
        "/var/spool/postfix/hold/tide",
        "/var/spool/postfix/defer/x/y",
        "/var/spool/exim4/input/tide",
        "/var/spool/exim4/msglog/tide",
        "/var/spool/mqueue/tide",
    ),
    "leftovers.print-jobs": files("/var/spool/cups/c00001", "/var/cache/cups/job.cache"),
    "leftovers.service-state": files(
        "/var/cache/bind/managed-keys.bind",
        "/var/lib/dovecot/instances",
        "/var/lib/postfix/master.lock",
        "/var/lib/postfix/prng_exch",
        "/var/spool/postfix/pid/master.pid",
        "/var/cache/cups/help.data",
        "/var/cache/cups/ppds.dat",
        "/var/cache/cups/subscriptions.cache",
        "/var/cache/fwupd/tide",
        "/var/lib/tor/state",
        "/var/lib/monit/state",
        "/var/lib/docker/network/files/local-kv.db",
    ),
    "keys.onion-services": files(
        "/var/lib/tor/ferry/hs_ed25519_secret_key",
        "/var/lib/tor/ferry/hs_ed25519_public_key",
        "/var/lib/tor/ferry/private_key",
        "/var/lib/tor/ferry/hostname",
        "/var/lib/tor/keys/secret_id_key",
    ),
    "identity.uuid-clock": files("/var/lib/libuuid/clock.txt", "/var/lib/libuuid/clock-cont.txt"),
    "identity.database-server": files("/var/lib/mysql/auto.cnf"),
    "leftovers.name-index": files(
        "/var/lib/mlocate/mlocate.db", "/var/lib/plocate/plocate.db", "/var/cache/locate/locatedb"
    ),
    "leftovers.debconf-answers": files(
        "/var/cache/debconf/passwords.dat", "/var/cache/debconf/passwords.dat-old"
    ),
    "leftovers.trash": (
        dict.fromkeys(["/root/.local/share/Trash/files/a", "/root/.xsession-errors"], "x"),
        ["/root/.local/share/Trash", "/root/.xsession-errors"],
    ),
    "identity.iscsi-initiator": files("/etc/iscsi/initiatorname.iscsi"),
    "identity.lvm-devices": files(
        "/etc/lvm/devices/system.devices", "/etc/lvm/devices/backup/tide"
    ),
    "keys.service-credentials": files(
        "/var/lib/systemd/credential.secret", "/var/lib/systemd/tpm2-srk"
    ),
    "keys.web-console": files("/etc/cockpit/ws-certs.d/0-self-signed.cert"),
    "keys.print-server": files("/etc/cups/ssl/pier.key", "/etc/cups/ssl/pier.crt"),
    "keys.guest-agents": files(
        "/etc/vmware-tools/GuestProxyData/server/key.pem", "/var/lib/waagent/tide.prv"
    ),
    "keys.monitoring-agents": files("/etc/zabbix/tide.psk", "/var/ossec/etc/client.keys"),
    "keys.snmp-engine": files("/var/lib/snmp/snmpd.conf"),
    "keys.home-folders": files("/var/lib/systemd/home/local.private"),
    "people.remembered-people": files("/var/lib/sddm/state.conf", "/var/cache/lightdm/dmrc/ada"),
    "wire.bluetooth-pairings": files("/var/lib/bluetooth/02:00:00:00:00:01"),
    "wire.nfs-peers": files("/var/lib/nfs/sm/quay", "/var/lib/nfs/rmtab"),
    "diary.measurements": files("/var/log/sysstat/sa03", "/var/lib/collectd/rrd/pier-ref"),
    "diary.crash-dumps": files("/core", "/var/lib/systemd/pstore/tide"),
    "diary.process-accounting": files("/var/account/pacct"),
    "diary.attack-memory": files("/var/lib/fail2ban/fail2ban.sqlite3"),
    "leftovers.editor-backups": files("/etc/tide/gate.conf~", "/etc/.hosts.swp"),
    "leftovers.lost-files": files("/srv/lost+found/#12"),
    "leftovers.program-caches": files("/root/.npm/_cacache"),
    "birth.baked-seeds": files("/var/lib/cloud/seed/nocloud"),
    "birth.installer-seeds": files("/etc/cloud/cloud.cfg.d/99-installer.cfg"),
    "identity.usage-survey": (
        {
            "/etc/popularity-contest.conf": 'MY_HOSTID="56eb"\nPARTICIPATE="no"\n',
            "/etc/cron.d/popularity-contest": "17 4 * * * root true\n",
        },
        ["/etc/popularity-contest.conf", "/etc/cron.d/popularity-contest"],
    ),
    "identity.machine-info": (
        {"/etc/machine-info": "PRETTY_HOSTNAME=Pier 3\nCHASSIS=vm\n"},
        ["/etc/machine-info"],
    ),
    "identity.array-hosts": ({"/etc/mdadm.conf": "HOMEHOST pier-ref\n"}, ["/etc/mdadm.conf"]),
    "identity.boot-entries": (
        {
            "/etc/machine-id": MACHINE_ID,
            f"/boot/loader/entries/{MACHINE_ID}-6.1.conf": f"title Tide\nmachine-id {MACHINE_ID}\n"
            f"linux /{MACHINE_ID}/6.1/linux\noptions ro systemd.machine_id={MACHINE_ID} quiet\n",
            f"/boot/{MACHINE_ID}/6.1/linux": "kernel",
            "/boot/grub2/grubenv": (
                f"# GRUB Environment Block\nsaved_entry={MACHINE_ID}-6.1\n".ljust(1024, "#")
            ),
        },
        [
            f"/boot/loader/entries/{MACHINE_ID}-6.1.conf",
            "/boot/grub2/grubenv",
            f"/boot/{MACHINE_ID}",
            "/etc/kernel/entry-token",
        ],
    ),
    "keys.web-server": (
        {
            "/etc/pki/tls/private/localhost.key": "k",
            "/usr/lib/systemd/system/httpd-init.service": "",
        },
        ["/etc/pki/tls/private/localhost.key"],
    ),
    "keys.self-made-certificate": ({}, []),  # only where a script is planted: see test_planted
    "people.automatic-login": (
        {
            "/etc/gdm3/custom.conf": "[daemon]\nAutomaticLogin=ada.brine\nWaylandEnable=false\n",
            "/etc/systemd/system/getty@tty1.service.d/a.conf": "[Service]\n"
            "ExecStart=-/sbin/agetty --autologin ada.brine %I\n",
        },
        ["/etc/gdm3/custom.conf", "/etc/systemd/system/getty@tty1.service.d/a.conf"],
    ),
    "wire.card-addresses": (
        {
            "/etc/sysconfig/network-scripts/ifcfg-eth0": "DEVICE=eth0\nHWADDR=02:00:00:00:00:01\n",
            "/etc/NetworkManager/system-connections/pier.nmconnection": "[connection]\nid=pier\n"
            "uuid=1-2\ntype=ethernet\n[ethernet]\nmac-address=02:00:00:00:00:01\n",
            "/etc/systemd/network/a.network": "[Match]\nMACAddress=02:00:00:00:00:01\n",
            "/etc/systemd/network/a.link": "[Match]\nMACAddress=02:00:00:00:00:01\n",
            "/etc/netplan/01.yaml": "network:\n  ethernets:\n    lan:\n      match:\n"
            "        macaddress: 02:00:00:00:00:01\n      set-name: lan\n      dhcp4: true\n",
            "/etc/network/interfaces": "auto e\niface e inet dhcp\n  hwaddress ether 02:00\n",
        },
        [
            "/etc/sysconfig/network-scripts/ifcfg-eth0",
            "/etc/NetworkManager/system-connections/pier.nmconnection",
            "/etc/systemd/network/a.network",
            "/etc/systemd/network/a.link",
            "/etc/netplan/01.yaml",
            "/etc/network/interfaces",
        ],
    ),
    "wire.wifi-networks": (
        {
            "/etc/NetworkManager/system-connections/quay.nmconnection": "[connection]\nid=quay\n"
            "type=wifi\n[wifi-security]\npsk=not-a-real-one\n"
        },
        ["/etc/NetworkManager/system-connections/quay.nmconnection"],
    ),
    "wire.static-addresses": ({}, []),  # only with --to-dhcp: see test_static_addresses
    "disk.swap-files": ({}, []),  # needs a swap file made by mkswap: see test_swap_files
    "disk.free-space": ({"/gone": "deleted-canary" * 400}, ["whole disk"]),
    "disk.free-inodes": ({"/gone": "deleted-canary" * 400}, ["whole disk"]),
    "disk.journal": ({}, ["whole disk"]),
    "disk.swap": ({}, []),  # a swap needs a disk of its own: see test_seal.py
    "disk.slack": ({}, []),  # laid by hand, as are gaps: see test_ext_slack.py
    "disk.gaps": ({}, []),
    "disk.snapshots": ({}, []),  # tests/sealing/test_btrfs_guest.py
    "keys.version-history": ({}, []),  # tests/sealing/test_version_history.py
    "identity.lvm-hosts": ({}, []),  # tests/volumes/test_lvm.py
}


def places_of(image: Path, trace_id: str) -> list[str]:
    inspection = Inspection.read(open_image(image))
    return [item.place for item in inspection.find_all(DEFAULT_POLICY) if item.trace.id == trace_id]


def prepare(folder: Path, trace_id: str) -> Path:
    tree, _places = HITS[trace_id]
    image = make_guest_volume(folder, CLEAN | tree)
    if "/gone" in tree:
        run("debugfs", "-w", "-R", "rm /gone", image)
    if trace_id == "disk.journal":
        run("debugfs", "-w", "-f", "-", image, feed="jo\njw -b 900 /dev/zero\njc\n")
        run("debugfs", "-w", "-R", "feature -needs_recovery", image)
        run("e2fsck", "-fy", image, status=0)
    return image


def test_links_and_folders_are_told_from_files(tmp_path: Path) -> None:
    tree = {
        "/var/lib/dbus/machine-id": "-> /etc/machine-id",
        "/etc/ssh/ssh_host_rsa_key": "-> /persist/key",
        "/persist/key": "secret",
        "/var/log/service-1.2/app.log": "",
    }
    image = make_guest_volume(tmp_path, CLEAN | tree)
    inspection = Inspection.read(open_image(image))
    found = {item.place for item in inspection.find_all(DEFAULT_POLICY)}
    assert found == {"/etc/ssh/ssh_host_rsa_key", "/persist/key"}


def test_the_networks_of_containers_stay_while_there_are_containers(tmp_path: Path) -> None:
    networks = "/var/lib/docker/network/files/local-kv.db"
    for container, expected in (("", [networks]), ("/var/lib/docker/containers/a/x", [])):
        tree = CLEAN | {networks: "x"} | ({container: "x"} if container else {})
        (tmp_path / f"{bool(container)}").mkdir()
        image = make_guest_volume(tmp_path / f"{bool(container)}", tree)
        inspection = Inspection.read(open_image(image))
        found = [item.place for item in inspection.find_all(DEFAULT_POLICY)]
        assert found == expected


def test_every_trace_is_documented_and_has_its_cases() -> None:
    traces = load_catalogue()
    assert len({trace.id for trace in traces}) == len(traces)
    assert {trace.family for trace in traces} == set(FAMILIES)
    assert {trace.id for trace in traces if trace.guest != "windows"} == set(HITS)
    for trace in traces:
        assert trace.why, trace.id
        assert trace.regrowth.by, trace.id
        assert trace.source, trace.id
        assert len(trace.title) <= 31, f"{trace.id}: the table has no room for its title"
        assert len(trace.id) <= 26, f"{trace.id}: the table has no room for its id"


# Those that are paths and nothing else do not disturb each other: one guest has them all.
TOGETHER = [name for name, (tree, _places) in HITS.items() if set(tree.values()) == {"x"}]


def test_traces_of_paths_are_found_in_one_guest_and_gone_after_a_seal(tmp_path: Path) -> None:
    clean = make_guest_volume(tmp_path, CLEAN)
    inspection = Inspection.read(open_image(clean))
    assert [item for item in inspection.find_all(DEFAULT_POLICY) if item.trace.id in TOGETHER] == []
    tree = {path: "x" for name in TOGETHER for path in HITS[name][0]}
    used = make_guest_volume(tmp_path, CLEAN | tree)
    found = Inspection.read(open_image(used)).find_all(DEFAULT_POLICY)
    for name in TOGETHER:
        assert set(HITS[name][1]) <= {item.place for item in found if item.trace.id == name}, name
    seal(SealRequest(used, NewFile(tmp_path / "1.img"), DEFAULT_POLICY, 1_700_000_000))
    result = seal(
        SealRequest(tmp_path / "1.img", NewFile(tmp_path / "2.img"), DEFAULT_POLICY, 1_800_000_000)
    )
    assert result.planned.plan.treated == ()
    assert (tmp_path / "1.img").read_bytes() == (tmp_path / "2.img").read_bytes()


@pytest.mark.parametrize(
    "trace_id", [name for name in HITS if name != "disk.swap" and name not in TOGETHER]
)
def test_a_trace_is_found_where_it_is_gone_after_a_seal_and_a_second_changes_nothing(
    tmp_path: Path, trace_id: str
) -> None:
    clean = make_guest_volume(tmp_path, CLEAN)
    assert places_of(clean, trace_id) == []
    used = prepare(tmp_path, trace_id)
    assert places_of(used, trace_id) == HITS[trace_id][1] or set(HITS[trace_id][1]) <= set(
        places_of(used, trace_id)
    )
    seal(SealRequest(used, NewFile(tmp_path / "1.img"), DEFAULT_POLICY, 1_700_000_000))
    assert places_of(tmp_path / "1.img", trace_id) == []
    result = seal(
        SealRequest(tmp_path / "1.img", NewFile(tmp_path / "2.img"), DEFAULT_POLICY, 1_800_000_000)
    )
    assert result.planned.plan.treated == ()
    assert (tmp_path / "1.img").read_bytes() == (tmp_path / "2.img").read_bytes()


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("[[trace]", "not valid TOML"),
        ('[[trace]]\ntitle = "x"', r"f\.toml: trace \(without id\): id must"),
        ('[[trace]]\nid = "nosuch.thing"', "the family nosuch is not known"),
        (
            '[[trace]]\nid = "keys.a"\npath = ["/x"]',
            "unknown key; did you mean",
        ),
        ('[[trace]]\nid = "keys.a"\npaths = ["x"]\ntreatment = "remove"', "must be absolute"),
        (
            '[[trace]]\nid = "keys.a"\npaths = ["/x"]\ntreatment = "burn"',
            "treatment must be one of",
        ),
        ('[[trace]]\nid = "keys.a"\ntreatment = "remove"', "exactly one of"),
        (
            '[[trace]]\nid = "keys.a"\ntitle = "t"\nwhy = "w"\nfinder = "x"\ntreatment = "remove"',
            "the finder 'x' is not known",
        ),
        ('[[trace]]\nid = "keys.a"\npaths = ["/x"]\ntreatment = "remove"', "title is missing"),
        (
            '[[trace]]\nid = "keys.a"\ntitle = "t"\nwhy = "w"\npaths = "/x"\ntreatment = "remove"\n'
            * 2,
            "keys.a occurs twice",
        ),
    ],
)
def test_a_wrong_entry_is_told_with_file_trace_and_key(text: str, told: str) -> None:
    with pytest.raises(UsageError, match=told):
        parse_traces(text, "f.toml")


def test_an_unknown_trace_suggests_what_comes_close() -> None:
    with pytest.raises(UsageError, match="did you mean identity"):
        get_trace("identity.machineid")


def test_every_finder_is_named_by_the_catalogue_and_the_other_way_round() -> None:
    places = [where.locator for trace in load_catalogue() for where in trace.places]
    named = {where.name for where in places if isinstance(where, InCode)}
    assert named == {get_finder(name).name for name in named} == set(defined_finders())


@pytest.mark.parametrize(
    ("path", "before", "after"),
    [
        ("/etc/passwd", "root:x:0\nada:x:1\nadam:x:2", "root:x:0\nadam:x:2"),
        ("/etc/group", "sudo:x:27:ada,tom\nada:x:1:\nx:x:2:ada\n", "sudo:x:27:tom\nx:x:2:\n"),
        ("/etc/gshadow", "sudo:*:ada:ada,tom\nada:!::\n", "sudo:*::tom\n"),
        ("/etc/subuid", "ada:1:2\ntom:3:4\n", "tom:3:4\n"),
        ("/etc/shadow", "# keep\n\nada:$6:\n", "# keep\n\n"),
    ],
)
def test_accounts_are_dropped_from_every_kind_of_file(path: str, before: str, after: str) -> None:
    assert DropAccounts(path, ("ada",), ("ada",)).edited(before) == after


def test_a_password_is_locked_and_its_hash_dropped() -> None:
    change = LockPassword("/etc/shadow", "root")
    assert change.edited("a:$6:1\nroot:$6$hash:2:3\n") == "a:$6:1\nroot:!:2:3\n"
    assert change.edited("root:!$6$hash:2:3\n") == "root:!:2:3\n"
    for clean in ("root:*:2:3\n", "root:!:2:3", "root:!!:2:3\n", "other::1:2\n"):
        assert change.edited(clean) == clean


def test_host_names_are_dropped_with_their_longer_forms() -> None:
    change = DropHostNames("/etc/hosts", ("pier.x.example",))
    before = "127.0.0.1 localhost\n127.0.1.1 pier.x.example pier\n::1 ip6 pier # old\n#c pier\n"
    assert change.edited(before) == "127.0.0.1 localhost\n::1 ip6 # old\n#c pier\n"
