"""How secrets look: private keys, tokens with published prefixes, passwords in addresses and lines.

Every expression is bounded, so that a file made to be slow is read as fast as any other. Sources:
RFC 7468 and PROTOCOL.key of OpenSSH (private keys), RFC 3986 (user information in addresses), RFC
7519 (tokens in three parts), and the prefixes that makers of tokens publish so that scanners find
them.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

_PRIVATE_KEY = re.compile(
    rb"-----BEGIN [A-Z0-9 ]{0,20}PRIVATE KEY(?: BLOCK)?-----(?:[\r\n]|\\n){1,4}"
    rb"(?:[A-Za-z0-9+/]{20}|Proc-Type:|Version:|Comment:)"
    rb"|PuTTY-User-Key-File-\d: |AGE-SECRET-KEY-1[A-Z0-9]{50}"
)
_TOKEN = re.compile(
    rb"(?<![A-Za-z0-9_-])(?:"
    rb"gh[pousr]_[A-Za-z0-9]{36}|github_pat_[A-Za-z0-9_]{22}|gl(?:pat|rt|dt)-[A-Za-z0-9_-]{20}"
    rb"|(?:AKIA|ASIA)[A-Z2-7]{16}(?![A-Z2-7])|AIza[0-9A-Za-z_-]{35}|xox[abeprs]-[A-Za-z0-9-]{10}"
    rb"|[rs]k_live_[0-9A-Za-z]{20}|npm_[A-Za-z0-9]{36}|pypi-AgE[A-Za-z0-9_-]{40}"
    rb"|dckr_pat_[A-Za-z0-9_-]{20}|hv[sbr]\.[A-Za-z0-9_-]{20}|dop_v1_[0-9a-f]{64}"
    rb"|SG\.[A-Za-z0-9_-]{22}\.[A-Za-z0-9_-]{43}|gls[ac]_[A-Za-z0-9_]{32}|tskey-[a-z]{2,10}-\w{10}"
    rb"|eyJ[A-Za-z0-9_-]{10,400}\.eyJ[A-Za-z0-9_-]{10,2000}\.[A-Za-z0-9_-]{10}"
    rb")"
)
_IN_ADDRESS = re.compile(
    rb"(?<![A-Za-z0-9+.-])[A-Za-z][A-Za-z0-9+.-]{1,15}://"
    rb"([^\s/:@'\"<>\[\]]{0,64}):([^\s/@'\"<>]{1,128})@[A-Za-z0-9\[]"
)
_WORDS = rb"password|passwd|passphrase|secret|psk|pass|pwd"
_SETTING = re.compile(
    rb"(?im)^[ \t]{0,32}[\"']?(?:[a-z0-9_.-]{0,40}[_. -]|)(?:bind|db|root|admin|auth|smtp|mysql)?"
    rb"(?:" + _WORDS + rb")[\"']?[ \t]{0,16}[=:][ \t]{0,16}[\"']?([^\s\"'#;,]{4,200})"
)
_BARE_SETTING = re.compile(rb"(?m)^[ \t]{0,8}(?:requirepass|masterauth)[ \t]{1,8}\"?([^\s\"]{4})")
_ELEMENT = re.compile(rb"(?i)<(?:password|passwd|secret)>([^<\s]{4,200})</")
_MOUNT_OPTION = re.compile(rb"(?m)^[^#\n]{1,400}[,\s]pass(?:word)?=([^\s,]{3})")
_OF_A_LINE = re.compile(
    rb"(?im)^(?![ \t]{0,8}[#;])[^\n]{0,400}?(?:"
    rb"--?(?:password|passphrase|token|secret|api-?key)[= ]"
    rb"|(?:token|secret|password|passwd|api_?key|access_?key)=|Authorization: ?(?:Bearer|Basic) )"
    rb"[\"']?([^\s\"'$%{<]{6,200})"
)
_PLACEHOLDER = re.compile(
    rb"(?i)^(?:[$%{<*@/!\[(&].{0,200}|x{3,}|\.{3,}|(?:your|my|the|some|change|enter|insert)[-_]?.{0,40}"
    rb"|(?:pass|password|passwd|secret|user|username|changeme|none|null|true|false|yes|no|prompt"
    rb"|default|required|optional|sufficient|file|files|compat|db|systemd|sss|winbind|ldap|nis"
    rb"|md5|plain|crypt|clear|off|on|ask|never|always|unset|empty|example)[,;.]?|\d{1,6})$"
)


def find_secret(content: bytes) -> str:
    """The kind of a secret that a file holds by its look, of ``SECRET_KINDS``; empty for none."""
    may_be = any(word in content for word in (b"PRIVATE KEY", b"PuTTY-User", b"AGE-SECRET-KEY"))
    if may_be and _PRIVATE_KEY.search(content):
        return "private-keys"
    if _TOKEN.search(content):
        return "kept-tokens"
    if b"://" in content and any(_passwords(_IN_ADDRESS.finditer(_told(content)), 2)):
        return "url-passwords"
    return ""


def has_password_setting(content: bytes) -> bool:
    """Whether a line sets a password, by the name of its key."""
    for pattern in (_SETTING, _BARE_SETTING, _ELEMENT):
        if any(_passwords(pattern.finditer(content), 1)):
            return True
    return False


def has_password_in_mount(content: bytes) -> bool:
    """Whether a line of fstab(5) has a password among its options."""
    return _MOUNT_OPTION.search(content) is not None


def has_secret_in_line(content: bytes) -> bool:
    """Whether a command line or an environment that is set holds a token or a password."""
    return any(_passwords(_OF_A_LINE.finditer(content), 1))


def _told(content: bytes) -> bytes:
    """A text without the lines that are comments."""
    return b"\n".join(
        line for line in content.split(b"\n") if not line.lstrip().startswith((b"#", b";", b"//"))
    )


def _passwords(matches: Iterator[re.Match[bytes]], group: int) -> Iterator[bytes]:
    """Those that are no placeholders."""
    return (match[group] for match in matches if not _PLACEHOLDER.match(match[group]))
