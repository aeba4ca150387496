"""The message that limits the addresses of a bridge, byte by byte, and what the kernel may say to it."""

import errno
import os
import struct
import unittest
from unittest import mock

from harvok.errors import NearEndError
from harvok.host.bridge import limit_addresses


def answer(code: int) -> bytes:
    """What the kernel says: an error with its number, or 0 for done."""
    return struct.pack("=IHHII", 36, 2, 0, 1, 0) + struct.pack("=i", -code) + bytes(16)


class Limits(unittest.TestCase):
    def told(self, release: str = "6.18.44", code: int = 0) -> bytes:
        sock = mock.MagicMock()
        sock.__enter__.return_value = sock
        sock.recv.return_value = answer(code)
        with (
            mock.patch("harvok.host.bridge.socket.socket", return_value=sock),
            mock.patch("harvok.host.bridge.os.uname", return_value=mock.Mock(release=release)),
        ):
            limit_addresses(7, 1024)
        (message,) = sock.send.call_args[0]
        assert isinstance(message, bytes)
        return message

    def test_the_message(self) -> None:
        message = self.told()
        length, kind, flags, sequence, _ = struct.unpack_from("=IHHII", message)
        self.assertEqual((length, kind, flags, sequence), (len(message), 16, 5, 1))
        family, device, index, interface_flags, change = struct.unpack_from("=BxHiII", message, 16)
        self.assertEqual((family, device, index, interface_flags, change), (0, 0, 7, 0, 0))
        self.assertTrue(message.endswith(struct.pack("=HHI", 8, 49, 1024)))
        self.assertIn(struct.pack("=HH", 11, 1) + b"bridge\0\0", message)
        self.assertEqual(len(message) % 4, 0)

    def test_an_old_kernel_cannot(self) -> None:
        for release in ("6.6.12-arch", "5.15.0-91-generic"):
            with self.assertRaisesRegex(NearEndError, f"this kernel \\({release}\\) cannot limit"):
                self.told(release)
        self.told("6.7-rc1")

    def test_what_the_kernel_refuses_is_an_error_of_the_system(self) -> None:
        with self.assertRaises(OSError) as caught:
            self.told(code=errno.EPERM)
        self.assertEqual(caught.exception.errno, errno.EPERM)
        self.assertIn(os.strerror(errno.EPERM), str(caught.exception))
