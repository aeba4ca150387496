import unittest
from dataclasses import replace
from typing import Any

from fastapi.testclient import TestClient

from harvok.clock import SYSTEM
from harvok.core.ends import RECEIVE, SEND
from harvok.core.models.control import StationFacts, TrialRequest
from harvok.core.time_axis import ClockOffset, closer
from harvok.core.trials.udp import UdpService, UdpTrial
from harvok.station.doors import Doors
from harvok.station.http import make_app
from harvok.station.service import Station, StationSettings
from harvok.traffic.reflector import ReflectorSettings
from tests.station.test_station import CLAIM, GOOD, TOKEN
from tests.whole.program import free_ports

TRIAL = UdpTrial((UdpService(1000.0, 100),), (SEND,), 1.0)


class WhatAStationLetsItselfBeAsked(unittest.TestCase):
    """Whoever has the token can still not make it flood others, or itself."""

    def setUp(self) -> None:
        settings = StationSettings("hall", TOKEN, free_ports(), free_ports(), "127.0.0.1", max_test_s=60, max_flows=8)
        self.station = Station(settings, SYSTEM, lambda _: None)
        self.client = TestClient(make_app(self.station, Doors()), headers=GOOD, client=("127.0.0.1", 5000))
        self.session = self.client.post("/v1/sessions", json=CLAIM).json()["session"]
        self.addCleanup(self.station.close)

    def asked(self, trial: UdpTrial) -> Any:
        body = TrialRequest(trial=trial).model_dump(mode="json")
        return self.client.post(f"/v1/sessions/{self.session}/trial", json=body)

    def test_a_trial_that_is_all_right(self) -> None:
        answer = self.asked(TRIAL)
        self.assertEqual(answer.status_code, 201, answer.text)
        self.assertEqual(len(bytes.fromhex(answer.json()["key"])), 32)

    def test_trials_that_are_not(self) -> None:
        service = TRIAL.services[0]
        for wrong, said in (
            (replace(TRIAL, group="239.1.2.3", streams=(RECEIVE,)), "sends nothing to a multicast group"),
            (replace(TRIAL, group="198.18.0.1"), "no multicast address"),
            (replace(TRIAL, group="nonsense"), "no multicast address"),
            (replace(TRIAL, streams=()), "needs streams"),
            (replace(TRIAL, services=()), "needs streams, and services"),
            (replace(TRIAL, services=(replace(service, payload_bytes=17),)), "payloads of 18"),
            (replace(TRIAL, services=(replace(service, payload_bytes=70_000),)), "payloads of 18"),
            (replace(TRIAL, services=(replace(service, load_fps=0.0),)), "load_fps: Input should be greater than 0"),
            (replace(TRIAL, services=(replace(service, load_fps=-5.0),)), "load_fps: Input should be greater than 0"),
            (replace(TRIAL, services=(replace(service, flows=9),)), "1 to 8 flows"),
            (
                replace(TRIAL, services=(replace(service, flows=0), service)),
                "flows: Input should be greater than or equal to 1",
            ),
            (replace(TRIAL, services=(replace(service, begins_s=0.5, lasts_s=0.6),)), "within the trial"),
            (replace(TRIAL, services=(replace(service, begins_s=2.0),)), "within the trial"),
            (
                replace(TRIAL, services=(replace(service, begins_s=-0.5),)),
                "begins_s: Input should be greater than or equal to 0",
            ),
            (replace(TRIAL, duration_s=3600.0), "tests of 60 s"),
            (replace(TRIAL, duration_s=-1.0), "duration_s: Input should be greater than 0"),
            (replace(TRIAL, interval_s=0.001), "interval_s: Input should be greater than or equal to 0.05"),
        ):
            answer = self.asked(wrong)
            self.assertIn(answer.status_code, (409, 422), wrong)
            self.assertIn(said, answer.json()["message"])

    def test_counters_of_its_interface(self) -> None:
        answer = self.client.get(f"/v1/sessions/{self.session}/counters")
        self.assertEqual(answer.status_code, 200)
        refused = self.client.get("/v1/sessions/nobody/counters")
        self.assertEqual(refused.status_code, 409)

    def test_the_reflectors_port_is_told(self) -> None:
        facts = StationFacts.model_validate(self.client.get("/v1/station").json())
        self.assertIsNone(facts.delay_port)
        settings = replace(self.station.settings, reflector=ReflectorSettings(5000))
        self.assertEqual(Station(settings, SYSTEM, lambda _: None).facts().delay_port, 5000)


class ClocksBeforeAndAfter(unittest.TestCase):
    def test_the_middle_with_half_of_the_drift(self) -> None:
        found = closer(ClockOffset(1.0, 0.001), ClockOffset(1.010, 0.002))
        assert found
        self.assertAlmostEqual(found.offset_s, 1.005)
        self.assertAlmostEqual(found.error_s, 0.007)

    def test_one_alone_is_better_than_none(self) -> None:
        one = ClockOffset(1.0, 0.001)
        self.assertEqual((closer(one, None), closer(None, one), closer(None, None)), (one, one, None))
