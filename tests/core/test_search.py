import random
import unittest
from collections.abc import Callable

from hypothesis import given, settings
from hypothesis import strategies as st

from harvok.core.procedures.search import Attempt, Outcome, Range, Search, binary, guided
from harvok.core.trials.frames import LoadStep
from harvok.rigs.device import Device, follow, whole_frames

FULL_S, SHORT_S = 60.0, 1.0
FULL_PAUSE_S, SHORT_PAUSE_S = 7.0, 1.0  # RFC 2544 §23 after full-length trials; short ones only steer
SIZE = 64


def run(search: Search, device: Device) -> tuple[float, float, list[Attempt]]:
    """What a search finds on a device, the tester time it took in seconds, and its attempts."""
    attempts: list[Attempt] = []
    try:
        attempt = next(search)
        while True:
            attempts.append(attempt)
            stretches = list(follow(device, SIZE, [LoadStep(attempt.load, attempt.duration_s)]))
            lost = sum(whole_frames(s.lost) for s in stretches)
            delivered = attempt.load - lost / attempt.duration_s
            attempt = search.send(Outcome(not lost, delivered))
    except StopIteration as end:
        time_s = sum(a.duration_s + (FULL_PAUSE_S if a.duration_s >= FULL_S else SHORT_PAUSE_S) for a in attempts)
        return end.value, time_s, attempts


def carries(device: Device, size_bytes: float, load_fps: float, duration_s: float) -> bool:
    """Whether the device loses nothing at a load, however long its queue takes to empty afterwards."""
    stretches = follow(device, size_bytes, [LoadStep(load_fps, duration_s)])
    return not any(whole_frames(stretch.lost) for stretch in stretches)


def truth(device: Device) -> float:
    """The highest load that the device carries for the full length, by halving far below any resolution."""
    low, high = 0.0, device.line_fps(SIZE)
    if carries(device, SIZE, high, FULL_S):
        return high
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if carries(device, SIZE, middle, FULL_S) else (low, middle)
    return low


devices = st.builds(
    Device,
    port_bps=st.sampled_from([100e6, 1e9, 10e9]),
    forwarding_fps=st.one_of(st.none(), st.floats(1e4, 20e6)),
    forwarding_bps=st.one_of(st.none(), st.floats(1e7, 12e9)),
    buffer_frames=st.one_of(st.floats(1, 100), st.floats(100, 1e6)),
    hot_after_s=st.one_of(st.none(), st.none(), st.floats(0.5, 55)),
    hot_share=st.floats(0.5, 1.0),
)


class Searches(unittest.TestCase):
    def wanted(self, device: Device, resolution: float = 0.001) -> Range:
        maximum = device.line_fps(SIZE)
        return Range(maximum, resolution * maximum, FULL_S, SHORT_S)

    def check(self, search: Callable[[Range], Search], device: Device, resolution: float) -> float:
        wanted = self.wanted(device, resolution)
        found, time_s, attempts = run(search(wanted), device)
        self.assertLessEqual(found, truth(device) * (1 + 1e-6) + 1 / FULL_S)
        self.assertGreaterEqual(found, truth(device) - wanted.resolution - 1 / FULL_S)
        passed_full = [a.load for a in attempts if a.duration_s == FULL_S]
        self.assertTrue(found == 0 or found in passed_full, "the answer was never confirmed at full length")
        return time_s

    @settings(max_examples=1500, deadline=None)
    @given(devices, st.sampled_from([0.0005, 0.001, 0.005]))
    def test_both_end_within_the_resolution_on_any_device(self, device: Device, resolution: float) -> None:
        self.check(binary, device, resolution)
        self.check(guided, device, resolution)

    @settings(max_examples=1500, deadline=None)
    @given(devices)
    def test_guided_is_never_much_longer(self, device: Device) -> None:
        _, halving_s, _ = run(binary(self.wanted(device)), device)
        _, guided_s, _ = run(guided(self.wanted(device)), device)
        self.assertLessEqual(guided_s, halving_s + 6 * (SHORT_S + SHORT_PAUSE_S))

    def test_guided_takes_a_fifth_of_the_tester_time(self) -> None:
        """Over 500 devices that do not reach line rate (where halving, too, is done after one trial)."""
        rng, halving_s, guided_s, count = random.Random(2544), 0.0, 0.0, 0
        while count < 500:
            device = Device(
                rng.choice([100e6, 1e9, 10e9]),
                forwarding_fps=10 ** rng.uniform(4, 7.3),
                forwarding_bps=10 ** rng.uniform(7, 10),
                buffer_frames=10 ** rng.uniform(0, 6),
            )
            if carries(device, SIZE, device.line_fps(SIZE), FULL_S):
                continue
            count += 1
            halving_s += run(binary(self.wanted(device)), device)[1]
            guided_s += run(guided(self.wanted(device)), device)[1]
        self.assertLess(guided_s / halving_s, 0.2)

    def test_a_device_at_line_rate_takes_one_long_trial(self) -> None:
        for search in (binary, guided):
            found, time_s, attempts = run(search(self.wanted(Device(1e9))), Device(1e9))
            self.assertEqual(found, Device(1e9).line_fps(SIZE))
            self.assertLess(time_s, 70)
            self.assertLessEqual(len(attempts), 2)

    def test_a_buffer_that_hides_overload_from_short_trials_is_found_out(self) -> None:
        device = Device(1e9, forwarding_fps=1e6, buffer_frames=600_000)
        found, _, _ = run(guided(self.wanted(device)), device)
        self.assertAlmostEqual(found, 1e6 + 600_000 / 60, delta=1488)

    def test_a_device_that_carries_nothing(self) -> None:
        for search in (binary, guided):
            found, _, _ = run(search(self.wanted(Device(1e9))), Device(1e9, forwarding_fps=0.0, buffer_frames=0))
            self.assertLessEqual(found, 1 / FULL_S)
