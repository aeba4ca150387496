"""Plans as models: the order of runs, the criteria they make, and what does not hold together."""

import unittest
from typing import Any

from pydantic import ValidationError

from harvok.core.ends import RECEIVE, SEND
from harvok.core.kinds.delay import DelayStep
from harvok.core.kinds.frames import FramesStep, RampStep
from harvok.core.kinds.tcp import TcpStep
from harvok.core.kinds.udp import UdpStep
from harvok.core.models.plan import PLAN, Plan, PlanCriterion, parse_limit
from harvok.core.procedures.udp import UdpSearchTest
from harvok.errors import UsageError

TWO_STEPS: dict[str, Any] = {
    "version": 1,
    "name": "leads",
    "station": "hall",
    "repeats": 3,
    "min_repeats": 2,
    "steps": [
        {"name": "before", "test": "tcp", "duration": "2s"},
        {"name": "after", "test": "tcp", "repeats": 2, "socket_buffer": "64k", "dscp": 46},
    ],
}


def plan(**changes: Any) -> Plan:
    return Plan.model_validate(TWO_STEPS | changes)


def order(made: Plan) -> list[tuple[str, int]]:
    return [(step.name, number) for step, number in made.rounds()]


class Rounds(unittest.TestCase):
    def test_one_step_after_the_other(self) -> None:
        self.assertEqual(order(plan()), [("before", 0), ("before", 1), ("before", 2), ("after", 0), ("after", 1)])

    def test_alternating_takes_turns_as_long_as_each_has_repeats(self) -> None:
        wanted = [("before", 0), ("after", 0), ("before", 1), ("after", 1), ("before", 2)]
        self.assertEqual(order(plan(alternate=True)), wanted)
        self.assertTrue(plan(alternate=True).rules.paired)


class Tests(unittest.TestCase):
    def test_a_tcp_step(self) -> None:
        before, after = plan().steps
        assert isinstance(before, TcpStep) and isinstance(after, TcpStep)
        self.assertEqual((before.build().direction, before.build().trial.duration_s), ("each", 2.0))
        options = after.build().trial.options
        self.assertEqual((options.socket_buffer_bytes, options.dscp, after.build().trial.interval_s), (64_000, 46, 1.0))

    def test_a_udp_step(self) -> None:
        steps = [
            {"name": "load", "test": "udp", "rate": "900M", "frame_size": 512, "direction": "send", "dscp": 46},
            {"name": "most", "test": "udp", "rate": "1G", "search": True, "resolution": "2%"},
        ]
        load, maximum = plan(steps=steps).steps
        assert isinstance(load, UdpStep) and isinstance(maximum, UdpStep)
        spec = load.build().services[0]
        self.assertEqual((spec.rate_bps, spec.frame_bytes, spec.dscp), (900e6, 512, 46))
        self.assertEqual((load.build().kind, load.build().direction), ("udp-load", "send"))
        search = maximum.build()
        assert isinstance(search, UdpSearchTest)
        self.assertEqual(search.resolution, 0.02)
        with self.assertRaises(ValidationError):
            plan(station=None, steps=steps)

    def test_a_frame_step_takes_the_speed_of_its_rig(self) -> None:
        step = {"name": "all", "test": "rfc2544", "frame_sizes": [64, "aag"], "direction": "both", "ip_version": "none"}
        (made,) = plan(rig="a.toml", steps=[step]).steps
        assert isinstance(made, FramesStep)
        test = made.build(10e9)
        self.assertEqual((test.settings.line_bps, test.settings.streams), (10e9, (SEND, RECEIVE)))
        self.assertEqual(([size.name for size in test.sizes], test.settings.ip_version), (["64", "aag"], None))

    def test_a_ramp_step(self) -> None:
        step = {"name": "up", "test": "ramp", "loads": "20%..80%/3", "hold": "2s", "continuous": True, "ip_version": 6}
        (made,) = plan(rig="a.toml", steps=[step]).steps
        assert isinstance(made, RampStep)
        test = made.build(1e9)
        self.assertEqual([round(share, 3) for share in test.shares], [0.2, 0.5, 0.8])
        self.assertEqual((test.settings.full_s, test.settings.pause_s, test.continuous), (2.0, 1.0, True))
        self.assertEqual([size.name for size in test.sizes], ["86", "1518"])
        self.assertFalse(made.needs_token)

    def test_delay_steps(self) -> None:
        steps = [
            {"name": "idle", "test": "delay", "packets": 20, "gap": "10ms"},
            {"name": "tcp", "test": "delay", "load": "each"},
            {"name": "udp", "test": "delay", "load": "send", "load_rate": "100M"},
        ]
        made = [step.build() for step in plan(steps=steps).steps if isinstance(step, DelayStep)]
        self.assertEqual([test.loads for test in made], [(), ("tcp-send", "tcp-receive"), ("udp-send",)])
        self.assertEqual((made[0].trial.packets, made[0].trial.gap_s, made[2].load_bps), (20, 0.01, 100e6))
        self.assertEqual([step.needs_token for step in plan(steps=steps).steps], [False, True, True])

    def test_ipv6_frames_are_large_enough_by_themselves(self) -> None:
        (made,) = plan(rig="a.toml", steps=[{"name": "six", "test": "rfc2544", "ip_version": 6}]).steps
        assert isinstance(made, FramesStep)
        self.assertEqual(made.build(1e9).sizes[0].sizes, (86,))


class Criteria(unittest.TestCase):
    def test_one_for_each_step_but_the_one_it_compares_with(self) -> None:
        every = {"figure": "ceiling-share", "min": "95%"}
        against = {"figure": "goodput-settled", "against": "before", "max_regression": "2%", "changed": ["dscp"]}
        made = plan(criteria=[every, against]).build_criteria()
        self.assertEqual(
            [(c.step, c.minimum, c.against) for c in made[:2]], [("before", 0.95, None), ("after", 0.95, None)]
        )
        self.assertEqual([(c.step, c.max_regression, c.changed) for c in made[2:]], [("after", 0.02, ("dscp",))])

    def test_limits_are_read_in_the_unit_of_their_figure(self) -> None:
        for figure, text, wanted in (
            ("goodput-settled", "940M", 940e6), ("latency-p999", "20us", 20e-6), ("throughput", "81 000", 81_000.0),
            ("frame-loss", "0.1%", 0.001), ("burst-mean", 250, 250.0),
        ):  # fmt: skip
            made = PlanCriterion.model_validate({"figure": figure, "max": text}).build("a")
            self.assertAlmostEqual(made.maximum or 0, wanted)

    def test_the_keys_that_plans_had_before_are_still_read(self) -> None:
        former = {"figure": "goodput-settled", "least": "1M", "largest_regression": "2%", "against": "before"}
        made = plan(criteria=[former], least_repeats=2, largest_spread="5%")
        (criterion,) = made.build_criteria()
        self.assertEqual((criterion.minimum, criterion.max_regression), (1e6, 0.02))
        self.assertEqual((made.rules.min_repeats, made.rules.max_spread), (2, 0.05))

    def test_labels(self) -> None:
        criterion = {"figure": "frame-loss", "max": 0, "direction": "send", "frame_size": 64, "load": "90 %"}
        made = PlanCriterion.model_validate(criterion).build("a")
        self.assertEqual(made.labels, {"direction": "send", "frame-size": "64", "load": "90 %"})


class TypedLimits(unittest.TestCase):
    """Limits of a comparison, typed as in a plan."""

    def test_they_are_criteria_whose_series_are_open(self) -> None:
        made = parse_limit("latency-median max_regression=10% margin=5us frame_size=64")
        self.assertEqual((made.max_regression, made.labels), (0.1, {"frame-size": "64"}))
        self.assertAlmostEqual(made.margin, 5e-6)
        self.assertEqual(parse_limit("goodput-settled min=940M direction=send").minimum, 940e6)

    def test_what_cannot_be_read_is_refused(self) -> None:
        for text, words in (
            ("", "there is no figure ''"),
            ("speed max=1M", "there is no figure 'speed'"),
            ("rtt-mean max", "is no figure followed by KEY=VALUE"),
            ("rtt-mean largest=1ms", "largest: is no key of a limit"),
            ("rtt-mean max=1", "not a time such as"),
            ("rtt-mean", "needs a limit"),
        ):
            with self.assertRaises(UsageError) as caught:
                parse_limit(text)
            self.assertIn(words, caught.exception.message)


SWEPT: dict[str, Any] = {"name": "far", "test": "tcp", "over": ["delay=5ms,35ms", "socket-buffer=64k,4M"]}


class Sweeps(unittest.TestCase):
    def test_a_sweep_is_taken_at_once_and_judged_point_by_point(self) -> None:
        steps = [TWO_STEPS["steps"][0], SWEPT]
        criteria = [
            {"figure": "goodput-settled", "min": "100M"},
            {"figure": "rtt-mean", "max": "80ms", "step": "far", "at": "delay=35ms"},
        ]
        made = plan(steps=steps, criteria=criteria)
        self.assertEqual(order(made), [("before", 0), ("before", 1), ("before", 2), ("far", 0)])
        points = [f"far.delay-{delay}_socket-buffer-{size}" for delay in ("5ms", "35ms") for size in ("64k", "4M")]
        self.assertEqual(made.steps[1].parts(), points)
        judged = [criterion.step for criterion in made.build_criteria()]
        self.assertEqual(judged, ["before", *points, *points[2:]])

    def test_what_a_sweep_cannot_be(self) -> None:
        frames = {"name": "f", "test": "rfc2544", "frame_sizes": [64]}
        against = {"figure": "goodput-settled", "against": "far", "max_regression": "2%"}
        point = {"figure": "goodput-settled", "min": "1M", "at": "delay=9ms"}
        for changes, words in (
            (
                {"steps": [SWEPT | {"over": ["colour=1,2"]}]},
                "'colour=1,2' names nothing that can be varied of tcp",
            ),
            ({"steps": [SWEPT | {"over": ["flows=1,2"] * 2}]}, "one or two different things"),
            ({"steps": [SWEPT], "alternate": True}, "leave out alternate"),
            ({"steps": [SWEPT, TWO_STEPS["steps"][0]], "criteria": [against]}, "a sweep of many"),
            ({"steps": [SWEPT], "criteria": [point]}, "needs the step of a sweep"),
            ({"steps": [SWEPT], "criteria": [point | {"step": "far"}]}, "no point with delay=9ms"),
            ({"rig": "a", "steps": [frames | {"over": ["load=10%,20%"]}]}, "no load of its own"),
            ({"steps": [{"name": "d", "test": "delay", "over": ["dscp=0,46"]}]}, "delay cannot be swept"),
            ({"rig": "a", "steps": [frames | {"over": ["delay=0,5ms"], "tests": ["latency"]}]}, "about the throughput"),
            ({"rig": "a", "steps": [frames | {"over": ["delay=0,5ms"], "frame_sizes": []}]}, "one of frame_sizes"),
        ):
            with self.assertRaises(ValidationError) as caught:
                plan(**changes)
            self.assertIn(words, str(caught.exception))


class WhatDoesNotHold(unittest.TestCase):
    def test_each_fault_is_said(self) -> None:
        limit = {"figure": "throughput", "min": 1}
        for changes, words in (
            ({"station": None}, "needs a station"),
            ({"steps": [TWO_STEPS["steps"][0]] * 2}, "two steps are called before"),
            ({"steps": []}, "at least 1"),
            ({"steps": [{"name": "a b", "test": "tcp"}]}, "pattern"),
            ({"steps": [{"name": "a", "test": "icmp"}]}, "tcp"),
            ({"rig": "a", "steps": [{"name": "a", "test": "rfc2544", "frame_sizes": [10]}]}, "neither a frame size"),
            ({"criteria": [{"figure": "throughput"}]}, "needs a limit"),
            ({"criteria": [limit | {"against": "before"}]}, "worse than what"),
            ({"criteria": [limit | {"step": "never"}]}, "which there is not"),
            ({"criteria": [{"figure": "ceiling", "against": "before", "max_regression": "1%"}]}, "cannot regress"),
            ({"criteria": [{"figure": "latency-p999", "max": "5"}]}, "'5'"),
            ({"confidence": "100%"}, "less than 1"),
            ({"steps": [{"name": "a", "test": "ramp"}]}, "needs a rig"),
            ({"rig": "a", "steps": [{"name": "a", "test": "ramp", "loads": "0.5"}]}, "not a percentage"),
            ({"rig": "a", "steps": [{"name": "a", "test": "ramp", "loads": "1%..99%/99"}]}, "64 loads at most"),
        ):
            with self.assertRaises(ValidationError) as caught:
                plan(**changes)
            self.assertIn(words, str(caught.exception))

    def test_a_text(self) -> None:
        step = {"name": "x", "test": "tcp"}
        made = PLAN.validate_python({"version": 1, "name": "a", "station": "hall", "steps": [step]})
        self.assertEqual((made.repeats_of(made.steps[0]), made.build_criteria(), made.confidence), (5, [], 0.95))
