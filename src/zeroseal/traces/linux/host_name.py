"""Finding the host name where it is written down in a format that we know."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.facts import read_host_name
from zeroseal.guests.linux.host_names import read_names
from zeroseal.traces.changes import EditKeys, ReplaceContent, TextChange
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.key_edits import KeyEdit
from zeroseal.traces.linux.context import LinuxContext

NEUTRAL_HOST_NAME = "localhost"
_LONG_ENOUGH = 4  # shorter names stand in other words
_PRESENT = "/etc/hostname"
_HOSTS_FILES = ("/etc/hosts", "/var/spool/postfix/etc/hosts")  # postfix has a copy in its chroot
# (paths, format, keys to drop, keys to replace): without the key each service asks the system
_SETTINGS: tuple[tuple[tuple[str, ...], str, tuple[str, ...], tuple[tuple[str, str], ...]], ...] = (
    (("/etc/postfix/main.cf",), "ini", ("myhostname", "mydestination", "myorigin"), ()),
    (("/etc/sysconfig/network",), "assignments", ("HOSTNAME",), ()),
    (("/etc/conf.d/hostname",), "assignments", (), (("hostname", 'hostname="localhost"'),)),
    (
        ("/etc/exim4/update-exim4.conf.conf",),
        "assignments",
        (),
        (("dc_other_hostnames", "dc_other_hostnames=''"),),
    ),
    (
        ("/etc/zabbix/zabbix_agentd.conf", "/etc/zabbix/zabbix_agent2.conf"),
        "ini",
        ("Hostname",),
        (),
    ),
    (("/etc/collectd/collectd.conf",), "words", ("Hostname",), ()),
    (("/etc/salt/minion", "/etc/salt/minion.d/*.conf"), "yaml", ("id",), ()),
    (("/etc/puppet/puppet.conf", "/etc/puppetlabs/puppet/puppet.conf"), "ini", ("certname",), ()),
    (("/etc/munin/munin-node.conf",), "words", ("host_name",), ()),
    (("/etc/samba/smb.conf",), "ini", ("netbios name",), ()),
    (("/etc/chef/client.rb",), "words", ("node_name",), ()),
    (("/etc/dhcp/dhclient.conf", "/etc/dhclient.conf"), "lines", ("send host-name *",), ()),
)


@dataclass(frozen=True)
class DropHostNames(TextChange):
    """Takes names out of a hosts file; a line left with its address alone goes."""

    names: tuple[str, ...]

    def edited(self, text: str) -> str:
        """The hosts file's text without the names, alone or as first part of a longer one."""
        short = {name.partition(".")[0].lower() for name in self.names}
        lines = []
        for line in text.splitlines(keepends=True):
            body, hash_sign, comment = line.partition("#")
            words = body.split()
            kept = [word for word in words[1:] if word.partition(".")[0].lower() not in short]
            if len(kept) == len(words[1:]):
                lines.append(line)
            elif kept:
                lines.append(" ".join([words[0], *kept]) + f" {hash_sign}{comment}".rstrip() + "\n")
        return "".join(lines)


class HostName(Finder[LinuxContext]):
    """Finds the files that hold the host name, unless it is neutral already."""

    name = "host-name"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        for name, where in _names_of(context.guest):
            earlier = "" if where == _PRESENT else "earlier "
            yield from _of_name(context.guest, name, f"the {earlier}name {name}")


def _names_of(guest: Guest) -> Iterator[tuple[str, str]]:
    """(name, where it stands), the present one with its domain."""
    present = read_host_name(guest)
    if present and present != NEUTRAL_HOST_NAME:
        yield present, _PRESENT
    for name, where in read_names(guest).items():
        if name != present.partition(".")[0].lower():
            yield name, where


def _of_name(guest: Guest, name: str, evidence: str) -> Iterator[Found]:
    for path in ("/etc/hostname", "/etc/HOSTNAME", "/etc/mailname"):
        if name.partition(".")[0] in guest.read_text(path):
            yield ReplaceContent(path, NEUTRAL_HOST_NAME + "\n"), evidence
    for path in _HOSTS_FILES:
        hosts = DropHostNames(path, (name,))
        if hosts.applies_to(guest):
            yield hosts, evidence
    short = name.partition(".")[0]
    for patterns, kind, dropped, replaced in _SETTINGS:
        named = f"*{short}*" if len(short) >= _LONG_ENOUGH else short
        edit = KeyEdit(kind, drop=dropped, replace=replaced, values=named)
        for path in [path for pattern in patterns for path in guest.glob(pattern)]:
            change = EditKeys(path, edit)
            if change.applies_to(guest):
                yield change, evidence
