"""Secrets that stay on a Linux: in the places where programs keep them, and by their look.

What the plan removes or rewrites is left out, and what packages shipped and nobody changed. A
secret may have to stay: the sweep tells, and house rules decide.
"""

from __future__ import annotations

import io
import re
import tarfile
import zipfile
from collections.abc import Collection, Iterator
from itertools import islice
from typing import NamedTuple

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.compressors import UNPACK_ERRORS, Packing, find_packing, iter_unpacked
from zeroseal.sealing.house_rules import any_pattern_fits
from zeroseal.sealing.linux import secret_looks as looks
from zeroseal.sealing.linux.projected import ProjectedLinux
from zeroseal.sealing.what_stays import SECRET_KINDS, StayingSecret


class _Known(NamedTuple):
    """A place where secrets are kept; ``contains`` tells one that is filled in."""

    kind: str
    reason: str
    patterns: tuple[str, ...]
    contains: re.Pattern[bytes] = re.compile(rb"(?m)^[ \t]{0,8}[^#\s;]")


_PLACES = (
    _Known(
        "mail-passwords",
        "is where a mail program keeps the login to its relay",
        ("/etc/postfix/sasl_passwd", "/etc/postfix/sasl_passwd.db", "/etc/postfix/sasl/*passw*",
         "/etc/exim4/passwd.client", "/etc/mail/authinfo*", "/etc/fetchmailrc", "/etc/esmtprc"),
    ),
    _Known(
        "mail-passwords",
        "names a password for a mail relay",
        ("/etc/msmtprc", "/etc/ssmtp/ssmtp.conf", "/etc/nullmailer/remotes", "/etc/mail.rc"),
        re.compile(rb"(?im)^[^#\n]{0,200}(?:pass=|password[ \t]|authpass|smtp-auth-password)"),
    ),
    _Known(
        "line-passwords",
        "has the password of a line",
        ("/etc/ppp/chap-secrets", "/etc/ppp/pap-secrets", "/etc/ppp/srp-secrets",
         "/etc/xl2tpd/l2tp-secrets"),
        re.compile(rb"(?m)^[ \t]{0,8}[^#\s]{1,100}[ \t]{1,80}\S{1,100}[ \t]{1,80}"
                   rb"\"?(?![*-]\"?[ \t\r\n])[^\s\"]"),
    ),
    _Known(
        "source-passwords",
        "is where the package manager keeps logins to its sources",
        ("/etc/apt/auth.conf", "/etc/apt/auth.conf.d/*", "/etc/zypp/credentials.d/*",
         "/etc/zypp/credentials.cat"),
    ),
    _Known(
        "source-passwords",
        "has a password for a source",
        ("/etc/yum.repos.d/*.repo", "/etc/zypp/repos.d/*.repo", "/etc/dnf/dnf.conf",
         "/etc/yum.conf"),
        re.compile(rb"(?im)^[ \t]{0,8}(?:proxy_)?password[ \t]{0,8}=[ \t]{0,8}\S"),
    ),
    _Known(
        "service-passwords",
        "is where a service keeps its password or those of its users",
        ("/etc/ldap.secret", "/etc/pam_ldap.secret", "/etc/libnss-ldap.secret",
         "/etc/rsyncd.secrets",
         "/etc/smbcredentials*", "/etc/samba/*cred*", "/etc/cifs*cred*", "/etc/krb5kdc/stash",
         "/etc/ceph/*.keyring", "/etc/squid/passwd*", "/etc/mosquitto/passw*",
         "/etc/pgbouncer/userlist.txt", "/etc/*/.htpasswd", "/etc/*/htpasswd*", "/etc/htpasswd*",
         "/var/www/**/.htpasswd"),
    ),
    _Known(
        "service-passwords",
        "has a password that its package made or somebody set",
        ("/etc/mysql/debian.cnf", "/etc/mysql/**/*.cnf", "/etc/my.cnf", "/etc/my.cnf.d/*.cnf"),
        re.compile(rb"(?m)^[ \t]{0,8}password[ \t]{0,8}=[ \t]{0,8}\S"),
    ),
    _Known(
        "cloud-credentials",
        "is where a tool keeps its login",
        ("/etc/containers/auth.json", "/etc/boto.cfg", "/etc/rclone.conf", "/etc/s3cmd.conf",
         "/etc/passwd-s3fs", "/var/lib/kubelet/config.json", "/etc/cni/net.d/*kubeconfig",
         "/etc/davfs2/secrets"),
    ),
)  # fmt: skip
_HOME_PLACES = (
    ("cloud-credentials", (
        ".aws/credentials", ".azure/*.json", ".config/gcloud/*credential*", ".kube/config",
        ".docker/config.json", ".config/containers/auth.json", ".config/rclone/rclone.conf",
        ".s3cfg", ".boto", ".oci/*", ".config/gh/hosts.yml", ".passwd-s3fs")),
    ("source-passwords", (
        ".netrc", ".git-credentials", ".config/git/credentials", ".npmrc", ".pypirc",
        ".cargo/credentials*", ".gem/credentials", ".m2/settings.xml")),
    ("service-passwords", (".pgpass", ".my.cnf", ".mylogin.cnf", ".smbcredentials", ".vnc/passwd")),
    ("mail-passwords", (".msmtprc", ".fetchmailrc", ".muttrc", ".mbsyncrc")),
)  # fmt: skip
_ROOTS = ("/etc", "/opt", "/usr/local", "/srv", "/var/www", "/var/lib", "/var/spool/cron", "/boot")
_NOT_LOOKED_INTO = re.compile(
    r"^/var/lib/(dpkg|apt|ucf|rpm|pacman|apk|mysql|mariadb|postgresql|mongodb|redis|docker"
    r"|containers|containerd|lxc|lxd|machines|libvirt/images|flatpak|snapd|systemd/catalog"
    r"|mlocate|plocate|man-db|texmf|aspell|ispell|dictionaries|selinux|gems|usbutils|misc"
    r"|command-not-found|ieee-data|iptables|swcatalog|app-info|PackageKit)(/|$)"
    r"|^/etc/(ssl/certs|pki/ca-trust|ca-certificates|alternatives|selinux|apparmor\.d|fonts)(/|$)"
    r"|^/boot/(grub|efi|initr|vmlinuz|System\.map|config-)"
    r"|/(__pycache__|\.git|node_modules|site-packages|dist-packages)/|\.(pyc|so|jar|mo|gz|xz|zst)$"
)
_JOBS = re.compile(
    r"^/etc/(crontab|cron\.[a-z]+/|systemd/|init\.d/|rc\.local$|default/|environment$|profile\.d/)"
    r"|^/var/spool/cron/|^/usr/local/lib/systemd/"
)
_SETTINGS = re.compile(r"^/(etc|usr/local/etc|opt/.{1,200}\.(conf|cfg|ini|env|ya?ml|json|toml)$)")
_NO_SETTINGS = re.compile(r"^/etc/(nsswitch\.conf|pam\.d/|login\.defs|shadow|gshadow|passwd|group)")
_KEY_HOMES = re.compile(r"^/etc/(ssh/ssh_host_|dropbear/)")
_SELF_MADE = "/etc/ssl/private/ssl-cert-snakeoil.key"
_SKELETON = "/etc/skel/"
_ARCHIVE_PLACES = ("/root", "/srv", "/var/backups", "/opt", "/usr/local", "/backup", "/mnt")
_ARCHIVE = re.compile(
    r"(?i)\.(tar|tgz|tbz2?|txz|tzst|zip|cpio|sql|dump|ldif|pgdump|bak)(\.(gz|bz2|xz|zst|lz4))?$"
    r"|\.(sql|dump|ldif)\b"
)
_DUMP = re.compile(
    rb"\A(?:PGDMP|/\*!999999|-- (?:MySQL|MariaDB|PostgreSQL|SQLite)|--\r?\n-- PostgreSQL database"
    rb"|PRAGMA foreign_keys|(?:version: 1\r?\n\r?\n?)?dn: )"
)
_OF_INTEREST = re.compile(
    r"^[./]*(etc/(shadow|gshadow|passwd|ssh/|ssl/private|sudoers|machine-id|hostname)|root/\.|"
    r"home/[^/]+/\.|var/lib/(mysql|postgresql)/)|(^|/)(shadow|id_(rsa|ed25519|ecdsa))$"
)
_LONGEST_TEXT = 256 << 10
_LONGEST_ARCHIVE, _LONGEST_CONTENT = 128 << 20, 256 << 20
_MOST_FILES, _MOST_MEMBERS, _MOST_ATTRIBUTE = 50_000, 20_000, 64 << 10


def find_secrets(projected: ProjectedLinux, handled: Collection[str]) -> list[StayingSecret]:
    """The files with secrets that stay, each once, by path.

    Args:
        projected: what clones will find.
        handled: places that the plan treats.
    """
    found: dict[str, StayingSecret] = {}
    allowed = projected.policy.secret_places
    for secret in _iter_all(projected):
        path = secret.path.partition(":")[0]
        is_known = secret.path in found or path in handled or path in projected.gone
        if not is_known and not any_pattern_fits(allowed, path):
            found[secret.path] = secret
    return sorted(found.values(), key=lambda one: (list(SECRET_KINDS).index(one.kind), one.path))


# -- inside


def _iter_all(projected: ProjectedLinux) -> Iterator[StayingSecret]:
    yield from _of_known_places(projected)
    yield from _of_homes(projected)
    yield from _by_look(projected)
    yield from _in_archives(projected)


def _of_known_places(projected: ProjectedLinux) -> Iterator[StayingSecret]:
    guest = projected.guest
    for known in _PLACES:
        for path in (path for pattern in known.patterns for path in guest.glob(pattern)):
            content = guest.read_file(path, _LONGEST_TEXT) if guest.is_file(path) else b""
            is_filled_in = known.contains.search(content)
            if is_filled_in and not projected.inspection.system.is_shipped(path):
                yield StayingSecret(path, known.kind, known.reason)


def _of_homes(projected: ProjectedLinux) -> Iterator[StayingSecret]:
    """What tools keep in home folders that stay; accounts to come get a copy of the skeleton."""
    guest = projected.guest
    homes = [account.home.rstrip("/") for account in projected.context.iter_homes()]
    for home in (*homes, _SKELETON.rstrip("/")):
        for kind, patterns in _HOME_PLACES:
            for path in (path for pattern in patterns for path in guest.glob(f"{home}/{pattern}")):
                if guest.is_file(path) and guest.facts(path).size_bytes:
                    yield _told(path, kind, "is where a tool keeps its login")


def _by_look(projected: ProjectedLinux) -> Iterator[StayingSecret]:
    system = projected.inspection.system
    for path, node_attributes in islice(_iter_files(projected), _MOST_FILES):
        content = projected.guest.read_file(path, _LONGEST_TEXT)
        secret = _look_at(path, content)
        if secret and not system.is_shipped(path):
            yield secret
        for name, value in node_attributes.items():
            if looks.find_secret(value):
                yield StayingSecret(
                    f"{path}: {name}", "kept-tokens", "is an extended attribute with a secret in it"
                )


def _look_at(path: str, content: bytes) -> StayingSecret | None:
    kind = looks.find_secret(content)
    if kind == "private-keys":
        if _KEY_HOMES.match(path) or path == _SELF_MADE:
            return None
        return _told(path, kind, "is a private key, or has one in it")
    if kind == "kept-tokens":
        return _told(path, _of_job(path, kind), "has a token with a prefix that its makers publish")
    if kind:
        is_source = path.startswith(("/etc/apt/", "/etc/yum.repos.d/", "/etc/pip.conf"))
        kind = "source-passwords" if is_source else _of_job(path, kind)
        return _told(path, kind, "has a password in an address")
    if _JOBS.match(path) and looks.has_secret_in_line(content):
        return _told(path, "job-secrets", "passes a password or token in a line")
    if path == "/etc/fstab" and looks.has_password_in_mount(content):
        return _told(path, "setting-passwords", "has a password among mount options")
    is_setting = _SETTINGS.match(path) and not _NO_SETTINGS.match(path)
    if is_setting and looks.has_password_setting(content):
        return _told(path, "setting-passwords", "has a setting that is called a password")
    return None


def _of_job(path: str, kind: str) -> str:
    return "job-secrets" if _JOBS.match(path) else kind


def _told(path: str, kind: str, reason: str) -> StayingSecret:
    is_skeleton = path.startswith(_SKELETON)
    return StayingSecret(path, "skeleton-secrets" if is_skeleton else kind, reason)


def _iter_files(projected: ProjectedLinux) -> Iterator[tuple[str, dict[str, bytes]]]:
    """Yields files that may be looked into, with their extended attributes of users."""
    guest = projected.guest
    homes = (account.home.rstrip("/") for account in projected.context.iter_homes())
    for root in dict.fromkeys((*_ROOTS, *homes)):
        if not guest.is_folder(root):
            continue
        for path, facts in guest.walk(root):
            is_small = facts.kind is Kind.FILE and 0 < facts.size_bytes <= _LONGEST_TEXT
            if is_small and not _NOT_LOOKED_INTO.search(path) and path not in projected.gone:
                yield path, _user_attributes(projected, path)


def _user_attributes(projected: ProjectedLinux, path: str) -> dict[str, bytes]:
    return {
        name.decode("utf-8", "replace"): value
        for name, value in projected.guest.read_attributes(path).items()
        if name.startswith(b"user.") and len(value) <= _MOST_ATTRIBUTE
    }


# -- archives


def _in_archives(projected: ProjectedLinux) -> Iterator[StayingSecret]:
    guest = projected.guest
    homes = (account.home.rstrip("/") for account in projected.context.iter_homes())
    for place in dict.fromkeys((*_ARCHIVE_PLACES, *homes)):
        for path, facts in guest.walk(place) if guest.is_folder(place) else ():
            if facts.kind is not Kind.FILE or not _ARCHIVE.search(path):
                continue
            if not facts.size_bytes or facts.size_bytes > _LONGEST_ARCHIVE:
                continue
            reason = _judge_archive(guest.read_file(path, _LONGEST_ARCHIVE))
            if reason:
                yield _told(path, "kept-archives", reason)


def _judge_archive(raw: bytes) -> str:
    """Why a packed or plain archive or dump is told; empty where it is not."""
    try:
        if find_packing(raw) is Packing.ZIP:
            names = zipfile.ZipFile(io.BytesIO(raw)).namelist()[:_MOST_MEMBERS]
            return _judge_names(names)
        content = _unpacked(raw) if find_packing(raw) else raw
    except UNPACK_ERRORS:
        return ""
    if _DUMP.match(content[:256]):
        return "is a dump of a database"
    try:
        with tarfile.open(fileobj=io.BytesIO(content), mode="r:") as archive:
            return _judge_names([one.name for one in islice(archive, _MOST_MEMBERS)])
    except (tarfile.TarError, ValueError, OSError):
        return ""


def _judge_names(names: list[str]) -> str:
    if any(_OF_INTEREST.search(name) for name in names):
        return "is an archive with settings of the system or files of homes"
    return ""


def _unpacked(raw: bytes) -> bytes:
    content = bytearray()
    for piece in iter_unpacked(raw):
        content += piece
        if len(content) > _LONGEST_CONTENT:
            break
    return bytes(content)
