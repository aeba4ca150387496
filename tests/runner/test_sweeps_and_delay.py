import tempfile
import unittest
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

from harvok.core.conditions import InterfaceFacts
from harvok.core.ends import SEND
from harvok.core.impairment import Impairment, Stage
from harvok.core.kinds.frames import FramesStep
from harvok.core.models.impairment import ImpairmentFile, ImpairmentRecord
from harvok.core.models.preflight import Check
from harvok.core.models.rig import VirtualRig
from harvok.core.models.run import PortRecord, TrialRecord
from harvok.core.observer import Observer
from harvok.core.procedures.delay import DelayTest, delays_s, figures_of
from harvok.core.procedures.emulator import EmulatorTest
from harvok.core.procedures.frames import FrameSettings, FrameSize
from harvok.core.procedures.link import LinkTest
from harvok.core.procedures.tcp import TcpTest
from harvok.core.procedures.udp import UdpLoadTest
from harvok.core.samples import in_columns, replayed
from harvok.core.sweeps.axes import TCP_AXES, parse_axis
from harvok.core.sweeps.reading import SweepReading
from harvok.core.trials.delay import DelayTrial, DelayTrialResult, Echo
from harvok.core.trials.link import LinkOutcome, LinkTrial, link_event
from harvok.core.trials.tcp import TcpTrial
from harvok.core.trials.udp import UdpInterval, UdpTrial
from harvok.core.udp.services import ServiceSpec
from harvok.errors import NothingFoundError, PlanError, ServicesFileError, UsageError
from harvok.logbook.recovery import Entry, put_together
from harvok.logbook.store import Logbook
from harvok.reports.sweep import draw_sweep
from harvok.rigs.impairment_files import read_impairment
from harvok.rigs.stations import StationsSettings
from harvok.runner import impair, sweeps
from harvok.runner.benches.reflector import reflector_port
from harvok.runner.plan_files import PlanFile, expected_s, read_plan, rig_of
from harvok.runner.preflight import PreflightRequest, preflight
from harvok.runner.request import Label, ReflectorPlace, TestRequest
from harvok.runner.samples import sample_of
from harvok.runner.services import read_services
from harvok.runner.stored_sweeps import is_sweep, stored_sweep
from harvok.runner.sweeps import SweepRequest, run_sweep
from harvok.station.contact import Access
from tests.logbook.test_logbook import START, record


class InAFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.place = str(self.folder / "book.sqlite")


class Heard(Observer):
    """Remembers what it was told."""

    def __init__(self) -> None:
        self.notices: list[str] = []

    def notice(self, text: str) -> None:
        self.notices.append(text)


class Sweeps(InAFolder):
    """The runs are made up; which are taken, under which names and in which order, is what is tested."""

    def setUp(self) -> None:
        super().setUp()
        self.heard = Heard()
        self.taken_before = 0

    def swept(
        self, *axes: str, repeats: int = 2, order: str = "interleaved", resume: bool = False, maximum: int = 1000
    ) -> tuple[list[TestRequest], list[SweepReading]]:
        """The runs that were asked for, and what they say. After `most` of them the station is gone."""
        base = TestRequest(
            place=StationsSettings("hall", Access("spectro-lead")),
            test=TcpTest("send", TcpTrial((), duration_s=3.0)),
            logbook=self.place,
            command=["harvok", "sweep"],
            label=Label("hill", {"lead": "07"}),
        )
        varied = tuple(parse_axis(text, TCP_AXES) for text in axes)
        request = SweepRequest(base, varied, (), repeats, order, resume=resume)  # type: ignore[arg-type]
        taken: list[TestRequest] = []

        def take(asked: TestRequest, *_: Any) -> None:
            assert isinstance(asked.test, TcpTest)
            if len(taken) == maximum:
                raise NothingFoundError("the station is gone", "")
            buffer = asked.test.trial.options.socket_buffer_bytes
            megabits = 900 if buffer is None else min(buffer / 1000, 900)
            self.taken_before += 1
            made = record(self.taken_before, asked.label.series, megabits + len(taken) * 0.01)
            taken.append(asked)
            with closing(Logbook(self.place)) as logbook:
                logbook.add(made.model_copy(update={"attributes": asked.label.attributes}))

        said: list[str] = []
        with mock.patch.object(sweeps, "run_test", take):
            note = lambda number, of, what: said.append(f"{number}/{of} {what}")  # noqa: E731
            readings = run_sweep(request, self.heard, lambda _: None, note)
        self.assertEqual(len(said), len(taken))
        return taken, readings

    def test_baselines_around_rounds_of_every_point(self) -> None:
        taken, readings = self.swept("socket-buffer=100k,400k,1M,4M")
        names = [asked.label.series for asked in taken]
        self.assertEqual(names[:3], ["hill.baseline-before"] * 2 + ["hill.socket-buffer-100k"])
        self.assertEqual(names[2:6], names[6:10])
        self.assertEqual(names[-1], "hill.baseline-after")
        self.assertEqual(taken[3].label.attributes, {"lead": "07", "socket-buffer": "400k"})
        (reading,) = readings
        assert reading.knee
        (best,) = reading.best
        self.assertEqual((reading.knee.point.settings[0].text, best.settings[0].text), ("1M", "1M"))
        self.assertTrue(all("window / RTT" in point.bounds for point in reading.points))

    def test_two_settings_at_once(self) -> None:
        taken, (reading,) = self.swept("flows=1,4", "congestion-control=cubic,reno", repeats=1, order="random")
        tests = [asked.test for asked in taken[1:-1] if isinstance(asked.test, TcpTest)]
        found = {(test.trial.flows, test.trial.options.congestion_control) for test in tests}
        self.assertEqual(found, {(1, "cubic"), (1, "reno"), (4, "cubic"), (4, "reno")})
        self.assertEqual(len(reading.points), 4)
        self.assertIsNone(reading.knee)

    def test_every_setting_reaches_the_test(self) -> None:
        for axis, read in (
            ("mss=536,1460", lambda trial: trial.options.mss_bytes),
            ("dscp=0,46", lambda trial: trial.options.dscp),
            ("pacing=100M,1G", lambda trial: trial.options.pacing_bps),
        ):
            taken, _ = self.swept(axis, repeats=1)
            tests = [asked.test for asked in taken[1:-1] if isinstance(asked.test, TcpTest)]
            values = [read(test.trial) for test in tests]
            self.assertEqual(len({*values} - {None}), 2, axis)
            Path(self.place).unlink()

    def test_a_name_is_taken_once(self) -> None:
        self.swept("flows=1,4", repeats=1)
        with self.assertRaises(UsageError) as raised:
            self.swept("flows=1,4", repeats=1)
        self.assertIn("hill.baseline-before already", raised.exception.message)

    def test_one_that_broke_off_goes_on_where_it_stopped(self) -> None:
        with self.assertRaises(NothingFoundError):
            self.swept("flows=1,2,4", maximum=5)
        taken, (reading,) = self.swept("flows=1,2,4", resume=True)
        rest = [asked.label.series for asked in taken]
        self.assertEqual(rest, [f"hill.flows-{n}" for n in (1, 2, 4)] + ["hill.baseline-after"] * 2)
        self.assertEqual([len(point.summary.values) for point in reading.points], [2, 2, 2])
        self.assertEqual(self.swept("flows=1,2,4", resume=True)[0], [])

    def test_one_is_read_again_by_its_name_alone(self) -> None:
        _, (first,) = self.swept("flows=1,4", "socket-buffer=4M,100k", order="random")
        with closing(Logbook(self.place)) as logbook:
            self.assertTrue(is_sweep(logbook, "hill"))
            self.assertFalse(is_sweep(logbook, "hill.flows-1_socket-buffer-4M"))
            kept = stored_sweep(logbook, "hill")
        self.assertEqual(kept.readings(), [first])
        settings = [tuple(setting.text for setting in point.settings) for point in first.points]
        self.assertEqual(settings, [("1", "100k"), ("1", "4M"), ("4", "100k"), ("4", "4M")])
        self.assertEqual((kept.roles, len(kept.every_record())), ({"flows": "setting", "socket-buffer": "setting"}, 12))
        bounds = {(s.settings[0].text, s.settings[1].text): s.bounds["window / RTT"] for s in first.points}
        self.assertAlmostEqual(bounds["4", "100k"], 4 * bounds["1", "100k"])

    def test_what_somebody_noted_under_the_name_of_an_axis_is_no_setting(self) -> None:
        self.swept("flows=1,4", repeats=1)
        with closing(Logbook(self.place)) as logbook:
            for line in logbook.lines():
                noted = logbook.record(line.id)
                logbook.remove([line.id])
                logbook.add(noted.model_copy(update={"attributes": noted.attributes | {"mss": "large"}}))
            (reading,) = stored_sweep(logbook, "hill").readings()
        self.assertEqual([point.settings[0].text for point in reading.points], ["1", "4"])

    def test_nothing_to_vary_is_said_before_anything_is_sent(self) -> None:
        with mock.patch.object(impair, "at_work", return_value=None), self.assertRaises(NothingFoundError) as raised:
            self.swept("delay=0,5ms")
        self.assertIn("no impairment runs on this host", raised.exception.message)

    def test_the_impairment_of_this_host_is_changed_and_put_back(self) -> None:
        before = read_impairment("metro")
        reported: list[ImpairmentFile] = []
        found = ImpairmentRecord(carried_out_by="bridge", impairment=before, ports=["eth1", "eth2"])
        overrun = iter([0, 0, 7, 7, 7, 7])

        def control(_: str, file: ImpairmentFile | None = None) -> dict[str, Any]:
            if file is None:
                return {"report": {"directions": [{"overrun": next(overrun)}, {"overrun": 0}]}}
            reported.append(file)
            return {}

        with (
            mock.patch.object(impair, "at_work", return_value=found),
            mock.patch.object(impair, "ask", control),
            mock.patch.object(sweeps, "ask", control),
        ):
            self.swept("delay=2ms,5ms", "send.loss=0,1%", repeats=1)
        stages = [file.plan().stages[0] for file in reported]
        seen = [(stage.send.delay_s, stage.send.loss, stage.receive.loss) for stage in stages]
        usual = before.plan().stages[0]
        clean = (usual.send.delay_s, usual.send.loss, usual.receive.loss)
        varied = [(d, loss, usual.receive.loss) for d in (0.002, 0.005) for loss in (0.0, 0.01)]
        self.assertEqual(seen, [clean, *varied, clean, clean])
        self.assertEqual(len(self.heard.notices), 1)
        self.assertIn("in run 3 the bridge itself dropped 7 frames", self.heard.notices[0])

    def test_both_kinds_of_picture(self) -> None:
        _, line = self.swept("socket-buffer=100k,400k,1M")
        Path(self.place).unlink()
        _, map_ = self.swept("flows=1,4", "socket-buffer=100k,1M", repeats=1)
        for readings, name in ((line, "line.png"), (map_, "map.svg")):
            draw_sweep(readings, "hill", self.folder / name)
            self.assertGreater((self.folder / name).stat().st_size, 5000)


class Delays(unittest.TestCase):
    def test_quantiles_between_answers(self) -> None:
        echoes = [Echo(n, n * 0.1, (n + 1) / 1000) for n in range(5)] + [Echo(5, 0.5)]
        result = DelayTrialResult("stamp", echoes=echoes)
        got = {figure.quantity: figure.value for figure in figures_of(result, {})}
        self.assertEqual(delays_s(result), [0.001, 0.002, 0.003, 0.004, 0.005])
        self.assertAlmostEqual(got["two-way-delay-p99"], 0.00496)
        self.assertAlmostEqual(got["two-way-variation-p99"], 0.00396)
        self.assertAlmostEqual(got["two-way-loss"], 1 / 6)

    def test_no_answer_at_all(self) -> None:
        figures = list(figures_of(DelayTrialResult("echo", echoes=[Echo(0, 0.0), Echo(1, 0.1)]), {}))
        self.assertEqual([(figure.quantity, figure.value) for figure in figures], [("two-way-loss", 1.0)])
        self.assertEqual(list(figures_of(DelayTrialResult("echo"), {})), [])


class WhereTheReflectorIs(unittest.TestCase):
    def port(self, target: str, port: int | None = None, loads: tuple[Any, ...] = ()) -> int | None:
        test = DelayTest(DelayTrial(5, 0.1), loads)
        return reflector_port(ReflectorPlace(StationsSettings(target, Access("")), port), test)

    def test_named_in_one_of_two_ways(self) -> None:
        self.assertIsNone(self.port("hall"))
        self.assertIsNone(self.port("2001:2::2"))
        self.assertEqual((self.port("hall:862"), self.port("[2001:2::2]:862"), self.port("hall", 862)), (862,) * 3)
        self.assertEqual(self.port("hall:862", 862), 862)
        with self.assertRaises(UsageError):
            self.port("hall:862", 863)

    def test_under_load_the_targets_port_is_that_of_control(self) -> None:
        self.assertIsNone(self.port("hall:27000", None, ("tcp-send",)))


class Conditions(unittest.TestCase):
    """What must be alike before two series of the new kinds are compared."""

    def conditions(self, **changed: Any) -> dict[str, str]:
        return sample_of(record().model_copy(update=changed)).conditions

    def test_udp(self) -> None:
        spec = ServiceSpec(1e8, 1518, name="voice", flows=2, dscp=46)
        found = self.conditions(test=UdpLoadTest("both", UdpTrial((), (), 5.0, group="239.1.2.3"), (spec,)))
        self.assertEqual((found["test.voice.rate"], found["test.voice.dscp"]), ("100.0 Mb/s", "46"))
        self.assertEqual((found["test.kind"], found["test.group"]), ("udp-load", "239.1.2.3"))

    def test_delay_link_and_emulator(self) -> None:
        found = self.conditions(test=DelayTest(DelayTrial(10, 0.1), ("tcp-send",), 9e8))
        self.assertEqual((found["test.loads"], found["test.packets"]), ("tcp-send", "10, one every 100.0 ms"))
        port = PortRecord(port=InterfaceFacts(name="eth1", kind="physical"))
        self.assertEqual(self.conditions(test=LinkTest(LinkTrial("eth1")), rig=port)["test.port"], "eth1")
        sizes = (FrameSize("64", (64,)),)
        test = EmulatorTest(Stage(0.0, Impairment(0.005)), sizes, FrameSettings(1e9))
        self.assertEqual(self.conditions(test=test)["test.frame-sizes"], "64")


class BrokenOff(unittest.TestCase):
    def test_what_a_journal_had_of_the_new_kinds(self) -> None:
        trial, link = UdpTrial((), (SEND,), 5.0), LinkTrial("eth1")
        interval = UdpInterval("send", "receiver", 0, 0, 0.0, 1.0, 100, 10_000, 3)
        seconds = [in_columns(replace(interval, end_s=end_s).samples("far", 0.0, "")) for end_s in (1.0, 2.0)]
        up = link_event(0.0, "up", "eth1", 1e9)
        entries = [
            (1, Entry(trial=trial)),
            *((1, Entry(samples=second)) for second in seconds),
            (2, Entry(trial=link)),
            (2, Entry(origin=START, events=[up])),
            (2, Entry(result=LinkOutcome(1))),
            (3, Entry(samples=seconds[0])),
        ]
        kept = put_together(record(), [(number, entry.encode()) for number, entry in entries])
        whole = in_columns([*replayed(seconds[0]), *replayed(seconds[1])])
        self.assertEqual(kept.trials[0], TrialRecord(trial=trial, samples=whole))
        self.assertEqual(kept.trials[1], TrialRecord(trial=link, origin=START, result=LinkOutcome(1), events=[up]))
        self.assertEqual(len(kept.trials), 2)


class ServiceFiles(InAFolder):
    def read(self, text: str) -> Any:
        file = self.folder / "services.toml"
        file.write_text('format = "harvok-services"\nversion = 1\n' + text)
        return read_services(file)

    def test_faults_with_their_line(self) -> None:
        one = '[[services]]\nname = "a"\ncommitted = "1M"\n'
        for text, said in (
            (one + "frame_size = 63\n", "line 6"),
            (one + 'max_loss = "2"\n', "line 6"),
            (one + one, "two services named 'a'"),
            (one.replace("1M", "1MB/s"), "bits"),
            (one + "flows = 60\n" + one.replace('"a"', '"b"') + "flows = 5\n", "at most 64 flows"),
            ("", "services"),
            ("[[services", "not TOML"),
        ):
            with self.assertRaises(ServicesFileError) as raised:
                self.read(text)
            self.assertIn(said, raised.exception.message)

    def test_a_file_that_is_not_there(self) -> None:
        with self.assertRaises(ServicesFileError):
            read_services(self.folder / "nothing.toml")


class StepsWithAnImpairment(InAFolder):
    RIG = 'version = 1\nkind = "virtual"\nname = "path"\nrated = "1G"\nshape = "200M"\n'
    PLAN = (
        'version = 1\nname = "hill"\nrig = "rig.toml"\n[[steps]]\nname = "clean"\ntest = "rfc2544"\n'
        '[[steps]]\nname = "far"\ntest = "rfc2544"\nimpairment = "IMPAIRMENT"\n'
    )

    def plan(self, impairment: str, rig: str = RIG) -> PlanFile:
        (self.folder / "rig.toml").write_text(rig)
        file = self.folder / "plan.toml"
        file.write_text(self.PLAN.replace("IMPAIRMENT", impairment))
        return read_plan(file)

    def test_it_stands_between_the_ports_for_that_step(self) -> None:
        file = self.plan("metro")
        clean, far = file.plan.steps
        assert isinstance(clean, FramesStep) and isinstance(far, FramesStep)
        one, other = rig_of(file, clean), rig_of(file, far)
        assert isinstance(one, VirtualRig) and isinstance(other, VirtualRig)
        self.assertEqual((one.device, one.shape), ("switch", 200e6))
        self.assertEqual((other.device, other.impairment, other.shape), ("impairment", "metro", None))
        self.assertGreater(expected_s(file), 0)

    def test_what_cannot_be_is_said_before_anything_is_sent(self) -> None:
        simulated = 'version = 1\nkind = "simulated"\nname = "x"\nrated = "1G"\n'
        for impairment, rig, said in (
            ("nowhere", self.RIG, "step far: there is no impairment and no file 'nowhere'"),
            ("metro", simulated, "not a virtual rig"),
        ):
            with self.assertRaises(PlanError) as raised:
                expected_s(self.plan(impairment, rig))
            self.assertIn(said, raised.exception.message)


class PreflightsThatEndEarly(InAFolder):
    def read(self, station: str) -> list[Check]:
        return list(preflight(PreflightRequest(StationsSettings(station, Access("spectro-lead")), self.place)))

    def test_names_and_ports(self) -> None:
        self.assertEqual([(c.topic, c.outcome) for c in self.read("no-such-host.invalid")], [("name", "stop")])
        found = self.read("127.0.0.1:9")
        self.assertEqual([(c.topic, c.outcome) for c in found], [("name", "ok"), ("control port", "stop")])
        self.assertIn("no station listens", found[1].found)


class NothingThere(InAFolder):
    def test_a_sweep_of_which_nothing_was_taken(self) -> None:
        with closing(Logbook(self.place)) as logbook:
            self.assertFalse(is_sweep(logbook, "none"))
            with self.assertRaisesRegex(NothingFoundError, "no sweep called 'none'"):
                stored_sweep(logbook, "none")
