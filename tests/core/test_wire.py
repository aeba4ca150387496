import os
import struct
import unittest

from harvok.core.trials.tcp import TcpInfo
from harvok.core.wire.hello import HELLO_BYTES, KEY_BYTES, TRIAL_ID_BYTES, Hello, decode_hello, encode_hello
from harvok.core.wire.tcp_info import SEGMENTS_INFO_BYTES, TCP_INFO_BYTES, decode_segments, decode_tcp_info

KEY = bytes(range(KEY_BYTES))
HELLO = Hello(trial_id=bytes(range(TRIAL_ID_BYTES)), role="receiver", flow=63)


class Hellos(unittest.TestCase):
    def test_there_and_back(self) -> None:
        for role in ("sender", "receiver"):
            for flow in (0, 1, 63, 65535):
                hello = Hello(os.urandom(TRIAL_ID_BYTES), role, flow)
                raw = encode_hello(hello, KEY)
                self.assertEqual(len(raw), HELLO_BYTES)
                self.assertEqual(decode_hello(raw, KEY), hello)

    def test_golden_head(self) -> None:
        raw = encode_hello(HELLO, KEY)
        self.assertEqual(raw[:8], b"HVOK\x01\x01\x00\x3f")
        self.assertEqual(raw[8:24], HELLO.trial_id)

    def test_no_part_of_it_is_a_hello(self) -> None:
        raw = encode_hello(HELLO, KEY)
        for length in range(HELLO_BYTES):
            self.assertIsNone(decode_hello(raw[:length], KEY))
        self.assertIsNone(decode_hello(raw + b"\0", KEY))

    def test_any_bit_changed_is_refused(self) -> None:
        raw = encode_hello(HELLO, KEY)
        for bit in range(HELLO_BYTES * 8):
            changed = bytearray(raw)
            changed[bit // 8] ^= 1 << bit % 8
            self.assertIsNone(decode_hello(bytes(changed), KEY), f"bit {bit}")

    def test_another_key_is_refused(self) -> None:
        self.assertIsNone(decode_hello(encode_hello(HELLO, KEY), bytes(KEY_BYTES)))


class TcpInfos(unittest.TestCase):
    def raw(self) -> bytes:
        made = bytearray(TCP_INFO_BYTES)
        made[5] = 0b0111
        values = {16: ("I", 1448), 68: ("I", 35_000), 80: ("I", 10), 120: ("Q", 10**12), 148: ("I", 34_000)}
        values |= {160: ("Q", 125_000_000), 168: ("Q", 9_000_000), 176: ("Q", 8_000_000), 228: ("I", 65_535)}
        for offset, (form, value) in values.items():
            struct.pack_into("=" + form, made, offset, value)
        return bytes(made)

    def test_fields_where_the_kernel_puts_them(self) -> None:
        found = decode_tcp_info(self.raw())
        self.assertEqual((found.options, found.mss_bytes, found.rtt_us, found.cwnd_segments), (7, 1448, 35_000, 10))
        self.assertEqual((found.acked_bytes, found.min_rtt_us), (10**12, 34_000))
        self.assertEqual((found.busy_us, found.window_limited_us), (9_000_000, 8_000_000))
        self.assertEqual((found.delivery_rate_bps, found.peer_window_bytes), (1e9, 65_535))

    def test_segments_alone(self) -> None:
        made = bytearray(self.raw())
        for offset, value in ((100, 7), (136, 900), (140, 800)):  # sent again, sent, received
            struct.pack_into("=I", made, offset, value)
        raw = bytes(made)
        self.assertEqual(decode_segments(raw[:SEGMENTS_INFO_BYTES]), (900, 800, 7))
        self.assertEqual(decode_tcp_info(raw).retransmitted_segments, 7)
        self.assertIsNone(decode_segments(raw[: SEGMENTS_INFO_BYTES - 1]))

    def test_an_older_kernel_tells_less(self) -> None:
        raw = self.raw()
        self.assertEqual(decode_tcp_info(b""), TcpInfo())
        shorter = decode_tcp_info(raw[:104])
        self.assertEqual((shorter.rtt_us, shorter.acked_bytes, shorter.peer_window_bytes), (35_000, None, None))
        for length in range(TCP_INFO_BYTES):
            decode_tcp_info(raw[:length])  # no length makes it fail
        self.assertEqual(decode_tcp_info(raw + b"rubbish"), decode_tcp_info(raw))

    def test_no_sample_of_the_min_rtt_yet(self) -> None:
        made = bytearray(self.raw())
        struct.pack_into("=I", made, 148, 0xFFFFFFFF)
        self.assertIsNone(decode_tcp_info(bytes(made)).min_rtt_us)
