"""All names that a Linux guest has had: the one it has now, and those that other files keep.

A machine that was renamed keeps its first name behind 127.0.1.1, in mail settings, in leases, at
the head of its logs and in the certificate that a package made for it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.facts import read_host_name

_NEUTRAL = {
    "localhost", "localhost6", "localdomain", "localdomain6", "ip6-localhost", "template",
    "unnamed", "none", "debian", "ubuntu", "linux", "fedora", "archlinux", "alpine", "opensuse",
    "rocky", "almalinux", "host", "vm",
}  # fmt: skip
_NAME = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?$")
_OWN_ADDRESS = "127.0.1.1"
_HOSTS_FILES = ("/etc/hosts", "/var/spool/postfix/etc/hosts")
_MAIL_KEYS = re.compile(r"(?m)^(?:myhostname|mydestination|myorigin)\s*=\s*(.*)$")
_SENT = re.compile(r'(?m)^\s*(?:send|option) host-name "([^"]+)"')
_SENT_FILES = ("/var/lib/dhcp/*", "/var/lib/dhclient/*", "/etc/dhcp/dhclient.conf")
_JOURNALS = "/var/log/journal/*/*.journal"
_IN_JOURNAL = re.compile(rb"_HOSTNAME=([A-Za-z0-9][A-Za-z0-9.-]{0,62})")
_LOGS = ("/var/log/syslog", "/var/log/messages", "/var/log/kern.log")
_KERNEL_LINE = re.compile(r"(?m)^(?:\w{3} [ \d]\d [\d:]{8}|\d{4}-\d\d-\d\dT\S+) (\S+) kernel: ")
_CERTIFICATE = "/etc/ssl/certs/ssl-cert-snakeoil.pem"
_MOST_JOURNALS, _JOURNAL_BYTES, _LOG_BYTES = 4, 4 << 20, 64 << 10


def read_names(guest: Guest) -> dict[str, str]:
    """{name: where it stands} of all names, without their domains; the present one first."""
    found: dict[str, str] = {}
    for name, where in _iter_names(guest):
        short = name.partition(".")[0].lower()
        if short not in _NEUTRAL and _NAME.match(short) and not short.isdigit():
            found.setdefault(short, where)
    return found


def _iter_names(guest: Guest) -> Iterator[tuple[str, str]]:
    yield read_host_name(guest), "/etc/hostname"
    for path in _HOSTS_FILES:
        for line in guest.read_text(path).splitlines():
            words = line.partition("#")[0].split()
            if words[:1] == [_OWN_ADDRESS]:
                yield from ((word, path) for word in words[1:])
    yield guest.read_text("/etc/mailname").strip(), "/etc/mailname"
    for value in _MAIL_KEYS.findall(guest.read_text("/etc/postfix/main.cf")):
        words = [word for word in re.split(r"[,\s]+", value) if word and word[0] not in "$/"]
        yield from ((word, "/etc/postfix/main.cf") for word in words)
    for path in [path for pattern in _SENT_FILES for path in guest.glob(pattern)]:
        yield from ((name, path) for name in _SENT.findall(guest.read_text(path)))
    for path in guest.glob(_JOURNALS)[:_MOST_JOURNALS]:
        raw = guest.read_file(path, _JOURNAL_BYTES) if guest.is_file(path) else b""
        yield from ((name.decode(), path) for name in dict.fromkeys(_IN_JOURNAL.findall(raw)))
    for path in filter(guest.is_file, _LOGS):
        text = guest.read_file(path, _LOG_BYTES).decode("utf-8", "replace")
        yield from ((name, path) for name in dict.fromkeys(_KERNEL_LINE.findall(text)))
    yield from ((name, _CERTIFICATE) for name in _names_in_certificate(guest))


def _names_in_certificate(guest: Guest) -> list[str]:
    """The subject's name in the certificate that a package made on the machine."""
    text = guest.read_text(_CERTIFICATE)
    if "BEGIN CERTIFICATE" not in text:
        return []
    from cryptography import x509
    from cryptography.x509.oid import NameOID

    try:
        certificate = x509.load_pem_x509_certificate(text.encode())
        names = certificate.subject.get_attributes_for_oid(NameOID.COMMON_NAME)
    except ValueError:
        return []
    return [str(name.value) for name in names]
