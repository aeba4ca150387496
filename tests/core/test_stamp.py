import os
import unittest
from importlib.util import find_spec

from harvok.core.measures.clocks import offset_of
from harvok.core.trials.delay import DelayTrialResult, Echo
from harvok.core.wire.echo import checksum, decode_reply, encode_request
from harvok.core.wire.stamp import (
    AUTHENTICATED_BYTES,
    PLAIN_BYTES,
    ReflectorPacket,
    SenderPacket,
    decode_reflector,
    decode_sender,
    encode_reflector,
    encode_sender,
    error_estimate,
    estimated_error_s,
    from_ntp,
    to_ntp,
)

KEY = b"dome to hall"
NOW_NS = 1_795_000_000_123_456_789
SENT = SenderPacket(number=7, sent_ns=NOW_NS, error=error_estimate(True, 1e-6), ssid=0xBEEF)
ANSWER = ReflectorPacket(3, NOW_NS + 2000, SENT.error, SENT.ssid, NOW_NS + 1000, SENT, 61)


class Stamps(unittest.TestCase):
    def test_ntp_there_and_back_to_the_nanosecond(self) -> None:
        for ns in (0, 1, NOW_NS, 2_085_978_496_000_000_000, 2_500_000_000_999_999_999):
            self.assertEqual(from_ntp(to_ntp(ns)), ns)
        self.assertEqual(to_ntp(0) >> 32, 2_208_988_800)

    def test_error_estimates_keep_their_size(self) -> None:
        for error_s in (1e-8, 1e-6, 0.004, 1.0, 300.0):
            estimate = error_estimate(True, error_s)
            self.assertTrue(estimate & 0x8000)
            self.assertAlmostEqual(estimated_error_s(estimate), error_s, delta=error_s / 2)
        self.assertFalse(error_estimate(False, 1.0) & 0x8000)
        self.assertTrue(error_estimate(True, 0.0) & 0xFF)  # RFC 4656 §4.1.2: never zero


class Packets(unittest.TestCase):
    def test_there_and_back_in_both_modes(self) -> None:
        for key, size in ((None, PLAIN_BYTES), (KEY, AUTHENTICATED_BYTES)):
            request = encode_sender(SENT, key)
            self.assertEqual(len(request), size)
            self.assertEqual(decode_sender(request, key), SENT)
            answer = encode_reflector(ANSWER, request, key)
            self.assertEqual(len(answer), size)
            self.assertEqual(decode_reflector(answer, key), ANSWER)

    def test_fields_stand_where_the_standard_puts_them(self) -> None:
        raw = encode_reflector(ANSWER, encode_sender(SENT))
        self.assertEqual(int.from_bytes(raw[0:4]), 3)
        self.assertEqual(from_ntp(int.from_bytes(raw[4:12])), NOW_NS + 2000)
        self.assertEqual(int.from_bytes(raw[14:16]), 0xBEEF)
        self.assertEqual(from_ntp(int.from_bytes(raw[16:24])), NOW_NS + 1000)
        self.assertEqual((int.from_bytes(raw[24:28]), raw[40]), (7, 61))

    def test_only_the_key_opens_a_sealed_one(self) -> None:
        request = encode_sender(SENT, KEY)
        self.assertIsNone(decode_sender(request, b"another"))
        for at in (0, 30, 100, 111):
            broken = bytearray(request)
            broken[at] ^= 1
            self.assertIsNone(decode_sender(bytes(broken), KEY))
        self.assertIsNone(decode_sender(encode_sender(SENT), KEY))

    def test_rubbish_and_parts_are_nothing(self) -> None:
        for length in (0, 1, 40, 43, 44, 111, 112, 1400):
            for key in (None, KEY):
                for _ in range(20):
                    raw = os.urandom(length)
                    got = decode_sender(raw, key)
                    if got:  # without a key any 41 bytes are a packet; its answer is no larger
                        answer = ReflectorPacket(0, NOW_NS, 1, got.ssid, NOW_NS, got, 64)
                        self.assertEqual(len(encode_reflector(answer, raw, key)), length)
        self.assertIsNone(decode_sender(bytes(40)))

    def test_tlvs_come_back_flagged(self) -> None:
        padding, unknown = b"\x80\x01\x00\x04abcd", b"\x80\xf0\x00\x02xy"
        request = encode_sender(SENT) + padding + unknown
        answer = encode_reflector(ANSWER, request)
        self.assertEqual(answer[44:], b"\x00\x01\x00\x04abcd" + b"\x80\xf0\x00\x02xy")
        cut = encode_sender(SENT) + b"\x80\x01\x00\x40abcd"
        self.assertEqual(encode_reflector(ANSWER, cut)[44] & 0x40, 0x40)

    @unittest.skipUnless(find_spec("scapy"), "needs Scapy")
    def test_an_independent_decoder_reads_the_same(self) -> None:
        from scapy.contrib.stamp import (
            STAMPSessionReflectorTestUnauthenticated,
            STAMPSessionSenderTestUnauthenticated,
        )

        request = encode_sender(SENT)
        theirs = STAMPSessionSenderTestUnauthenticated(request)
        self.assertEqual((theirs.seq, theirs.ssid), (7, 0xBEEF))
        self.assertAlmostEqual(float(theirs.ts), to_ntp(NOW_NS) / 2**32, places=3)
        reflected = STAMPSessionReflectorTestUnauthenticated(encode_reflector(ANSWER, request))
        self.assertEqual((reflected.seq, reflected.ssid, reflected.seq_sender), (3, 0xBEEF, 7))
        self.assertEqual(reflected.ttl_sender, 61)
        built = bytes(STAMPSessionSenderTestUnauthenticated(seq=9, ssid=5))
        read = decode_sender(built[:PLAIN_BYTES].ljust(PLAIN_BYTES, b"\0"))
        assert read
        self.assertEqual((read.number, read.ssid), (9, 5))


class Echoes(unittest.TestCase):
    def test_checksum_of_rfc_1071(self) -> None:
        self.assertEqual(checksum(bytes.fromhex("0001f203f4f5f6f7")), 0x220D)

    def test_request_and_reply(self) -> None:
        request = encode_request(4, 77, 5, b"payload!")
        self.assertEqual(checksum(request), 0)
        reply = b"\0" + request[1:]
        self.assertEqual(decode_reply(4, reply), (77, 5, b"payload!"))
        self.assertEqual(decode_reply(4, bytes.fromhex("45") + bytes(19) + reply), (77, 5, b"payload!"))
        self.assertIsNone(decode_reply(4, request))
        self.assertIsNone(decode_reply(4, b"\0"))
        self.assertEqual(decode_reply(6, b"\x81" + encode_request(6, 1, 2, b"x")[1:]), (1, 2, b"x"))


class Clocks(unittest.TestCase):
    def test_offset_is_that_of_the_fastest_exchange(self) -> None:
        """Far clock 5 s ahead; 10 ms there and 30 ms back looks like 10 ms less, within half of the 40."""
        slow = Echo(0, 0.0, 0.040, 5.010, -4.970)
        fast = Echo(1, 0.1, 0.002, 5.001, -4.999)
        found = offset_of(DelayTrialResult("stamp", echoes=[slow, fast, Echo(2, 0.2)]))
        assert found
        self.assertAlmostEqual(found.offset_s, 5.0)
        self.assertAlmostEqual(found.error_s, 0.001)
        self.assertIsNone(offset_of(DelayTrialResult("echo", echoes=[Echo(0, 0.0, 0.04)])))
