"""Ways into a guest, against the real programs at the other end: sshd and the QEMU guest agent.

Both run here, on this computer, for a folder of the test.
"""

from __future__ import annotations

import getpass
import os
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.oracles import need, run
from zeroseal.errors import GuestError
from zeroseal.machines.guest_life import new_key_pairs
from zeroseal.machines.hosts.host import KEPT_OUTPUT_BYTES, Login, Shell
from zeroseal.machines.hosts.qemu.agent import AgentShell
from zeroseal.machines.hosts.ssh import SshShell


def nothing() -> None:
    """Nobody waits."""


@pytest.fixture
def ssh(tmp_path: Path) -> Iterator[SshShell]:
    """A shell over a real sshd on a port of the loopback address."""
    need("/usr/sbin/sshd", "ssh-keygen", "sudo")
    private, public = new_key_pairs("test")["ed25519"]
    (tmp_path / "keys").write_bytes(public)
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", tmp_path / "host")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    config = tmp_path / "sshd_config"
    config.write_text(
        f"ListenAddress 127.0.0.1:{port}\nHostKey {tmp_path}/host\nStrictModes no\nUsePAM no\n"
        f"AuthorizedKeysFile {tmp_path}/keys\nPermitRootLogin yes\nPidFile {tmp_path}/pid\n"
    )
    Path("/run/sshd").mkdir(exist_ok=True)
    server = subprocess.Popen(
        ["/usr/sbin/sshd", "-D", "-e", "-f", str(config)], stderr=subprocess.DEVNULL
    )
    shell = SshShell(port, Login(getpass.getuser(), private.decode()), nothing)
    try:
        yield shell
    finally:
        shell.close()
        server.terminate()
        server.wait()


@pytest.fixture
def agent(tmp_path: Path) -> Iterator[AgentShell]:
    """A shell through a real guest agent, which listens on a socket as a machine's channel does."""
    need("qemu-ga")
    path = tmp_path / "agent.sock"
    words = ["qemu-ga", "-m", "unix-listen", "-p", path, "-t", tmp_path, "-f", tmp_path / "pid"]
    # as Debian 13 has it: nothing may be executed on /run
    own_run = ["unshare", "-m", "sh", "-c", 'mount -t tmpfs -o noexec none /run && exec "$0" "$@"']
    words = [*own_run, *words] if os.geteuid() == 0 else words
    server = subprocess.Popen([str(word) for word in words], stderr=subprocess.DEVNULL)
    shell = AgentShell(tmp_path, "agent.sock", nothing)
    try:
        yield shell
    finally:
        shell.close()
        server.kill()  # asked politely it would wait for its scripts
        server.wait()


@pytest.fixture(params=["ssh", "agent"])
def shell(request: pytest.FixtureRequest) -> Shell:
    """Either of them, connected."""
    if os.geteuid() != 0:
        pytest.skip("tasks run as root")
    found: SshShell | AgentShell = request.getfixturevalue(request.param)
    found.connect(20)
    return found


def test_scripts_run_with_their_status_output_and_interpreter(shell: Shell) -> None:
    answer = shell.run(
        "echo to out; echo to err >&2; exit 3", as_root=True, timeout_seconds=20, is_patch=False
    )
    assert (answer.status, sorted(answer.text.split("\n"))) == (3, ["", "to err", "to out"])
    script = "#!/usr/bin/env python3\nimport sys\nprint('tide', len(sys.stdin.read()))\n"
    assert shell.run(script, as_root=True, timeout_seconds=20, is_patch=False).text == "tide 0\n"
    swallowed = shell.run(
        "cat >/dev/null\necho still here", as_root=True, timeout_seconds=20, is_patch=False
    )
    assert swallowed.text == "still here\n"
    secret = shell.run(
        "password=not-a-real-secret\nps -A -o args",
        as_root=True,
        timeout_seconds=20,
        is_patch=False,
    )
    assert "not-a-real-secret" not in secret.text


def test_a_flood_of_output_is_bounded_and_its_end_kept(shell: Shell) -> None:
    answer = shell.run(
        "yes tide | head -c 3000000; echo; echo ebb",
        as_root=True,
        timeout_seconds=60,
        is_patch=False,
    )
    assert answer.status == 0
    assert len(answer.text) <= KEPT_OUTPUT_BYTES
    assert answer.text.endswith("ebb\n")


def test_a_script_that_never_ends_is_given_up(shell: Shell) -> None:
    began = time.monotonic()
    with pytest.raises(GuestError, match="did not end in time"):
        shell.run("echo begun; sleep 40", as_root=True, timeout_seconds=2, is_patch=False)
    assert time.monotonic() - began < 30


def test_files_arrive_whole_with_their_mode(shell: Shell, tmp_path: Path) -> None:
    content = bytes(range(256)) * 2000
    target = tmp_path / "a new folder" / "it's here"
    shell.copy_in(content, str(target), 0o640)
    assert target.read_bytes() == content
    assert target.stat().st_mode & 0o7777 == 0o640
    (tmp_path / "file").write_text("")
    with pytest.raises(GuestError):
        shell.copy_in(b"x", str(tmp_path / "file" / "beneath"), 0o644)


def test_a_key_that_is_not_let_in_is_told(ssh: SshShell, tmp_path: Path) -> None:
    (tmp_path / "keys").write_bytes(new_key_pairs("other")["ed25519"][1])
    with pytest.raises(GuestError, match=r"SSH as .* did not come up within 3 s \(Auth"):
        ssh.connect(3)
    with pytest.raises(GuestError, match="the connection to the guest is lost"):
        ssh.run("true", as_root=False, timeout_seconds=5)
