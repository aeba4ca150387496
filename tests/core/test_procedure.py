import unittest
from collections.abc import Generator, Sequence

from harvok.core.drive import drive
from harvok.core.ends import RECEIVE, SEND, CpuUse, DirectionChoice, Stream
from harvok.core.figures import Figure
from harvok.core.frame_streams import frame_streams
from harvok.core.link import Link, PortSpeed
from harvok.core.observer import Observer, Observers, RunOutline
from harvok.core.procedure import Context, Findings
from harvok.core.procedures.tcp import TcpTest, tcp_test
from harvok.core.samples import Sample
from harvok.core.stream_frames import arriving_share, leaving_share, senders_of
from harvok.core.tcp.notices import link_notices, result_notices
from harvok.core.tcp.rows import IntervalRow, RowJoiner
from harvok.core.trials.any import Trial, TrialOutcome, TrialResult
from harvok.core.trials.tcp import TcpTrial, TcpTrialResult
from harvok.errors import StationLostError, UsageError
from harvok.testing.measuring import findings_of
from harvok.testing.transfers import ScriptedRig, samples_of, transfer

GIGABIT = Link(rated_bps=1e9)


def answer(trial: TcpTrial) -> TcpTrialResult:
    return TcpTrialResult([transfer(900e6, direction=stream.name, flows=trial.flows) for stream in trial.streams])


class Watcher(Observer):
    def __init__(self) -> None:
        self.heard: list[str] = []
        self.batches: list[Sequence[Sample]] = []

    def trial_started(self, number: int, trial: Trial) -> None:
        assert isinstance(trial, TcpTrial)
        self.heard.append(f"start {number} {'+'.join(stream.name for stream in trial.streams)}")

    def samples(self, samples: Sequence[Sample]) -> None:
        self.batches.append(samples)

    def trial_finished(self, number: int, result: TrialResult | TrialOutcome) -> None:
        self.heard.append(f"finish {number}")


class Driving(unittest.TestCase):
    def test_each_is_one_trial_after_the_other_and_both_is_one(self) -> None:
        wanted: dict[DirectionChoice, list[tuple[Stream, ...]]] = {
            "send": [(SEND,)],
            "receive": [(RECEIVE,)],
            "each": [(SEND,), (RECEIVE,)],
            "both": [(SEND, RECEIVE)],
        }
        for direction, trials in wanted.items():
            rig = ScriptedRig(answer)
            test = TcpTest(direction, TcpTrial((), flows=2, duration_s=10.0))
            findings = findings_of(test, rig, GIGABIT)
            self.assertEqual([trial.streams for trial in rig.trials], trials)
            self.assertEqual([r.direction for r in findings.readings], [d.name for trial in trials for d in trial])
            self.assertEqual(test.expected_s, 10.0 * len(trials))

    def test_watchers_hear_everything_in_order(self) -> None:
        first, second = Watcher(), Watcher()
        test = TcpTest("each", TcpTrial((), duration_s=10.0))
        findings_of(test, ScriptedRig(answer), GIGABIT, Observers([first, second]))
        self.assertEqual(first.heard, ["start 1 send", "finish 1", "start 2 receive", "finish 2"])
        self.assertEqual(first.heard, second.heard)
        self.assertEqual(len(first.batches), 40)

    def test_figures_are_told_as_soon_as_they_are_final(self) -> None:
        told: list[str] = []

        class Hearing(Observer):
            def trial_started(self, number: int, trial: Trial) -> None:
                told.append(f"trial {number}")

            def found(self, figures: Sequence[Figure]) -> None:
                told.append(f"{len(figures)} of {figures[0].labels['direction']}")

        test, findings = TcpTest("each", TcpTrial((), duration_s=10.0)), Findings()
        drive(tcp_test(test, Context(GIGABIT), findings), ScriptedRig(answer), Hearing(), findings)
        one_way = len(findings.figures) // 2
        self.assertEqual(told, ["trial 1", f"{one_way} of send", "trial 2"])

    def test_a_rigs_fault_runs_the_procedures_finally_and_goes_on(self) -> None:
        ended = []

        def procedure() -> Generator[TcpTrial, TcpTrialResult, None]:
            try:
                yield TcpTrial((SEND,), duration_s=1.0)
            finally:
                ended.append(True)

        def fail(_: TcpTrial) -> TcpTrialResult:
            raise StationLostError("gone", "look")

        with self.assertRaises(StationLostError):
            drive(procedure(), ScriptedRig(fail), Observer())
        self.assertEqual(ended, [True])

    def test_observers_may_stay_silent(self) -> None:
        quiet = Observers([Observer()])
        quiet.run_started(RunOutline("id", 1, 1, "dome", "hall", GIGABIT, 4))
        quiet.notice("nothing happens")
        self.assertIsNone(quiet.trial_started(1, TcpTrial((SEND,))))  # type: ignore[func-returns-value]


class Rows(unittest.TestCase):
    def rows(self, direction: str) -> list[IntervalRow]:
        hot, cold = CpuUse([0.9, 0.2], [0.8]), CpuUse([0.3], [0.1])
        result = transfer(470.741e6, 3, direction=direction, near_cpu=hot, far_cpu=cold)
        joiner = RowJoiner(GIGABIT, 4)
        reported = [*samples_of([result])]
        return [row for samples in (*reversed(reported[:3]), *reported[3:]) for row in joiner.add(samples)]

    def test_halves_join_in_any_order(self) -> None:
        for direction in ("send", "receive"):
            rows = self.rows(direction)
            self.assertEqual([row.start_s for row in rows], [0, 1, 2])
            self.assertAlmostEqual(rows[1].ceiling_share or 0, 0.5, places=3)
            self.assertEqual((rows[1].core_near, rows[1].core_far), (0.9, 0.3))
            self.assertAlmostEqual(rows[1].cwnd_bytes or 0, 144_800)

    def test_one_half_alone_is_no_row(self) -> None:
        half = next(samples_of([transfer(1e9, 1)]))
        joiner = RowJoiner(Link(), 4)
        self.assertEqual([*joiner.add(half), *joiner.add(half)], [])

    def test_who_sends(self) -> None:
        roles = [stream.role_at(end) for end in ("near", "far") for stream in (SEND, RECEIVE)]
        self.assertEqual(roles, ["sender", "receiver", "receiver", "sender"])
        self.assertEqual([RECEIVE.end_of(role) for role in ("sender", "receiver")], ["far", "near"])

    def test_streams_between_named_ends(self) -> None:
        (stream, other) = frame_streams(["north:south", " east : south", "north:south"], "both").streams
        self.assertEqual((stream.name, stream.role_at("south")), ("north to south", "receiver"))
        self.assertEqual((other.source, other.destination), ("east", "south"))
        self.assertEqual(frame_streams([], "both").streams, (SEND, RECEIVE))
        ports = ["a", "b", "c"]
        from_one, to_one = (frame_streams([text], "send", ports).streams for text in ("a:all", "all:a"))
        self.assertEqual([one.name for one in (*from_one, *to_one)], ["a to b", "a to c", "b to a", "c to a"])
        mesh = frame_streams(["all:all", "a:c"], "send", ports).streams
        self.assertEqual((len(mesh), len(set(mesh))), (6, 6))
        with self.assertRaisesRegex(UsageError, "which ports are meant"):
            frame_streams(["a:all"], "send")
        for wrong in ("north", "north:", ":south", "north:north"):
            with self.assertRaises(UsageError):
                frame_streams([wrong], "send")
        with self.assertRaisesRegex(UsageError, "65 streams at once are too many"):
            frame_streams([f"north:port{number}" for number in range(65)], "send")

    def test_what_a_stream_has_of_its_own(self) -> None:
        named = frame_streams(["a:b,load=50%,size=1518, vlan=100.20,dscp=46", "b:a", "a:c,to=broadcast"], "send")
        self.assertEqual([one.name for one in named.streams], ["a to b", "b to a", "a to c"])
        self.assertEqual(set(named.frames_of), {"a to b", "a to c"}, "the others are plain")
        own = named.frames_of["a to b"]
        self.assertEqual((own.load_share, own.frame_sizes, own.vlans, own.dscp), (0.5, (1518,), (100, 20), 46))
        self.assertEqual(str(own), "50.0 % of the load, 1518 B, VLAN 20 in 100, DSCP 46")
        self.assertEqual(own.mean_bytes((64,)), 1526)
        self.assertAlmostEqual(own.load_fps(1000.0, (64,)), 1000 * 0.5 * 84 / 1546, msg="the same share of line rate")
        self.assertTrue(named.frames_of["a to c"].is_copied)
        self.assertEqual(frame_streams(["a:b,pairs=100"], "send").frames_of["a to b"].addresses, 100)
        for wrong, said in (
            ("a:b,load=0%", "above 0"),
            ("a:b,load=50", "not a percentage"),
            ("a:b,vlan=4095", "not a VLAN, 1 to 4094"),
            ("a:b,vlan=1.2.3", "two tags"),
            ("a:b,dscp=64", "not a DSCP, 0 to 63"),
            ("a:b,pairs=0", "not a number of address pairs, 1 to 16384"),
            ("a:b,to=c", "not broadcast or multicast"),
            ("a:b,size=63", "neither a frame size"),
            ("a:b,colour=red", "a stream has no 'colour=red'"),
        ):
            with self.assertRaisesRegex(UsageError, said):
                frame_streams([wrong], "send")

    def test_streams_that_are_the_same_frames_load_their_port_once(self) -> None:
        named = frame_streams(["a:b,to=broadcast", "a:c,to=broadcast", "a:d", "b:d,load=50%"], "send")
        groups = senders_of(named.streams, named.frames_of)
        self.assertEqual([[s.name for s in one] for one in groups], [["a to b", "a to c"], ["a to d"], ["b to d"]])
        self.assertEqual(leaving_share(named.streams, named.frames_of), 2.0)
        self.assertEqual(arriving_share(named.streams, named.frames_of), 1.5)


class Notices(unittest.TestCase):
    def test_a_port_below_the_rated_speed_is_named_with_its_end(self) -> None:
        link = Link(1e9, PortSpeed("near0", 1e9), PortSpeed("far0", 100e6))
        self.assertEqual(list(link_notices(link)), ["far0 at the far end negotiated 100 Mb/s, below the rated 1 Gb/s"])
        self.assertEqual(list(link_notices(Link(None, PortSpeed("veth0", None)))), [])

    def test_unsettled_and_stolen_are_said(self) -> None:
        result = transfer(lambda t: 50e6 * t, near_cpu=CpuUse([0.5], [0.5], stolen=0.2))
        test = TcpTest("send", TcpTrial((), duration_s=10.0))
        findings = findings_of(test, ScriptedRig(lambda _: TcpTrialResult([result])), GIGABIT)
        said = list(result_notices([result], findings.readings))
        self.assertEqual(len(said), 2)
        self.assertIn("never settled", said[0])
        self.assertIn("20.0 %", said[1])
