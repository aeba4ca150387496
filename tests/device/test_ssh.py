"""Commands over SSH, on Debian's sshd."""

import getpass
import os
import random
import shutil
import socket
import subprocess
import tempfile
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import asyncssh

from harvok.clock import SYSTEM
from harvok.device.orders import SshAccess
from harvok.device.ssh import SshSession
from harvok.errors import DeviceRefusedError, DeviceSilentError

_PATH = f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"
SSHD = shutil.which("sshd", path=_PATH)
_CONFIG = """
Port {port}
ListenAddress 127.0.0.1
HostKey {folder}/host
AuthorizedKeysFile {folder}/may-enter
PidFile none
StrictModes no
UsePAM no
PasswordAuthentication no
"""


def key_pair(folder: Path, name: str) -> str:
    """Writes a private key; returns the public one."""
    key = asyncssh.generate_private_key("ssh-ed25519")
    key.write_private_key(str(folder / name))
    (folder / name).chmod(0o600)
    public = key.export_public_key().decode().split()
    return f"{public[0]} {public[1]}"


@contextmanager
def sshd() -> Iterator[tuple[SshAccess, Path]]:
    """A server on loopback, how its user gets in, and its folder."""
    assert SSHD
    port = random.randrange(20_000, 32_000)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        host_key, user_key = key_pair(folder, "host"), key_pair(folder, "user")
        (folder / "may-enter").write_text(f"{user_key} tester\n")
        (folder / "config").write_text(_CONFIG.format(port=port, folder=folder))
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(mode=0o755, exist_ok=True)
        words = [SSHD, "-D", "-e", "-f", str(folder / "config")]
        with subprocess.Popen(words, stderr=subprocess.DEVNULL) as process:
            try:
                _wait_for(port)
                yield SshAccess("127.0.0.1", getpass.getuser(), host_key, port, key_file=str(folder / "user")), folder
            finally:
                process.terminate()


def _wait_for(port: int) -> None:
    for _ in range(200):
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
        SYSTEM.sleep(0.05)
    raise AssertionError("sshd does not listen")


@unittest.skipIf(SSHD is None, "needs Debian's sshd")
class OnTheDevice(unittest.TestCase):
    def test_commands_are_run_over_one_connection_and_tell_how_they_ended(self) -> None:
        with sshd() as (access, _), SshSession(access) as session:
            self.assertEqual(session.run("echo ring; echo mirror >&2").output.split(), ["ring", "mirror"])
            self.assertEqual((session.run("exit 3").code, session.run("true").code), (3, 0))
            with self.assertRaises(DeviceSilentError):
                session.run("sleep 30", timeout_s=0.2)

    def test_a_host_with_another_key_is_not_believed(self) -> None:
        with sshd() as (access, folder):
            for wrong in (key_pair(folder, "other"), key_pair(folder, "another")):
                with self.assertRaises(DeviceRefusedError) as raised:
                    SshSession(replace(access, host_key=wrong))
                self.assertIn("another host key", raised.exception.message)

    def test_who_may_not_enter_is_told_so(self) -> None:
        with sshd() as (access, folder):
            key_pair(folder, "stranger")
            with self.assertRaises(DeviceRefusedError) as raised:
                SshSession(replace(access, key_file=str(folder / "stranger")))
            self.assertIn("does not let", raised.exception.message)

    def test_nobody_there(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            key = key_pair(Path(name), "host")
            with self.assertRaises(DeviceSilentError) as raised:
                SshSession(SshAccess("127.0.0.1", "dome", key, 9))
            self.assertIn("cannot be reached over SSH", raised.exception.message)
