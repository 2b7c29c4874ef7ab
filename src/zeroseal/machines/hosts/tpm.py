"""A machine's own TPM: swtpm, whose state lies in the machine's folder and is copied by nothing.

swtpm is started before the machine and ends when the machine lets go of it. Source: swtpm(8); QEMU,
``docs/specs/tpm.rst``, "The QEMU TPM emulator device".
"""

from __future__ import annotations

import shutil
import subprocess
import time
from pathlib import Path

from zeroseal.errors import HostError, MissingError, environment_error
from zeroseal.machines import TPM_FOLDER
from zeroseal.machines.hosts.bound import bound_words
from zeroseal.machines.hosts.console import last_console_line
from zeroseal.messages import machines as messages

PROGRAM = "swtpm"
TPM_SOCKET, TPM_LOG = "tpm.sock", "tpm.log"
_START_SECONDS = 10.0
_POLL_SECONDS = 0.05


def find_tpm_program() -> str:
    """The path of swtpm.

    Raises:
        MissingError: it is not installed.
    """
    path = shutil.which(PROGRAM)
    if path is None:
        raise MissingError(
            messages.NOT_FOUND_ON_PATH.format(program=PROGRAM, way_out=messages.INSTALL_SWTPM)
        )
    return path


def start_tpm(folder: Path, is_bound: bool) -> subprocess.Popen[bytes] | None:
    """Starts the TPM of the machine of this folder; its state is made where there is none.

    Returns:
        its process, to be given to ``end_tpm``; None for one that goes on without us.

    Args:
        folder: of the machine; sockets are named relative to it: their length is limited.
        is_bound: whether it dies with this process.

    Raises:
        MissingError: swtpm is not installed.
        HostError: it does not start; says why.
        UnfinishedError: the folder cannot be written to.
    """
    program = find_tpm_program()
    words = [
        program, "socket", "--tpm2",
        "--tpmstate", f"dir={folder.resolve() / TPM_FOLDER}",
        "--ctrl", f"type=unixio,path={TPM_SOCKET}",
        "--flags", "startup-clear",
        "--terminate",
    ]  # fmt: skip
    words = bound_words(words) if is_bound else [*words, "--daemon"]
    try:
        (folder / TPM_FOLDER).mkdir(mode=0o700, exist_ok=True)
        (folder / TPM_SOCKET).unlink(missing_ok=True)
        with (folder / TPM_LOG).open("wb") as log:
            process = subprocess.Popen(
                words, cwd=folder, stdin=subprocess.DEVNULL, stdout=log, stderr=log,
                start_new_session=True,
            )  # fmt: skip
    except OSError as error:
        raise environment_error(error, folder, messages.STARTING_TPM) from error
    end = time.monotonic() + _START_SECONDS
    while time.monotonic() < end:
        has_ended = process.poll() is not None
        if (folder / TPM_SOCKET).exists() and is_bound is not has_ended:
            return process if is_bound else None
        if has_ended and (is_bound or process.returncode):
            break
        time.sleep(_POLL_SECONDS)
    end_tpm(process, 0)
    raise HostError(
        messages.TPM_DID_NOT_START.format(
            name=folder.name, log_tail=last_console_line(folder / TPM_LOG) or "it gave no reason"
        )
    )


def end_tpm(process: subprocess.Popen[bytes] | None, within_seconds: float = 5.0) -> None:
    """Waits for the end of a TPM whose machine has let go of it, and ends one that stays."""
    if process is None:
        return
    try:
        process.wait(within_seconds)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
