"""Finding keys of the machine where no pattern can say where they are."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.guests.linux.host_key_files import iter_configured
from zeroseal.traces.changes import RemovePath
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.linux.context import LinuxContext

_SELF_MADE_KEY = "/etc/ssl/private/ssl-cert-snakeoil.key"
_SELF_MADE_CERTIFICATE = "/etc/ssl/certs/ssl-cert-snakeoil.pem"
_POSTFIX_COPY = "/var/spool/postfix/etc/ssl/certs/ssl-cert-snakeoil.pem"  # made anew at its start
_MAKERS = ("/usr/sbin/make-ssl-cert", "/sbin/make-ssl-cert")


class HostKeyPaths(Finder[LinuxContext]):
    """Finds the keys and certificates that the SSH server's configuration names."""

    name = "host-key-paths"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        for named in iter_configured(context.guest):
            for path in (named, f"{named}.pub"):
                found = context.guest.find(path)
                if found and context.guest.is_file(found.path):
                    yield RemovePath(found.path), "named by the SSH server's configuration"


class SelfMadeCertificate(Finder[LinuxContext]):
    """Finds Debian's self-made certificate where a planted script will make another.

    Services do not start without it, and the package makes it only when it is installed.
    """

    name = "self-made-certificate"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        guest = context.guest
        if not context.plants_first_boot or not any(guest.exists(path) for path in _MAKERS):
            return
        for path in (_SELF_MADE_KEY, _SELF_MADE_CERTIFICATE, _POSTFIX_COPY):
            if guest.is_file(path):
                yield RemovePath(path), "the planted script creates a new one"
