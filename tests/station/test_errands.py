"""What a station lets itself be asked for: passes, signed errands, and the limits of its operator."""

import json
import unittest
from datetime import UTC, datetime, time

from harvok.core.models.control import ErrandRequest
from harvok.core.models.errand import Errand
from harvok.core.procedures.tcp import TcpTest
from harvok.core.trials.tcp import SocketOptions, tcp_trial
from harvok.core.wire.pairing import signed_text
from harvok.errors import HarvokError, LimitError, PairingError, ProtocolError
from harvok.station.errand import ErrandLimits, read_errand
from harvok.station.keys import Keys, Known
from harvok.station.passes import MAX_PASSES, Passes
from harvok.testing.clock import ManualClock
from tests.own_state import own_state

NOON = datetime(2026, 11, 26, 12, 0, tzinfo=UTC)


def an_errand(station: str = "hall.example", duration_s: float | None = 10.0, flows: int = 1) -> Errand:
    amount_bytes = None if duration_s else 1000
    test = TcpTest("each", tcp_trial(flows, duration_s, amount_bytes, 1.0, SocketOptions()))
    return Errand(test=test, station=station, token="0123456789abcdef", asked_by="lead")


class OfPasses(unittest.TestCase):
    def setUp(self) -> None:
        self.clock = ManualClock()
        self.passes = Passes(self.clock)

    def test_a_pass_opens_tests_alone_and_only_in_its_time(self) -> None:
        header = f"Bearer {self.passes.make(30)}".encode()
        self.assertTrue(self.passes.admit(header, "/v1/sessions/abc/trial"))
        self.assertTrue(self.passes.admit(header, "/v1/station"))
        self.assertFalse(self.passes.admit(header, "/v1/passes"), "a pass makes no passes")
        self.assertFalse(self.passes.admit(header, "/v1/pairing"))
        self.assertFalse(self.passes.admit(b"Bearer ", "/v1/station"))
        self.clock.sleep(91)
        self.assertFalse(self.passes.admit(header, "/v1/station"))

    def test_there_are_only_so_many_and_old_ones_make_room(self) -> None:
        for _ in range(MAX_PASSES):
            self.passes.make(30)
        with self.assertRaises(LimitError):
            self.passes.make(30)
        self.clock.sleep(91)
        self.assertTrue(self.passes.make(30))


class OfLimits(unittest.TestCase):
    def allowed(self, errand: Errand, *toward: str, hours: tuple[tuple[time, time], ...] = ()) -> str:
        return ErrandLimits(toward, hours).check(errand, 60.0, 4, NOON).station

    def test_toward_whom(self) -> None:
        self.assertEqual(self.allowed(an_errand(), "hall.example"), "hall.example")
        self.assertEqual(self.allowed(an_errand("127.0.0.1:26480"), "127.0.0.0/8"), "127.0.0.1:26480")
        self.assertEqual(self.allowed(an_errand("[::1]:26480"), "::1"), "[::1]:26480")
        self.assertEqual(self.allowed(an_errand("192.0.2.7"), "any"), "192.0.2.7")
        for toward in (("dome.example",), ("192.0.2.0/24",), ("127.0.0.0/8", "dome")):
            with self.subTest(toward), self.assertRaisesRegex(LimitError, "may not be sent toward"):
                self.allowed(an_errand("198.51.100.7"), *toward)

    def test_a_name_that_a_network_allows_is_reached_by_the_address_that_was_looked_at(self) -> None:
        self.assertEqual(self.allowed(an_errand("localhost:26480"), "127.0.0.0/8", "::1"), "127.0.0.1:26480")

    def test_how_much_and_when(self) -> None:
        for errand, words in (
            (an_errand(duration_s=31.0), "at most 1 min"),  # both ways, one after the other
            (an_errand(duration_s=None), "with a known end"),
            (an_errand(flows=5), "1 to 4 flows, not 5"),
        ):
            with self.subTest(words), self.assertRaisesRegex(LimitError, words):
                self.allowed(errand, "any")
        night, day = (time(20), time(6)), (time(6), time(18))
        with self.assertRaisesRegex(LimitError, "no errands at 12:00"):
            self.allowed(an_errand(), "any", hours=(night,))
        self.assertTrue(self.allowed(an_errand(), "any", hours=(night, day)))


class OfSignatures(unittest.TestCase):
    def setUp(self) -> None:
        folder = own_state(self)
        self.station, self.lead = Keys(folder / "station"), Keys(folder / "lead")
        self.text = an_errand().model_dump_json()

    def pair(self) -> None:
        self.station.learn_near_end(Known("lead", self.lead.certificate, "2026-11-26"))

    def request(self, keys: Keys, text: str | None = None, session: str = "abcdef01") -> ErrandRequest:
        text = self.text if text is None else text
        signature = keys.sign(signed_text(self.station.code, session, text))
        return ErrandRequest(errand=text, code=self.lead.code, signature=signature)

    def refused(self, request: ErrandRequest, error: type[HarvokError] = PairingError) -> None:
        with self.assertRaises(error):
            read_errand(request, "abcdef01", self.station)

    def test_only_who_is_paired_and_signed_it_for_this_session_is_obeyed(self) -> None:
        self.refused(self.request(self.lead))
        self.pair()
        self.assertEqual(read_errand(self.request(self.lead), "abcdef01", self.station), an_errand())
        self.refused(self.request(self.station))
        self.refused(self.request(self.lead, session="abcdef02"))
        other = json.dumps(json.loads(self.text) | {"station": "198.51.100.7"})
        self.refused(self.request(self.lead).model_copy(update={"errand": other}))
        self.refused(self.request(self.lead).model_copy(update={"signature": "00" * 70}))

    def test_what_is_no_errand_is_said_with_its_place(self) -> None:
        self.pair()
        for text in ("", "[]", '{"test": {"kind": "tcp"}, "station": "hall"}', '{"station": 3}'):
            self.refused(self.request(self.lead, text), ProtocolError)
