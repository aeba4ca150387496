"""Agents for tests: whatever a function answers, and Debian's own."""

import os
import random
import shutil
import socket
import subprocess
import tempfile
import threading
import unittest
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from harvok.clock import SYSTEM
from harvok.core.device import mib
from harvok.device.asking import open_session
from harvok.device.orders import SnmpAccess
from harvok.errors import DeviceRefusedError, DeviceSilentError

SNMPD = shutil.which("snmpd", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin")
NEEDS_SNMPD = unittest.skipIf(SNMPD is None, "needs Debian's snmpd")
USER = {"authentication": "sha256", "privacy": "aes128"}
PASSWORDS = {"authentication_password": "aperture-ring", "privacy_password": "secondary-mirror"}
_CONFIG = """
agentaddress udp:127.0.0.1:{port}
rocommunity dome 127.0.0.1
rwcommunity domew 127.0.0.1
createUser watcher SHA-256 "aperture-ring" AES "secondary-mirror"
rouser watcher priv
sysName dome-sw-a
"""

Answer = Callable[[bytes], list[bytes]]


@contextmanager
def answering(answer: Answer) -> Iterator[SnmpAccess]:
    """An agent on loopback that sends what a function makes of each request."""
    hears = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    hears.bind(("127.0.0.1", 0))
    over = threading.Event()

    def serve() -> None:
        while True:
            request, sender = hears.recvfrom(65_535)
            if over.is_set():
                return
            for datagram in answer(request):
                hears.sendto(datagram, sender)

    thread = threading.Thread(target=serve)
    thread.start()
    port = hears.getsockname()[1]
    try:
        yield SnmpAccess("127.0.0.1", port, "harvok", timeout_s=0.2, retries=1)
    finally:
        over.set()
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as last:
            last.sendto(b"", ("127.0.0.1", port))
        thread.join()
        hears.close()


@contextmanager
def snmpd() -> Iterator[int]:
    """Debian's agent on loopback; yields its port."""
    assert SNMPD
    port = random.randrange(20_000, 32_000)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "snmpd.conf").write_text(_CONFIG.format(port=port))
        words = [SNMPD, "-f", "-Ln", "-C", "-c", str(folder / "snmpd.conf")]
        with subprocess.Popen(words, env=os.environ | {"SNMP_PERSISTENT_DIR": name}, stdout=subprocess.DEVNULL,
                              stderr=subprocess.DEVNULL) as process:  # fmt: skip
            try:
                _wait_for(SnmpAccess("127.0.0.1", port, "dome", timeout_s=0.2, retries=0))
                yield port
            finally:
                process.kill()


def _wait_for(access: SnmpAccess) -> None:
    session = open_session(access)
    try:
        for _ in range(100):
            try:
                session.get([mib.SYS_NAME])
                return
            except (DeviceSilentError, DeviceRefusedError):
                SYSTEM.sleep(0.05)
        raise AssertionError("snmpd does not answer")
    finally:
        session.close()
