"""The guest's tree: mounts by fstab, links that never leave it, accounts, services."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import (
    BARE_GUEST,
    ROOT_UUID,
    SEEDING,
    make_disk,
    make_ext,
    make_guest_volume,
    write_tree,
)
from tests.oracles import cut_partition, judge_ext, run
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import DamagedError, NoGuestError, RefusedError, UnsupportedError
from zeroseal.filesystems.drivers import VolumeTrees, read_disk
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.accounts import read_accounts
from zeroseal.guests.linux.cloud_init import read_cloud_init
from zeroseal.guests.linux.facts import parse_assignments, read_facts
from zeroseal.guests.linux.fstab import find_volume, parse_fstab
from zeroseal.guests.linux.host_key_files import iter_host_keys
from zeroseal.guests.linux.services import Services
from zeroseal.guests.open import open_guest
from zeroseal.images.detect import open_image
from zeroseal.sealing.job import SealRequest, seal
from zeroseal.sealing.policy import SealOptions, resolve
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.volumes.volume import Content, Volume


def guest_of(folder: Path, tree: dict[str, str], without: str = "nothing") -> Guest:
    whole = {path: text for path, text in BARE_GUEST.items() if without not in path} | tree
    path = make_guest_volume(folder, whole)
    return open_guest(read_disk(open_image(path)), VolumeTrees()).guest


def test_links_are_resolved_inside_the_guest_only(tmp_path: Path) -> None:
    guest = guest_of(
        tmp_path,
        {
            "/absolute": "-> /etc/hostname",
            "/up": "-> ../../../../../../etc/passwd",
            "/etc/folder": "-> ../var/log",
            "/loop": "-> loop2",
            "/loop2": "-> loop",
            "/broken": "-> /nowhere",
        },
    )
    assert guest.read_text("/absolute") == "pier-ref\n"
    assert guest.read_text("/up").startswith("root:x:0:0:root:/root:/bin/bash\nada.brine")
    assert guest.read_text("/etc/folder/../log/gate.log") == "log-canary ada.brine\n"
    found = guest.find("/etc/folder/gate.log")
    assert found
    assert found.path == "/var/log/gate.log"
    assert not guest.exists("/broken")
    assert guest.find("/broken", follow_last=False)
    assert guest.find("/etc/hostname/x") is None
    with pytest.raises(DamagedError, match="too many symbolic links"):
        guest.find("/loop")


@pytest.mark.parametrize(
    ("pattern", "expected"),
    [
        ("/etc/host*", ["/etc/hostname", "/etc/hosts"]),
        ("/etc/hostname", ["/etc/hostname"]),
        ("/etc/missing", []),
        ("/home/*/.ssh/*", ["/home/ada.brine/.ssh/authorized_keys"]),
        ("/home/ada.brine/*", []),
        ("/home/ada.brine/.*", ["/home/ada.brine/.bash_history", "/home/ada.brine/.ssh"]),
        ("/var/**", ["/var/log", "/var/log/app", "/var/log/app/old.1", "/var/log/gate.log"]),
        ("/var/**/*.1", ["/var/log/app/old.1"]),
        ("/var/**/*.[0-9]", ["/var/log/app/old.1"]),
        ("/logs/*.log", ["/var/log/gate.log"]),
        ("/logs", ["/logs"]),
        ("/lo?s/app/*", ["/var/log/app/old.1"]),
    ],
)
def test_patterns_match_canonical_paths(tmp_path: Path, pattern: str, expected: list[str]) -> None:
    guest = guest_of(tmp_path, {"/var/log/app/old.1": "x", "/logs": "-> var/log"})
    assert guest.glob(pattern) == expected


def test_volumes_are_mounted_by_the_guests_own_fstab(tmp_path: Path) -> None:
    tree = BARE_GUEST | {
        "/etc/fstab": f"UUID={ROOT_UUID} / ext4 defaults 0 1\n"
        "/dev/vda2 /srv/tide\\040data ext4 defaults 0 2\n"
        "LABEL=inner /srv/tide\\040data/inner ext4 defaults 0 2\n"
        "PARTUUID=none-such /mnt/gone ext4 defaults 0 0\n"
        "LABEL=SWAP none swap sw 0 0\ntmpfs /tmp tmpfs defaults 0 0\nnonsense\n"
        "/dev/vda5 /data squashfs defaults 0 0\n",
        "/srv/tide data/hidden": "covered by the mount",
    }
    del tree["/home/ada.brine/.bash_history"], tree["/home/ada.brine/.ssh/authorized_keys"]
    root = make_guest_volume(tmp_path, tree)
    for name, content in (
        ("data", {"/inner/": "", "/seen": "data"}),
        ("inner", {"/deep": "inner"}),
    ):
        write_tree(tmp_path / name, content)
        make_ext(tmp_path / f"{name}.img", 4, "-t", "ext4", "-L", name, tree=tmp_path / name)
    (tmp_path / "swap.img").write_bytes(bytes(1 << 20))
    run("mkswap", "-q", "-L", "SWAP", tmp_path / "swap.img")
    (tmp_path / "packed.img").write_bytes(b"hsqs" + bytes(1 << 20))
    parts = [root, *(tmp_path / f"{name}.img" for name in ("data", "inner", "swap", "packed"))]
    disk = make_disk(tmp_path / "disk.raw", *(("8300", part) for part in parts))
    opened = open_guest(read_disk(open_image(disk)), VolumeTrees())
    guest = opened.guest
    assert [mount.path for mount in guest.mounts] == ["/", "/srv/tide data", "/srv/tide data/inner"]
    assert guest.list_names("/srv/tide data") == ["inner", "lost+found", "seen"]
    assert guest.read_text("/srv/tide data/inner/deep") == "inner"
    assert guest.glob("/srv/**/deep") == ["/srv/tide data/inner/deep"]
    assert opened.unread == [
        "/mnt/gone (PARTUUID=none-such is not on this disk)",
        "/data (partition 5, squashfs)",
    ]
    assert [volume.name for volume in opened.swaps] == ["partition 4"]


def test_a_home_on_its_own_volume_is_emptied_and_one_with_a_mount_in_it_refused(
    tmp_path: Path,
) -> None:
    tree = {path: text for path, text in BARE_GUEST.items() if not path.startswith("/home")}
    fstab = BARE_GUEST["/etc/fstab"] + "LABEL=own /home/ada.brine ext4 defaults 0 2\n"
    write_tree(tmp_path / "own", {"/.bash_history": "own-canary", "/deep/er": "own-canary"})
    own = make_ext(tmp_path / "own.img", 4, "-t", "ext4", "-L", "own", tree=tmp_path / "own")
    # the name of the account stays in fstab, and with its mount point in /home
    policy = resolve(SealOptions(expect_seed=True, plant_first_boot=True, allow_residue=True))
    root = make_guest_volume(tmp_path, tree | {"/etc/fstab": fstab, "/home/ada.brine/": ""})
    disk = make_disk(tmp_path / "d.raw", ("8300", root), ("8300", own))
    seal(SealRequest(disk, NewFile(tmp_path / "o.raw"), policy, 1_800_000_000))
    assert b"own-canary" not in (tmp_path / "o.raw").read_bytes()
    for number in (1, 2):
        judge_ext(cut_partition(tmp_path / "o.raw", number, tmp_path / "v.ext4"))
    assert "/ada.brine/" in run("debugfs", "-R", "ls -p /home", root)

    fstab = fstab.replace("/home/ada.brine ", "/home/ada.brine/deep ")
    root = make_guest_volume(tmp_path, tree | {"/etc/fstab": fstab, "/home/ada.brine/deep/": ""})
    disk = make_disk(tmp_path / "d.raw", ("8300", root), ("8300", own))
    with pytest.raises(RefusedError, match="is mounted below it on"):
        seal(SealRequest(disk, NewFile(tmp_path / "p.raw"), policy, 1_800_000_000))


def test_a_temporary_folder_on_its_own_volume_keeps_its_lost_found(tmp_path: Path) -> None:
    fstab = BARE_GUEST["/etc/fstab"] + "LABEL=tmp /tmp ext4 defaults 0 2\n"
    write_tree(tmp_path / "tmp", {"/a/b": "tmp-canary"})
    own = make_ext(tmp_path / "tmp.img", 4, "-t", "ext4", "-L", "tmp", tree=tmp_path / "tmp")
    root = make_guest_volume(tmp_path, BARE_GUEST | {"/etc/fstab": fstab, "/tmp/": ""})
    disk = make_disk(tmp_path / "d.raw", ("8300", root), ("8300", own))
    policy = resolve(SealOptions(expect_seed=True, plant_first_boot=True))
    seal(SealRequest(disk, NewFile(tmp_path / "o.raw"), policy, 1_800_000_000))
    assert b"tmp-canary" not in (tmp_path / "o.raw").read_bytes()
    judge_ext(cut_partition(tmp_path / "o.raw", 2, tmp_path / "v.ext4"))


@pytest.mark.parametrize(
    ("spec", "is_it"),
    [
        ("UUID=ABCD-1234", True),
        ("uuid=abcd-1234", True),
        ('LABEL="my label"', True),
        ("LABEL=", False),
        ("PARTUUID=11-22", True),
        ("PARTLABEL=root", True),
        ("/dev/sda3", True),
        ("/dev/nvme0n1p3", True),
        ("/dev/sdb3", False),
        ("/dev/sda33", False),
        ("/dev/disk/by-uuid/ABCD-1234", True),
        ("/dev/mapper/vg-root", False),
    ],
)
def test_every_way_to_name_a_volume(spec: str, is_it: bool) -> None:
    content = Content("ext4", "abcd-1234", "my label")
    volume = Volume("partition 3", 3, MemoryStore(b""), 0, content, "", "11-22", "root")
    assert (find_volume(spec, [volume]) is volume) is is_it


def test_an_fstab_with_nonsense_loses_only_the_nonsense() -> None:
    entries = parse_fstab("# comment\n\nUUID=1 / ext4 ro,noatime 0 1\nalone\n a b c\n")
    assert [(entry.spec, entry.mount_point, entry.options) for entry in entries] == [
        ("UUID=1", "/", ("ro", "noatime")),
        ("a", "b", ()),
    ]


def test_accounts_are_human_by_login_defs_and_shell(tmp_path: Path) -> None:
    guest = guest_of(
        tmp_path,
        {
            "/etc/login.defs": "# x\nUID_MIN 500\nUID_MAX\t999\n",
            "/etc/passwd": "root:x:0:0::/root:/bin/sh\ntom:x:500:500::/home/tom:/bin/zsh\n"
            "svc:x:600:600::/srv:/usr/sbin/nologin\nada:x:1000:1000::/home/ada:/bin/sh\n"
            "open::700:700::/home/open:/bin/sh\nbroken:x:y:z::/:\n",
            "/etc/shadow": "root:!:1:\ntom:$y$x:1:\nsvc:*:1:\nada::1:\n",
        },
    )
    found = {
        account.name: (account.is_human, account.has_password) for account in read_accounts(guest)
    }
    assert found == {
        "root": (False, False),
        "tom": (True, True),
        "svc": (False, False),
        "ada": (False, True),
        "open": (True, True),
    }


UNITS = "/usr/lib/systemd/system"
WANTS = "/etc/systemd/system/multi-user.target.wants"


def test_a_unit_is_started_if_a_boot_reaches_it_and_its_conditions_hold(tmp_path: Path) -> None:
    guest = guest_of(
        tmp_path,
        {
            "/usr/lib/systemd/systemd": "",
            f"{WANTS}/a.service": f"-> {UNITS}/a.service",
            f"{UNITS}/a.service": "[Unit]\nWants=pulled.service\n[Service]\n"
            "ExecStartPre=-/opt/make-keys now\n",
            f"{UNITS}/pulled.service": "[Unit]\nConditionPathExists=!/etc/key\n",
            "/etc/key": "",
            "/opt/make-keys": "#!/bin/sh\nssh-keygen -A\n",
            f"{WANTS}/masked.service": f"-> {UNITS}/masked.service",
            f"{UNITS}/masked.service": "",
            "/etc/systemd/system/masked.service": "-> /dev/null",
            f"{WANTS}/missing.service": f"-> {UNITS}/missing.service",
            f"{UNITS}/sockets.target.requires/keys@rsa.service": "",
            f"{UNITS}/keys@.service": "[Unit]\n",
            f"{UNITS}/unreached.target.wants/other.service": "",
            f"{UNITS}/other.service": "[Service]\nExecStart=/opt/other\n",
            f"{UNITS}/timers.target.wants/t.timer": "",
            f"{UNITS}/t.timer": "",
            f"{UNITS}/t.service": "[Unit]\nConditionFirstBoot=yes\n",
            f"{UNITS}/named.service": "[Unit]\n",
            f"{WANTS}/dbus-named.service": "-> x",
            "/etc/systemd/system/dbus-named.service": f"-> {UNITS}/named.service",
            f"{WANTS}/dropped.service": "-> x",
            f"{UNITS}/dropped.service": "[Unit]\n",
            "/etc/systemd/system/dropped.service.d/no.conf": "[Unit]\nConditionPathExists=/none\n",
        },
    )
    services = Services(guest)
    for name in ("a.service", "keys@*.service", "named.service"):
        assert services.is_enabled(name), name
    for name in ("masked.service", "missing.service", "other.service", "pulled.service",
                 "t.service", "dropped.service"):  # fmt: skip
        assert not services.is_enabled(name), name
    assert services.is_enabled("pulled.service", gone={"/etc/key"})
    assert services.find_caller(["ssh-keygen -A"]) == "a.service"
    assert services.find_caller(["/opt/other"]) == ""


def test_openrc_and_system_v_start_the_scripts_of_their_runlevels(tmp_path: Path) -> None:
    tree = {"/etc/init.d/sshd": "#!/sbin/openrc-run\nstart() { ssh-keygen -A; }\n"}
    openrc = Services(
        guest_of(tmp_path, tree | {"/etc/runlevels/default/sshd": "-> x"}, without="systemd")
    )
    assert openrc.has_openrc
    assert openrc.is_enabled("sshd.service")
    assert not openrc.is_enabled("ntpd")
    assert openrc.find_caller(["ssh-keygen -A"]) == "sshd"
    system_v = Services(
        guest_of(tmp_path, tree | {"/etc/rc2.d/S20sshd": "-> x"}, without="systemd")
    )
    assert system_v.find_caller(["ssh-keygen -A"]) == "sshd"


@pytest.mark.parametrize(
    ("tree", "takes", "media", "off_by"),
    [
        (SEEDING, True, True, ""),
        ({}, False, False, ""),
        (SEEDING | {"/etc/cloud/cloud-init.disabled": ""}, False, False, "cloud-init.disabled"),
        (SEEDING | {"/etc/cloud/ds-identify.cfg": "policy: disabled\n"}, False, False, "ds-id"),
        (
            SEEDING | {"/etc/default/grub": 'GRUB_CMDLINE_LINUX="cloud-init=disabled"\n'},
            False,
            False,
            "/etc/default/grub",
        ),
        ({"/usr/bin/cloud-init": ""}, False, False, "none of its services"),
        (
            SEEDING | {"/etc/cloud/cloud.cfg.d/99.cfg": "datasource_list: [None]\n"},
            False,
            False,
            "",
        ),
        (
            SEEDING | {"/etc/cloud/cloud.cfg.d/99.cfg": "datasource_list: [OpenStack]\n"},
            True,
            False,
            "",
        ),
        (SEEDING | {"/etc/cloud/cloud.cfg": "not: [yaml\n"}, True, True, ""),
    ],
)
def test_what_cloud_init_will_do_is_read_from_its_configuration(
    tmp_path: Path, tree: dict[str, str], takes: bool, media: bool, off_by: str
) -> None:
    guest = guest_of(tmp_path, {"/usr/lib/systemd/systemd": ""} | tree)
    found = read_cloud_init(guest, Services(guest))
    assert (found.takes_seeds, found.takes_seed_media) == (takes, media)
    assert off_by in found.off_by
    assert bool(off_by) == bool(found.off_by)


def test_host_keys_are_found_where_the_server_is_told_to_look(tmp_path: Path) -> None:
    guest = guest_of(
        tmp_path,
        {
            "/etc/ssh/sshd_config": "Include sshd_config.d/*.conf\nHostKey none\n#HostKey /no\n",
            "/etc/ssh/sshd_config.d/a.conf": "hostkey=/persist/key\nHostKey /gone\n",
            "/persist/key": "",
        },
    )
    assert list(iter_host_keys(guest)) == [
        "/etc/ssh/ssh_host_ed25519_key",
        "/persist/key",
    ]


def test_os_release_is_read_as_shell_assignments(tmp_path: Path) -> None:
    text = 'NAME="Tide \\"Line\\""\n# no\nID=tideline\nBAD=\'unclosed\nEMPTY=\n'
    assert parse_assignments(text) == {"NAME": 'Tide "Line"', "ID": "tideline", "EMPTY": ""}
    facts = read_facts(guest_of(tmp_path, {"/etc/hostname": "# c\n  pier-9 \n"}))
    assert (facts.name, facts.os_id, facts.host_name) == ("Tideline Linux", "tideline", "pier-9")


def test_a_disk_without_a_guest_says_what_is_there_instead(tmp_path: Path) -> None:
    make_ext(tmp_path / "data.img", 4)
    with pytest.raises(NoGuestError, match="partition 1 \\(ext4\\)"):
        disk = make_disk(tmp_path / "d.raw", ("8300", tmp_path / "data.img"))
        open_guest(read_disk(open_image(disk)), VolumeTrees())


def test_an_encrypted_volume_is_refused(tmp_path: Path) -> None:
    root = make_guest_volume(tmp_path, BARE_GUEST)
    (tmp_path / "luks.img").write_bytes(b"LUKS\xba\xbe\0\2".ljust(1 << 20, b"\0"))
    disk = make_disk(tmp_path / "d.raw", ("8300", root), ("8309", tmp_path / "luks.img"))
    with pytest.raises(UnsupportedError, match="partition 2 is not supported: it is encrypted"):
        open_guest(read_disk(open_image(disk)), VolumeTrees())


def test_a_volume_without_a_folder_to_mount_it_on_is_a_blocker(
    tmp_path: Path, zeroseal: Command
) -> None:
    fstab = BARE_GUEST["/etc/fstab"] + "LABEL=data /srv/none ext4 defaults 0 2\n"
    root = make_guest_volume(tmp_path, BARE_GUEST | {"/etc/fstab": fstab})
    run("mke2fs", "-q", "-t", "ext4", "-L", "data", tmp_path / "data", "4M")
    disk = make_disk(tmp_path / "d.raw", ("8300", root), ("8300", tmp_path / "data"))
    answer = zeroseal("seal", disk, "-o", tmp_path / "o", "--expect-seed", "--plant-first-boot")
    assert answer.status == 4
    assert "/srv/none (partition 2, but that folder was not found)" in answer.err


def test_a_file_that_takes_the_node_of_another_reads_as_itself(tmp_path: Path) -> None:
    staged = StagedStore(open_image(make_guest_volume(tmp_path, BARE_GUEST)))
    guest = open_guest(read_disk(staged), VolumeTrees()).guest
    guest.start_editing(0)
    before = guest.find("/etc/hostname")
    assert before
    assert guest.read_text("/etc/hostname") == "pier-ref\n"
    guest.remove("/etc/hostname")
    guest.create_file("/etc/quay", b"a gate\n", 0o644)
    after = guest.find("/etc/quay")
    assert after
    assert after.place == before.place
    assert guest.read_text("/etc/quay") == "a gate\n"
