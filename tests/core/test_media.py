"""Datagrams of media streams, and what is counted of them."""

import random
import unittest

from harvok.core.wire.media import (
    ASKS,
    BRINGS,
    MAX_DATAGRAMS,
    MIN_MEDIA_BYTES,
    Asked,
    MediaReport,
    Reception,
    make_media,
    media_proof,
    read_media,
)

PROOF = media_proof("0123456789abcdef01234567")
ASKED = Asked(20_000, 50, 160)


class Datagrams(unittest.TestCase):
    def test_what_is_made_is_read_again(self) -> None:
        for kind, tail in ((ASKS, ASKED), (BRINGS, MediaReport(17, 250))):
            said = read_media(make_media(PROOF, kind, 7, 3, 10**15, tail) + bytes(120), PROOF)
            assert said
            self.assertEqual((said.kind, said.call, said.number, said.sent_ns), (kind, 7, 3, 10**15))
            self.assertEqual(said.asked or said.report, tail)

    def test_strangers_and_nonsense_are_nobodys(self) -> None:
        good = make_media(PROOF, ASKS, 1, 0, 0, ASKED)
        self.assertEqual(len(good), MIN_MEDIA_BYTES)
        for bad in (
            b"", good[:-1], b"\0" + good[1:], good[:1] + b"\x09" + good[2:], good[:3] + b"\1" + good[4:],
            good[:4] + bytes(8) + good[12:], make_media(PROOF, ASKS, 1, 0, 0, Asked(0, 5, 160)),
            make_media(PROOF, ASKS, 1, 0, 0, Asked(20, 0, 160)), make_media(PROOF, ASKS, 1, 0, 0, Asked(20_000, 5, 39)),
            make_media(PROOF, ASKS, 1, 0, 0, Asked(20_000, 5, 9000)),
            make_media(PROOF, ASKS, 1, 0, 0, Asked(20_000, MAX_DATAGRAMS + 1, 160)),
        ):  # fmt: skip
            self.assertIsNone(read_media(bad, PROOF), bad)


class Receptions(unittest.TestCase):
    def test_each_number_counts_once_in_any_order(self) -> None:
        heard, numbers = Reception(), [number for number in range(1000) if number % 10]
        random.Random(1).shuffle(numbers)
        for number in [*numbers, *numbers[:100], MAX_DATAGRAMS]:
            heard.take(number, 0, 0)
        self.assertEqual(heard.came, 900)

    def test_jitter_is_that_of_the_standard(self) -> None:
        """J grows by a sixteenth of each change of the transit time, and forgets by a sixteenth (RFC 3550 §6.4.1)."""
        heard, expected, before = Reception(), 0.0, None
        chance = random.Random(2)
        for number in range(200):
            transit_ns = chance.randrange(5_000_000)
            heard.take(number, number * 20_000_000, number * 20_000_000 + transit_ns)
            if before is not None:
                expected += (abs(transit_ns - before) - expected) / 16
            before = transit_ns
        self.assertAlmostEqual(heard.jitter_ns, expected, delta=1)
        self.assertEqual(heard.report, MediaReport(200, int(expected) // 1000))


if __name__ == "__main__":
    unittest.main()
