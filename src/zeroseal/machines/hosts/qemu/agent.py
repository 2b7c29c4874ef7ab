"""A shell in a guest through the QEMU guest agent's channel, where SSH is not there.

Source: QEMU, ``qga/qapi-schema.json`` and ``docs/interop/qemu-ga.rst``: one JSON object a line; a
``0xFF`` byte before ``guest-sync-delimited`` throws away what an earlier speaker left half said.
"""

from __future__ import annotations

import base64
import json
import secrets
import shlex
import socket
import time
from collections.abc import Callable
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from zeroseal.errors import GuestError
from zeroseal.machines.hosts.host import KEPT_OUTPUT_BYTES, WAITING, Output
from zeroseal.machines.hosts.qemu.monitor import reachable
from zeroseal.messages import machines as messages

_ANSWER_SECONDS = 10.0
_LONGEST_ANSWER = 48 << 20
_PIECE_BYTES = 48 << 10
_POLL_SECONDS = 0.5
_WINDOWS = "mswindows"


class AgentShell:
    """Runs commands through the agent, as root (as the system account on Windows)."""

    def __init__(self, folder: Path, socket_name: str, waiting: Callable[[], None]) -> None:
        self._folder = folder
        self._socket_name = socket_name
        self._waiting = waiting
        self._socket: socket.socket | None = None
        self._rest = b""
        self._is_windows = False
        self.doing = WAITING

    def connect(self, within_seconds: int) -> None:
        """Tries until the agent answers.

        Raises:
            GuestError: it does not in time.
        """
        end = time.monotonic() + within_seconds
        while time.monotonic() < end:
            self._waiting()
            try:
                self._open()
                self._synchronise()
                self._is_windows = self._ask("guest-get-osinfo").get("id") == _WINDOWS
                return
            except (GuestError, OSError):
                self.close()
                time.sleep(_POLL_SECONDS)
        raise GuestError(
            messages.GUEST_AGENT_DID_NOT_ANSWER_WITHIN.format(within_seconds=within_seconds)
        )

    def run(
        self, script: str, as_root: bool, timeout_seconds: int, is_patch: bool = False
    ) -> Output:
        """Runs a script; see ``Shell.run``. The agent runs everything as root."""
        if self._is_windows:
            words = ["-NoProfile", "-NonInteractive", "-ExecutionPolicy", "Bypass", "-Command", "-"]
            return self._execute("powershell.exe", words, script.encode(), timeout_seconds)
        path = f"/run/zeroseal-{secrets.token_hex(8)}"
        self._write_file(path, script.encode())
        quoted = shlex.quote(path)
        # by its interpreter: nothing may be executed on the /run of some distributions
        call = f"{_interpreter_of(script)} {quoted}"
        words = [
            "-c",
            f"exec 2>&1; chmod 700 {quoted} && {call} </dev/null; s=$?; rm -f {quoted}; exit $s",
        ]
        return self._execute("/bin/sh", words, b"", timeout_seconds)

    def copy_in(self, content: bytes, target: str, mode: int) -> None:
        """Puts a file into the guest; see ``Shell.copy_in``."""
        if not self._is_windows:
            folder = shlex.quote(target.rpartition("/")[0] or "/")
            self._execute("/bin/sh", ["-c", f"mkdir -p {folder}"], b"", 60)
        self._write_file(target, content)
        if not self._is_windows:
            self._execute("/bin/sh", ["-c", f"chmod {mode:o} {shlex.quote(target)}"], b"", 60)

    def reboot(self, within_seconds: int) -> None:
        """Restarts the guest; see ``Shell.reboot``."""
        script = "cat /proc/sys/kernel/random/boot_id"
        if self._is_windows:
            script = "(Get-CimInstance Win32_OperatingSystem).LastBootUpTime.Ticks"
        before = self.run(script, as_root=True, timeout_seconds=60).text
        self._send("guest-shutdown", {"mode": "reboot"})
        end = time.monotonic() + within_seconds
        while time.monotonic() < end:
            self.close()
            time.sleep(_POLL_SECONDS)
            self.connect(max(1, int(end - time.monotonic())))
            try:
                if self.run(script, as_root=True, timeout_seconds=60).text != before:
                    return
            except (GuestError, OSError):
                continue
        raise GuestError(
            messages.GUEST_DID_NOT_RESTART_WITHIN.format(within_seconds=within_seconds)
        )

    def power_off(self) -> None:
        """Lets the guest shut down; the agent gives no answer to that."""
        self._send("guest-shutdown", {"mode": "powerdown"})

    def addresses(self) -> list[str]:
        """The guest's own addresses, without those that only itself can use.

        Raises:
            GuestError: the agent does not know.
        """
        found = []
        for card in self._ask("guest-network-get-interfaces"):
            for entry in card.get("ip-addresses", []):
                address = ip_address(entry["ip-address"].partition("%")[0])
                if not address.is_loopback and not address.is_link_local:
                    found.append(f"{address}/{entry['prefix']}")
        return found

    def close(self) -> None:
        """Lets go of the channel."""
        if self._socket is not None:
            self._socket.close()
        self._socket, self._rest = None, b""

    # -- the channel

    def _open(self) -> None:
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self._socket.settimeout(_ANSWER_SECONDS)
        with reachable(self._folder, self._socket_name) as address:
            self._socket.connect(address)

    def _synchronise(self) -> None:
        number = secrets.randbelow(1 << 31)
        self._send("guest-sync-delimited", {"id": number}, before=b"\xff")
        while True:
            line = self._read_line()
            # what comes before is the answer to an earlier speaker, or to the byte itself
            if line.startswith(b"\xff") and parse_answer(line) == number:
                return

    def _send(self, command: str, arguments: dict[str, Any], before: bytes = b"") -> None:
        if self._socket is None:
            raise GuestError(messages.GUEST_AGENT_CHANNEL_CLOSED)
        text = json.dumps({"execute": command, "arguments": arguments}).encode()
        try:
            self._socket.sendall(before + text + b"\n")
        except OSError as error:
            raise GuestError(messages.AGENT_CONNECTION_FAILED.format(error=error)) from error

    def _read_line(self) -> bytes:
        while b"\n" not in self._rest:
            if self._socket is None or len(self._rest) > _LONGEST_ANSWER:
                raise GuestError(messages.GUEST_AGENT_SENT_INVALID_ANSWER)
            try:
                piece = self._socket.recv(_PIECE_BYTES)
            except OSError as error:
                raise GuestError(messages.GUEST_AGENT_DOES_NOT_ANSWER) from error
            if not piece:
                raise GuestError(messages.AGENT_CONNECTION_LOST)
            self._rest += piece
        line, _newline, self._rest = self._rest.partition(b"\n")
        return line

    def _ask(self, command: str, **arguments: Any) -> Any:
        self._send(command, arguments)
        return parse_answer(self._read_line())

    def _execute(self, path: str, words: list[str], content: bytes, timeout_seconds: int) -> Output:
        arguments: dict[str, Any] = {"path": path, "arg": words, "capture-output": True}
        if content:
            arguments["input-data"] = base64.b64encode(content).decode()
        number = self._ask("guest-exec", **arguments)["pid"]
        end = time.monotonic() + timeout_seconds
        while time.monotonic() < end:
            answer = self._ask("guest-exec-status", pid=number)
            if answer["exited"]:
                printed = b"".join(
                    base64.b64decode(answer.get(key, "")) for key in ("out-data", "err-data")
                )
                text = printed[-KEPT_OUTPUT_BYTES:].decode("utf-8", "replace")
                return Output(int(answer.get("exitcode", 128 + answer.get("signal", 0))), text)
            self._waiting()
            time.sleep(_POLL_SECONDS)
        raise GuestError(messages.DID_NOT_END_IN_TIME)

    def _write_file(self, path: str, content: bytes) -> None:
        handle = self._ask("guest-file-open", path=path, mode="w")
        try:
            for start in range(0, len(content), _PIECE_BYTES):
                piece = base64.b64encode(content[start : start + _PIECE_BYTES]).decode()
                self._ask("guest-file-write", handle=handle, **{"buf-b64": piece})
        finally:
            self._ask("guest-file-close", handle=handle)


def _interpreter_of(script: str) -> str:
    """What runs a script, quoted for a shell: as its first line says, or the plain shell."""
    first = script.partition("\n")[0]
    words = first[2:].strip().split(None, 1) if first.startswith("#!") else []
    return shlex.join(words or ["/bin/sh"])


def parse_answer(line: bytes) -> Any:
    """What the agent returns in a line.

    Raises:
        GuestError: it refused, or the line is no answer.
    """
    try:
        answer = json.loads(line.lstrip(b"\xff"))
    except ValueError as error:
        raise GuestError(messages.GUEST_AGENT_SENT_INVALID_ANSWER) from error
    if not isinstance(answer, dict) or "error" in answer:
        problem = answer.get("error", {}) if isinstance(answer, dict) else {}
        reason = problem.get("desc", "no reason") if isinstance(problem, dict) else "no reason"
        raise GuestError(messages.GUEST_AGENT_REFUSED.format(reason=reason))
    return answer.get("return")
