"""Speaking QMP to a running machine, one command after the other.

Source: QEMU, ``docs/interop/qmp-spec.rst``; spoken by the qemu.qmp package.
"""

from __future__ import annotations

import asyncio
import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import Any

from qemu.qmp import EventListener, QMPClient, QMPError

from zeroseal.errors import UnfinishedError
from zeroseal.messages import machines as messages

_ANSWER_SECONDS = 20.0
_LONGEST_SOCKET_NAME = 100  # sockaddr_un has 108 bytes, 104 on other systems


class Monitor:
    """A connection to one machine's monitor.

    Raises:
        UnfinishedError: nothing answers there.
    """

    def __init__(self, folder: Path, socket_name: str) -> None:
        self._runner = asyncio.Runner()
        self._client = QMPClient("zeroseal")
        self._events: EventListener | None = None
        try:
            with reachable(folder, socket_name) as address:
                self._run(self._client.connect(address))
            self._events = EventListener()
            self._client.register_listener(self._events)
        except BaseException:
            self._runner.close()
            raise

    def execute(self, command: str, **arguments: object) -> Any:
        """Executes a command and returns its answer.

        Raises:
            UnfinishedError: the machine refuses, or is gone.
        """
        return self._run(self._client.execute(command, arguments or None))

    def wait_for_event(self, seconds: float) -> tuple[str, dict[str, Any]] | None:
        """The next event as (name, data); None when none came in time.

        Raises:
            UnfinishedError: the machine is gone.
        """
        if self._events is None:
            return None
        try:
            event = self._runner.run(asyncio.wait_for(self._events.get(), seconds))
        except TimeoutError:
            if self._client.runstate.name != "RUNNING":
                raise UnfinishedError(messages.MONITOR_CONNECTION_LOST) from None
            return None
        except QMPError as error:
            raise UnfinishedError(messages.MONITOR_CONNECTION_FAILED.format(error=error)) from error
        data = event.get("data")
        return str(event["event"]), data if isinstance(data, dict) else {}

    def close(self) -> None:
        """Lets go of the machine."""
        try:
            self._run(self._client.disconnect())
        except (UnfinishedError, EOFError):
            pass  # it has gone by itself
        finally:
            self._runner.close()

    def __enter__(self) -> Monitor:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def _run(self, work: Any) -> Any:
        try:
            return self._runner.run(asyncio.wait_for(work, _ANSWER_SECONDS))
        except TimeoutError as error:
            raise UnfinishedError(messages.MACHINE_MONITOR_DOES_NOT_ANSWER) from error
        except (QMPError, OSError, EOFError) as error:
            raise UnfinishedError(messages.MACHINE_MONITOR_REFUSED.format(error=error)) from error


@contextmanager
def reachable(folder: Path, socket_name: str) -> Iterator[str]:
    """A name of a socket that is short enough to connect to."""
    path = str((folder / socket_name).resolve())
    if len(os.fsencode(path)) <= _LONGEST_SOCKET_NAME or sys.platform != "linux":
        yield path
        return
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        yield f"/proc/self/fd/{descriptor}/{socket_name}"
    finally:
        os.close(descriptor)
