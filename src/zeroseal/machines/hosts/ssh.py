"""A shell in a guest over SSH: on a port that the host forwards, or at the guest's address."""

from __future__ import annotations

import contextlib
import io
import logging
import shlex
import time
from collections.abc import Callable
from typing import Any

import paramiko

from zeroseal.errors import GuestError
from zeroseal.machines.hosts.host import KEPT_OUTPUT_BYTES, WAITING, Login, Output
from zeroseal.messages import machines as messages

_LOOPBACK = "127.0.0.1"
_ANSWER_SECONDS = 120.0  # a guest without KVM that starts many services is slow
_POLL_SECONDS = 1.0
_PIECE_BYTES = 32 << 10
_BOOT_ID = "cat /proc/sys/kernel/random/boot_id"
# the script lies in a file, so that a command which reads its input does not swallow the rest of
# it; what it says never stands in a process list of the guest
_RUNNER = 'f=$(mktemp) && cat >"$f" && chmod 700 "$f" && "$f" </dev/null; s=$?; rm -f "$f"; exit $s'

Waiting = Callable[[], None]


class SshShell:
    """A connection as one account; root by sudo without a password.

    Args:
        port: of the address.
        login: the account and its key.
        waiting: called about once a second while nothing happens; may raise.
        address: asked before each try; empty where it is not known yet.
    """

    def __init__(
        self,
        port: int,
        login: Login,
        waiting: Waiting,
        address: Callable[[], str] = lambda: _LOOPBACK,
    ) -> None:
        logging.getLogger("paramiko").setLevel(logging.CRITICAL)  # it reports each refused try
        self._port = port
        self._address = address
        self._login = login
        self._waiting = waiting
        self._client: paramiko.SSHClient | None = None
        self.doing = WAITING

    def connect(self, within_seconds: int) -> None:
        """Tries until the guest lets us in.

        Raises:
            GuestError: it does not in time.
        """
        end = time.monotonic() + within_seconds
        reason = "it did not answer"
        while time.monotonic() < end:
            self._waiting()
            client = paramiko.SSHClient()
            # it was started a moment ago and is reached over the loopback: its key is new to anyone
            client.set_missing_host_key_policy(paramiko.AutoAddPolicy())
            try:
                self._try(client)
            except (paramiko.SSHException, OSError, EOFError) as error:
                reason = str(error) or type(error).__name__
                client.close()
                time.sleep(_POLL_SECONDS)
            else:
                self._client = client
                return
        raise GuestError(
            messages.SSH_LOGIN_NOT_POSSIBLE.format(
                account=self._login.account, within_seconds=within_seconds, reason=reason
            )
        )

    def _try(self, client: paramiko.SSHClient) -> None:
        address = self._address()
        if not address:
            raise OSError(messages.GUEST_HAS_NO_ADDRESS)
        key = paramiko.Ed25519Key.from_private_key(io.StringIO(self._login.private_key))
        client.connect(
            address,
            self._port,
            self._login.account,
            pkey=key,
            timeout=_ANSWER_SECONDS,
            banner_timeout=_ANSWER_SECONDS,
            auth_timeout=_ANSWER_SECONDS,
            allow_agent=False,
            look_for_keys=False,
        )

    def run(
        self, script: str, as_root: bool, timeout_seconds: int, is_patch: bool = False
    ) -> Output:
        """Runs a script; see ``Shell.run``."""
        command = f"/bin/sh -c {shlex.quote(_RUNNER)}"
        if as_root:
            command = f"sudo -n {command}"
        return self._exchange(command, script.encode(), timeout_seconds)

    def copy_in(self, content: bytes, target: str, mode: int) -> None:
        """Puts a file into the guest; see ``Shell.copy_in``."""
        path = shlex.quote(target)
        script = f'mkdir -p "$(dirname {path})" && cat >{path} && chmod {mode:o} {path}'
        answer = self._exchange(f"sudo -n /bin/sh -c {shlex.quote(script)}", content, 600)
        if answer.status:
            raise GuestError(
                messages.CANNOT_BE_WRITTEN_IN_GUEST.format(
                    target=target, answer=answer.text.strip()
                )
            )

    def reboot(self, within_seconds: int) -> None:
        """Restarts the guest; see ``Shell.reboot``."""
        before = self.run(_BOOT_ID, as_root=False, timeout_seconds=60).text
        with contextlib.suppress(GuestError):  # the connection may end before the command does
            self.run("systemctl reboot || reboot", as_root=True, timeout_seconds=60)
        end = time.monotonic() + within_seconds
        while time.monotonic() < end:
            self.close()
            time.sleep(_POLL_SECONDS)
            self.connect(max(1, int(end - time.monotonic())))
            with contextlib.suppress(GuestError):
                if self.run(_BOOT_ID, as_root=False, timeout_seconds=60).text != before:
                    return
        raise GuestError(
            messages.GUEST_DID_NOT_RESTART_WITHIN.format(within_seconds=within_seconds)
        )

    def close(self) -> None:
        """Closes the connection."""
        if self._client is not None:
            self._client.close()
            self._client = None

    def _exchange(self, command: str, content: bytes, timeout_seconds: int) -> Output:
        transport = self._client.get_transport() if self._client else None
        if transport is None or not transport.is_active():
            raise GuestError(messages.SSH_CONNECTION_LOST)
        try:
            channel = transport.open_session(timeout=_ANSWER_SECONDS)
            with contextlib.closing(channel):
                channel.set_combine_stderr(True)
                channel.settimeout(_POLL_SECONDS)
                channel.exec_command(command)
                return self._talk(channel, content, time.monotonic() + timeout_seconds)
        except (paramiko.SSHException, OSError, EOFError) as error:
            raise GuestError(messages.SSH_CONNECTION_FAILED.format(error=error)) from error

    def _talk(self, channel: Any, content: bytes, end: float) -> Output:
        """Sends the input while it reads the output, so that neither side waits for the other."""
        kept, sent = bytearray(), 0
        while True:
            if time.monotonic() > end:
                text = _decode(kept)
                raise GuestError(messages.DID_NOT_END_IN_TIME, output=text)
            if sent < len(content) and channel.send_ready():
                sent += channel.send(content[sent : sent + _PIECE_BYTES])
                if sent < len(content):
                    continue
            if not channel.eof_sent:
                channel.shutdown_write()
            try:
                piece = channel.recv(_PIECE_BYTES)
            except TimeoutError:
                self._waiting()
                continue
            if not piece:
                return Output(channel.recv_exit_status(), _decode(kept))
            kept += piece
            del kept[:-KEPT_OUTPUT_BYTES]


def _decode(raw: bytes | bytearray) -> str:
    return bytes(raw).decode("utf-8", "replace")
