"""Which calibration a frame test is held against."""

import tempfile
import unittest
from contextlib import closing
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from unittest import mock

from harvok.core.conditions import InterfaceFacts
from harvok.core.ends import RECEIVE, SEND
from harvok.core.figures import Figure
from harvok.core.link import Link
from harvok.core.models.rig import RIG_FILE, PortsRig, SimulatedRig, VirtualRig
from harvok.core.models.run import PortsRigRecord, RigRecord, RunRecord, SimulatedRigRecord, VirtualRigRecord
from harvok.core.procedures.app import AppTest
from harvok.core.procedures.app_calibration import AppCalibrationTest
from harvok.core.procedures.calibrate import CalibrationTest
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.trials.app import Action, Application, AppMix, AppTrial, Level
from harvok.errors import UsageError
from harvok.logbook.store import Logbook
from harvok.runner.benches.frames import back_to_back_rig
from harvok.runner.calibration import floors_of, latest_calibration, limits_of, with_app_calibration
from harvok.runner.pace import forecast_s
from tests.logbook.test_logbook import START, host

SETTINGS = FrameSettings(line_bps=1e9)


def virtual(**keys: object) -> VirtualRig:
    made = RIG_FILE.validate_python({"version": 1, "kind": "virtual", "name": "a", "rated": "1G", **keys})
    assert isinstance(made, VirtualRig)
    return made


def ports(one: str, other: str) -> PortsRig:
    whole = {"version": 1, "kind": "ports", "name": "a", "rated": "1G"}
    made = RIG_FILE.validate_python(whole | {"port1": {"interface": one}, "port2": {"interface": other}})
    assert isinstance(made, PortsRig)
    return made


MIX = AppMix("web", (Application("web", 1.0, (Action("fetch", (1000,)),)),))


def app_trial(mix: AppMix = MIX) -> AppTrial:
    return AppTrial(mix, (SEND,), (Level(10, 1, 8),))


class OfApplications(unittest.TestCase):
    def found(self, *kept: Figure, mix: AppMix = MIX, far: str = "hall") -> tuple[float | None, str | None]:
        """What a test is held against after a calibration with these figures."""
        with tempfile.TemporaryDirectory() as folder, closing(Logbook(str(Path(folder) / "book.sqlite"))) as logbook:
            rig = RigRecord(station="hall", address="198.18.0.2", port=26470)
            logbook.add(
                RunRecord(
                    id="run-1", state="complete", started=START, harvok="0", command=[], link=Link(1e9), rig=rig,
                    test=AppCalibrationTest(app_trial()), near=host("dome"), far=host("hall"), figures=list(kept),
                )
            )  # fmt: skip
            made = with_app_calibration(AppTest(app_trial(mix)), host("dome"), host(far), logbook)
        return made.test.tester_per_s, made.run

    def test_a_limit_of_the_same_hosts_with_the_same_mix_is_used(self) -> None:
        limit = Figure("tester-limit-transactions", 3000.0, {"level": "64 users"}, "tester-limit")
        other = AppMix("web", (Application("web", 1.0, (Action("fetch", (2000,)),)),))
        self.assertEqual(self.found(limit), (3000.0, "run-1"))
        self.assertEqual(self.found(limit, mix=other), (None, None))
        self.assertEqual(self.found(limit, far="attic"), (None, None))

    def test_what_all_users_asked_for_is_no_limit(self) -> None:
        self.assertEqual(self.found(Figure("tester-limit-transactions", 91.0, {"level": "32 users"})), (None, None))


class Calibrations(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        logbook = closing(Logbook(str(Path(folder.name) / "book.sqlite")))
        self.logbook = self.enterContext(logbook)
        self.enterContext(mock.patch("socket.gethostname", return_value="dome"))

    def keep(self, number: int, limit_fps: float = 9e5, **changes: object) -> RunRecord:
        labels = {"direction": "send", "frame-size": "64"}
        made = RunRecord(
            id=f"run-{number}", state="complete", started=START + timedelta(minutes=number), harvok="0", command=[],
            test=CalibrationTest((FrameSize("64", (64,)),), SETTINGS), rig=VirtualRigRecord(file=virtual()),
            link=Link(1e9), near=host("dome"),
            figures=[Figure("tester-limit", limit_fps, labels), Figure("delay-floor-median", 5e-6, labels)],
        )  # fmt: skip
        made = made.model_copy(update=changes)
        self.logbook.add(made)
        return made

    def found(self, rig: VirtualRig | PortsRig | None = None, settings: FrameSettings = SETTINGS) -> str | None:
        record = latest_calibration(self.logbook, rig or virtual(), settings)
        return record.id if record else None

    def test_the_newest_that_fits(self) -> None:
        self.assertIsNone(self.found())
        self.keep(1, 8e5)
        newest = self.keep(2)
        self.keep(3, state="invalid")
        self.keep(4, near=host("hall"))
        self.assertEqual(self.found(), newest.id)
        self.assertEqual((limits_of(newest), floors_of(newest)), ({"64": 9e5}, {"64": 5e-6}))

    def test_a_forecast_counts_this_hosts_own_record(self) -> None:
        now = self.keep(60, state="running")
        expected_s = now.test.expected_s
        assert expected_s
        self.assertEqual(forecast_s(self.logbook, now), expected_s)
        for number, times in enumerate((9, 1, 2, 3, 3, 3)):  # the first is too long ago to count
            began = START + timedelta(minutes=number)
            self.keep(number, ended=began + timedelta(seconds=times * expected_s))
        self.keep(10, ended=now.started, near=host("hall"))
        self.keep(11, ended=now.started, rig=VirtualRigRecord(file=virtual(name="b")))
        self.assertAlmostEqual(forecast_s(self.logbook, now) or 0.0, 3 * expected_s)
        model = RIG_FILE.validate_python({"version": 1, "kind": "simulated", "name": "a", "rated": "1G"})
        assert isinstance(model, SimulatedRig)
        simulated = now.model_copy(update={"rig": SimulatedRigRecord(file=model)})
        self.assertEqual(forecast_s(self.logbook, simulated), expected_s)

    def test_directions_and_ip_version_have_to_be_alike(self) -> None:
        self.keep(1)
        self.assertIsNone(self.found(settings=replace(SETTINGS, streams=(SEND, RECEIVE))))
        self.assertIsNone(self.found(settings=replace(SETTINGS, ip_version=6)))

    def test_the_ports_have_to_be_the_same_in_any_order(self) -> None:
        facts = InterfaceFacts(name="eth1", kind="physical")
        self.keep(1, rig=PortsRigRecord(file=ports("eth1", "eth2"), ports=[facts, facts]))
        self.assertEqual(self.found(ports("eth2", "eth1")), "run-1")
        self.assertIsNone(self.found(ports("eth1", "eth3")))
        self.assertIsNone(self.found(virtual()))

    def test_a_virtual_rig_needs_the_same_mtu_and_no_less_speed(self) -> None:
        self.keep(1)
        self.assertEqual(self.found(virtual(device="router", rated="100M")), "run-1")
        self.assertIsNone(self.found(virtual(mtu=9000)))
        self.assertIsNone(self.found(virtual(rated="10G")))
        self.assertIsNone(self.found(ports("eth1", "eth2")))

    def test_what_is_calibrated_is_a_lead(self) -> None:
        made = back_to_back_rig(virtual(shape="100M"))
        assert isinstance(made, VirtualRig)
        self.assertEqual((made.device, made.shape), ("wire", None))
        self.assertEqual(getattr(back_to_back_rig(ports("a", "b")), "device", ""), "wire")
        simulated = RIG_FILE.validate_python({"version": 1, "kind": "simulated", "name": "a", "rated": "1G"})
        with self.assertRaises(UsageError):
            back_to_back_rig(simulated)
