"""What a guest is called, and where and how it counts time: hostname(5), hosts(5), localtime(5)."""

from __future__ import annotations

import re

from zeroseal.guests.guest import Guest

_OWN_LINE = re.compile(r"(?m)^127\.0\.1\.1\s.*$")


def set_host_name(guest: Guest, name: str, domain: str = "") -> None:
    """Sets the host name, and the guest's own line in its hosts file."""
    guest.put_file("/etc/hostname", f"{name}\n".encode(), 0o644)
    own = f"127.0.1.1 {f'{name}.{domain} ' if domain else ''}{name}"
    text = guest.read_text("/etc/hosts") or "127.0.0.1 localhost\n::1 localhost\n"
    if _OWN_LINE.search(text):
        text = _OWN_LINE.sub(own, text, count=1)
    else:
        text = f"{text.rstrip()}\n{own}\n"
    guest.put_file("/etc/hosts", text.encode("utf-8", "surrogateescape"), 0o644)


def has_time_zone(guest: Guest, zone: str) -> bool:
    """Whether the guest knows a time zone."""
    return guest.exists(f"/usr/share/zoneinfo/{zone}")


def set_time_zone(guest: Guest, zone: str) -> None:
    """Sets the time zone; the guest must know it."""
    if guest.find("/etc/localtime", follow_last=False):
        guest.remove("/etc/localtime")
    guest.create_link("/etc/localtime", f"/usr/share/zoneinfo/{zone}")
    if guest.is_file("/etc/timezone"):
        guest.put_file("/etc/timezone", f"{zone}\n".encode(), 0o644)


def set_locale(guest: Guest, locale: str) -> None:
    """Sets the system's language; whether it was generated is the guest's matter."""
    path = "/etc/default/locale" if guest.exists("/etc/default") else "/etc/locale.conf"
    if guest.is_file("/etc/locale.conf"):
        path = "/etc/locale.conf"
    kept = [line for line in guest.read_text(path).splitlines() if not line.startswith("LANG=")]
    text = "".join(f"{line}\n" for line in [*kept, f"LANG={locale}"])
    guest.put_file(path, text.encode("utf-8", "surrogateescape"), 0o644)


def read_time_zone(guest: Guest) -> str:
    """The time zone that the guest is set to; empty where it does not say."""
    target = guest.read_link("/etc/localtime")
    return target.partition("zoneinfo/")[2] or guest.read_text("/etc/timezone").strip()


def read_locale(guest: Guest) -> str:
    """The system's language; empty where it does not say."""
    for path in ("/etc/locale.conf", "/etc/default/locale"):
        found = re.search(r'(?m)^LANG="?([^"\n]*)', guest.read_text(path))
        if found:
            return found[1]
    return ""
