import unittest

from fastapi.testclient import TestClient

from harvok.clock import SYSTEM
from harvok.core.ends import SEND
from harvok.core.models.control import Fault, TrialRequest
from harvok.core.trials.tcp import TcpTrial
from harvok.errors import BusyError, FarEndError, ProtocolError, TokenError, UnknownNameError, UsageError
from harvok.station.address import parse_station, resolve
from harvok.station.capabilities import CAPABILITIES, require, traffic_capability
from harvok.station.client import error_of
from harvok.station.doors import Doors
from harvok.station.far_end import State, next_state
from harvok.station.http import make_app
from harvok.station.service import Station, StationSettings
from harvok.station.sessions import LEASE_S, MAX_MEMBERS, Sessions
from harvok.testing.clock import ManualClock

TOKEN = "correct-horse"
GOOD = {"Authorization": f"Bearer {TOKEN}"}
CLAIM = {"near": "dome", "planned_s": 20, "capabilities": list(CAPABILITIES)}


class Holding(unittest.TestCase):
    def setUp(self) -> None:
        self.clock = ManualClock()
        self.sessions = Sessions(self.clock)

    def test_one_at_a_time_and_when_it_will_be_free(self) -> None:
        self.assertIsNone(self.sessions.free_in_s)
        self.sessions.claim("dome", 20)
        self.clock.sleep(5)
        with self.assertRaisesRegex(BusyError, "serves dome; it should be free in 15 s") as caught:
            self.sessions.claim("hall", 20)
        self.assertEqual(caught.exception.free_in_s, 15)

    def test_a_near_end_can_give_back_what_it_never_heard_of(self) -> None:
        chosen = "0123456789abcdef" * 2
        self.assertEqual(self.sessions.claim("dome", 20, chosen), chosen)
        self.assertTrue(self.sessions.give_back(chosen))
        self.assertIsNone(self.sessions.free_in_s)

    def test_a_lease_that_is_renewed_holds(self) -> None:
        session = self.sessions.claim("dome", 20)
        for _ in range(10):
            self.clock.sleep(LEASE_S * 0.9)
            self.sessions.renew(session)
            self.assertEqual(self.sessions.expire(), [])
        self.assertTrue(self.sessions.give_back(session))
        self.assertFalse(self.sessions.give_back(session))

    def test_a_near_end_that_falls_silent_loses_the_station(self) -> None:
        session = self.sessions.claim("dome", 3600)
        self.clock.sleep(LEASE_S)
        self.assertEqual(self.sessions.expire(), [(session, "dome")])
        with self.assertRaises(ProtocolError):
            self.sessions.renew(session)
        self.sessions.claim("hall", 1)

    def test_a_station_that_was_held_up_itself_does_not_blame_its_near_end(self) -> None:
        session = self.sessions.claim("dome", 20)
        self.clock.sleep(0.5)
        self.assertEqual(self.sessions.expire(), [])
        self.clock.sleep(LEASE_S * 4)
        self.assertEqual(self.sessions.expire(), [], "nobody looked for so long")
        looks = 0
        while not (gone := self.sessions.expire()):
            self.clock.sleep(0.5)
            looks += 1
        self.assertEqual(gone, [(session, "dome")], "but silence is silence")
        self.assertTrue(LEASE_S / 2 <= 0.5 * looks <= LEASE_S, looks)

    def test_near_ends_of_one_group_share_it_each_at_a_place_of_its_own(self) -> None:
        group = "0123456789abcdef"
        first, second = (self.sessions.claim(near, 20, group=group) for near in ("dome", "spectro"))
        self.assertEqual((self.sessions.renew(first), self.sessions.renew(second)), (0, 1))
        for other in (None, "fedcba9876543210"):
            with self.assertRaises(BusyError):
                self.sessions.claim("hall", 20, group=other)
        self.assertTrue(self.sessions.give_back(first))
        self.assertIsNotNone(self.sessions.free_in_s)
        third = self.sessions.claim("hall", 20, group=group)
        self.assertEqual(self.sessions.renew(third), 0, "the place that became free")
        for number in range(MAX_MEMBERS - 2):
            self.sessions.claim(f"guest-{number}", 20, group=group)
        with self.assertRaises(BusyError):
            self.sessions.claim("one-too-many", 20, group=group)
        self.clock.sleep(LEASE_S)
        self.assertEqual(len(self.sessions.expire()), MAX_MEMBERS)
        self.assertIsNone(self.sessions.free_in_s)

    def test_longer_than_planned_is_still_busy(self) -> None:
        self.sessions.claim("dome", 2)
        self.clock.sleep(4)
        self.assertEqual(self.sessions.free_in_s, 1.0)


class Capabilities(unittest.TestCase):
    def test_a_station_without_a_kind_of_traffic_is_named_before_anything_is_sent(self) -> None:
        older = [capability for capability in CAPABILITIES if capability != "udp/1"]
        require(older, [traffic_capability("tcp")], "the station hall")
        with self.assertRaisesRegex(ProtocolError, "the station hall cannot do udp/1"):
            require(older, [traffic_capability("udp")], "the station hall")


class States(unittest.TestCase):
    def test_every_state_and_event(self) -> None:
        events = ("start", "run", "progress", "finish", "result", "release")
        allowed = {
            State.PREPARED: {"start", "release"},
            State.STARTING: {"run", "release"},
            State.RUNNING: {"progress", "finish", "result", "release"},
            State.OVER: {"progress", "result", "release"},
            State.RELEASED: {"release"},
        }
        for state in State:
            for event in events:
                if event in allowed[state]:
                    self.assertIsInstance(next_state(state, event), State)
                else:
                    with self.assertRaisesRegex(ProtocolError, state.value):
                        next_state(state, event)


class Http(unittest.TestCase):
    def setUp(self) -> None:
        self.reported: list[str] = []
        settings = StationSettings("hall", TOKEN, 26480, 26481, "127.0.0.1", max_test_s=60, max_flows=4)
        self.station = Station(settings, SYSTEM, self.reported.append)
        self.http = TestClient(make_app(self.station, Doors()), headers=GOOD, client=("127.0.0.1", 50000))
        self.addCleanup(self.station.close)

    def claim(self) -> str:
        return str(self.http.post("/v1/sessions", json=CLAIM).json()["session"])

    def fault(self, method: str, path: str, status: int, **more: object) -> Fault:
        response = self.http.request(method, path, **more)  # type: ignore[arg-type]
        self.assertEqual(response.status_code, status, response.text)
        return Fault.model_validate_json(response.content)

    def test_nothing_without_the_right_token(self) -> None:
        for value in ("", "Bearer", "Bearer wrong", f"Basic {TOKEN}", f"Bearer {TOKEN} "):
            for path in ("/v1/station", "/openapi.json", "/nowhere", "/v1/sessions/x/trial"):
                fault = self.fault("GET", path, 401, headers={"Authorization": value})
                self.assertEqual(fault.reference, "token-refused")
        self.assertEqual(self.reported, [])

    def test_who_answers(self) -> None:
        facts = self.http.get("/v1/station").json()
        self.assertEqual((facts["name"], facts["data_port"], facts["free_in_s"]), ("hall", 26481, None))

    def test_busy(self) -> None:
        self.claim()
        fault = self.fault("POST", "/v1/sessions", 409, json=CLAIM)
        self.assertEqual(fault.reference, "station-busy")
        self.assertGreater(fault.free_in_s or 0, 10)

    def test_given_back_it_is_free_again(self) -> None:
        session = self.claim()
        self.assertEqual(self.http.delete(f"/v1/sessions/{session}").status_code, 204)
        self.claim()
        self.assertEqual([line.split(" (")[0] for line in self.reported], ["dome", "free", "dome"])

    def test_a_near_end_that_knows_more_is_served_with_what_both_can_do(self) -> None:
        newer = [*CAPABILITIES, "apps/1", "tcp/2"]
        answer = self.http.post("/v1/sessions", json=CLAIM | {"capabilities": newer, "colour": "red"}).json()
        self.assertEqual(answer["capabilities"], list(CAPABILITIES))

    def test_a_near_end_without_a_kind_of_traffic_can_do_the_others(self) -> None:
        older = [one for one in CAPABILITIES if one != "udp/1"]
        self.assertEqual(
            self.http.post("/v1/sessions", json=CLAIM | {"capabilities": older}).json()["capabilities"], older
        )

    def test_an_option_of_a_trial_that_the_station_does_not_know_is_refused(self) -> None:
        trial = TrialRequest(trial=TcpTrial((SEND,), duration_s=1.0)).model_dump(mode="json")
        trial["trial"]["zero_copy"] = True
        fault = self.fault("POST", f"/v1/sessions/{self.claim()}/trial", 422, json=trial)
        self.assertIn("zero_copy", fault.message)

    def test_one_that_cannot_hold_a_session_is_refused(self) -> None:
        for known in (["sessions/2"], []):
            fault = self.fault("POST", "/v1/sessions", 409, json=CLAIM | {"capabilities": known})
            self.assertIn("the near end cannot do sessions/1", fault.message)
            self.assertIn("Upgrade", fault.hint)

    def test_nonsense_is_refused_and_the_station_lives(self) -> None:
        bodies: list[object] = [None, [], "x", {}, {"near": "x" * 5000, "planned_s": 1}]
        bodies += [CLAIM | {"planned_s": -1}, CLAIM | {"planned_s": "soon"}, CLAIM | {"capabilities": "all"}]
        for body in bodies:
            self.assertEqual(self.fault("POST", "/v1/sessions", 422, json=body).reference, "protocol")
        self.assertEqual(self.fault("PATCH", "/v1/nowhere", 404).reference, "protocol")
        self.assertEqual(self.http.post("/v1/sessions", content=b"\xff" * 100).status_code, 422)
        self.assertEqual(self.http.post("/v1/sessions", content=b"[" * 60_000).status_code, 422)
        self.assertEqual(self.http.post("/v1/sessions", content=b"[" * 600_000).status_code, 413)
        self.assertEqual(self.http.get("/v1/station").status_code, 200)

    def test_limits_of_the_operator(self) -> None:
        path = f"/v1/sessions/{self.claim()}/trial"
        trials = {
            "flows": TcpTrial((SEND,), flows=5, duration_s=10.0),
            "tests of 60 s, not 61 s": TcpTrial((SEND,), duration_s=61.0),
        }
        for words, trial in trials.items():
            body = TrialRequest(trial=trial).model_dump(mode="json")
            fault = self.fault("POST", path, 422, json=body)
            self.assertEqual(fault.reference, "station-limit")
            self.assertIn(words, fault.message)

    def test_trials_that_make_no_sense(self) -> None:
        path = f"/v1/sessions/{self.claim()}/trial"
        for trial in (
            TcpTrial((), duration_s=1.0),
            TcpTrial((SEND,)),
            TcpTrial((SEND,), duration_s=1.0, amount_bytes=5),
            TcpTrial((SEND,), duration_s=1.0, tick_s=0.2, interval_s=0.1),
        ):
            fault = self.fault("POST", path, 409, json=TrialRequest(trial=trial).model_dump(mode="json"))
            self.assertEqual(fault.reference, "protocol")

    def test_calls_out_of_order(self) -> None:
        path = f"/v1/sessions/{self.claim()}/trial"
        for method, rest in (("POST", "/start"), ("GET", "/progress"), ("GET", "/result"), ("DELETE", "")):
            self.assertEqual(self.fault(method, path + rest, 409).message, "no trial is prepared")
        body = TrialRequest(trial=TcpTrial((SEND,), duration_s=1.0)).model_dump(mode="json")
        prepared = self.http.post(path, json=body)
        self.assertEqual((prepared.status_code, prepared.json()["data_port"]), (201, 26481))
        self.assertIn("prepared", self.fault("GET", path + "/result", 409).message)
        self.assertEqual(self.http.delete(path).status_code, 204)

    def test_a_session_that_ended_gives_nothing(self) -> None:
        session = self.claim()
        self.http.delete(f"/v1/sessions/{session}")
        for method, rest in (("POST", "/renewal"), ("GET", "/conditions"), ("POST", "/trial/start")):
            self.assertIn("ended", self.fault(method, f"/v1/sessions/{session}{rest}", 409).message)

    def test_conditions_of_the_far_end(self) -> None:
        found = self.http.get(f"/v1/sessions/{self.claim()}/conditions").json()
        self.assertEqual(found["name"], "hall")
        self.assertGreater(found["cores"], 0)


class Clients(unittest.TestCase):
    def test_addresses_of_stations(self) -> None:
        wanted = {
            "hall": ("hall", 26470),
            "hall:4000": ("hall", 4000),
            "198.18.0.2": ("198.18.0.2", 26470),
            "2001:2::2": ("2001:2::2", 26470),
            "[2001:2::2]": ("2001:2::2", 26470),
            "[2001:2::2]:4000": ("2001:2::2", 4000),
        }
        for text, place in wanted.items():
            self.assertEqual(parse_station(text), place)

    def test_what_is_no_address(self) -> None:
        for text in ("", ":4000", "hall:port", "hall:0", "hall:65536", "[2001:2::2]x", "[]:1"):
            with self.assertRaises(UsageError, msg=text):
                parse_station(text)

    def test_a_name_that_does_not_resolve(self) -> None:
        for name in ("no-such-host.invalid", "a" * 70 + ".invalid", "dome..invalid"):
            with self.assertRaisesRegex(UnknownNameError, "does not resolve"):
                resolve(name)

    def test_errors_come_home_as_what_they_were(self) -> None:
        busy = error_of(Fault(reference="station-busy", message="m", hint="h", free_in_s=7.0))
        assert isinstance(busy, BusyError)
        self.assertEqual(busy.free_in_s, 7.0)
        self.assertIsInstance(error_of(Fault(reference="token-refused", message="m", hint="h")), TokenError)
        self.assertIs(type(error_of(Fault(reference="from-the-future", message="m", hint="h"))), FarEndError)
