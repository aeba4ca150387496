import unittest
from dataclasses import fields, replace
from pathlib import Path

import numpy as np

from harvok.core.impairment import Impairment
from harvok.core.measures.impairer import FrameImpairer, FrameOutcomes
from harvok.core.models.impairment import IMPAIRMENT_FILE
from harvok.errors import ImpairmentError
from harvok.rigs.impairment_files import read_impairment, shipped

MS = 1_000_000


def fates_of(impairment: Impairment, count: int = 20_000, portion: int = 512, seed: int = 7) -> FrameOutcomes:
    """The fates of evenly spaced frames of 1000 B, decided in portions."""
    fate = FrameImpairer(impairment, seed)
    at_ns, sizes = np.arange(count, dtype=np.int64) * 10_000, np.full(count, 996, dtype=np.int64)
    parts = [fate.decide(at_ns[at : at + portion], sizes[at : at + portion]) for at in range(0, count, portion)]
    return FrameOutcomes(
        *(np.concatenate([getattr(part, one.name) for part in parts]) for one in fields(FrameOutcomes))
    )


EVERYTHING = Impairment(
    0.005, 0.001, keeps_order=False, loss=0.02, burst_loss=0.01, burst_frames=4, reordering=0.01, duplication=0.02,
    corruption=0.01,
)  # fmt: skip


class SameSeedSameFate(unittest.TestCase):
    def test_however_the_frames_are_cut_into_portions(self) -> None:
        for impairment in (
            EVERYTHING,
            replace(EVERYTHING, spread="normal"),
            replace(EVERYTHING, spread="recorded", recorded_s=(0.001, 0.002, 0.005)),
            replace(EVERYTHING, keeps_order=True),
            Impairment(rate_bps=790e6, queue_bytes=20_000),
        ):
            whole = fates_of(impairment, portion=20_000)
            for portion in (1, 7, 512):
                cut = fates_of(impairment, portion=portion)
                for one in fields(FrameOutcomes):
                    same = np.array_equal(getattr(whole, one.name), getattr(cut, one.name))
                    self.assertTrue(same, (one.name, portion, impairment))
        self.assertFalse(np.array_equal(fates_of(EVERYTHING).lost, fates_of(EVERYTHING, seed=8).lost))


class HowOften(unittest.TestCase):
    def test_shares_are_within_their_binomial_interval(self) -> None:
        count = 200_000
        got = fates_of(Impairment(loss=0.01, duplication=0.02, corruption=0.001, reordering=0.005), count)
        for found, share in (
            (got.lost, 0.01), (got.duplicated, 0.02), (got.corrupted, 0.001), (got.held_back, 0.005),
        ):  # fmt: skip
            self.assertAlmostEqual(float(found.mean()), share, delta=5 * (share / count) ** 0.5)

    def test_bursts_have_their_share_and_their_length(self) -> None:
        lost = fates_of(Impairment(burst_loss=0.02, burst_frames=6), 500_000).lost
        starts = int((lost[1:] & ~lost[:-1]).sum())
        self.assertAlmostEqual(float(lost.mean()), 0.02, delta=0.003)
        self.assertAlmostEqual(float(lost.sum()) / starts, 6, delta=0.4)

    def test_nothing_happens_when_nothing_is_asked(self) -> None:
        got = fates_of(Impairment())
        self.assertTrue(got.goes_on.all())
        self.assertTrue((got.due_ns == np.arange(20_000) * 10_000).all())


class HowLong(unittest.TestCase):
    def delays_ms(self, impairment: Impairment) -> "np.ndarray[tuple[int], np.dtype[np.float64]]":
        return (fates_of(impairment).due_ns - np.arange(20_000) * 10_000) / MS

    def test_fixed_uniform_normal_recorded(self) -> None:
        self.assertEqual(set(self.delays_ms(Impairment(0.035))), {35.0})
        even = self.delays_ms(Impairment(0.005, 0.002, keeps_order=False))
        self.assertTrue(3 <= even.min() < 3.01 and 6.99 < even.max() <= 7)
        self.assertAlmostEqual(float(even.std()), 2 / 3**0.5, delta=0.03)
        normal = self.delays_ms(Impairment(0.02, 0.002, "normal", keeps_order=False))
        self.assertAlmostEqual(float(normal.mean()), 20, delta=0.1)
        self.assertAlmostEqual(float(normal.std()), 2, delta=0.1)
        recorded = self.delays_ms(Impairment(spread="recorded", recorded_s=(0.001, 0.004), keeps_order=False))
        self.assertEqual(set(recorded), {1.0, 4.0})

    def test_order_is_kept_unless_told_otherwise(self) -> None:
        jumpy = Impairment(0.005, 0.004)
        self.assertTrue((np.diff(fates_of(jumpy).due_ns) >= 0).all())
        self.assertFalse((np.diff(fates_of(replace(jumpy, keeps_order=False)).due_ns) >= 0).all())

    def test_frames_that_are_held_back_are_overtaken(self) -> None:
        got = fates_of(Impairment(0.001, reordering=0.01, reorder_by_s=0.002))
        late = (got.due_ns - np.arange(20_000) * 10_000) / MS
        self.assertEqual(set(late[got.held_back]), {3.0})
        self.assertEqual(set(late[~got.held_back]), {1.0})


class RateAndQueue(unittest.TestCase):
    """Frames of 1000 B with FCS every 10 µs are 800 Mb/s."""

    def test_below_the_rate_each_frame_takes_its_length(self) -> None:
        got = fates_of(Impairment(rate_bps=1e9))
        self.assertFalse(got.queue_drops.any())
        self.assertEqual(set(got.due_ns - np.arange(20_000) * 10_000), {8000})

    def test_above_it_the_queue_fills_and_the_rest_is_dropped(self) -> None:
        got = fates_of(Impairment(rate_bps=400e6, queue_bytes=50_000))
        self.assertAlmostEqual(float(got.goes_on.mean()), 0.5, delta=0.005)
        self.assertEqual(int(np.argmax(got.queue_drops)), 101)  # the queue grows by half a frame with each
        held_ms = (got.due_ns - np.arange(20_000) * 10_000)[got.goes_on] / MS
        self.assertAlmostEqual(float(held_ms.max()), 1.02, delta=0.02)  # 50 kB at 400 Mb/s, and its own length

    def test_it_is_the_same_as_one_frame_at_a_time(self) -> None:
        rng = np.random.default_rng(5)
        at_ns = np.cumsum(rng.integers(1000, 30_000, size=5000))
        sizes = rng.integers(60, 1514, size=5000)
        impairment = Impairment(rate_bps=350e6, queue_bytes=9000)
        got = FrameImpairer(impairment, 1).decide(at_ns, sizes)
        free_ns, ns_a_byte = 0.0, 8e9 / 350e6
        for number in range(5000):
            begins = max(free_ns, at_ns[number])
            dropped = begins - at_ns[number] > 9000 * ns_a_byte
            self.assertEqual(bool(got.queue_drops[number]), bool(dropped), number)
            if not dropped:
                free_ns = begins + (sizes[number] + 4) * ns_a_byte
                self.assertAlmostEqual(int(got.due_ns[number]), free_ns, delta=2)


class Files(unittest.TestCase):
    def test_those_that_ship_say_why(self) -> None:
        names = [file.name for file in shipped()]
        self.assertEqual(len(names), 6)
        self.assertTrue(all(file.about for file in shipped()))
        self.assertEqual(read_impairment("metro").plan().stages[0].send.delay_s, 0.0006)

    def test_a_schedule(self) -> None:
        file = IMPAIRMENT_FILE.validate_python(
            {
                "version": 1,
                "name": "test",
                "schedule": [{"at": "20s", "send": {"loss": "0.5%"}}, {"at": "40s"}],
            }
        )
        stages = file.plan().stages
        self.assertEqual(
            [(one.at_s, one.send.loss, one.receive.loss) for one in stages], [(0, 0, 0), (20, 0.005, 0), (40, 0, 0)]
        )

    def test_what_makes_no_sense_is_refused(self) -> None:
        wrongs: tuple[dict[str, object], ...] = (
            {"both": {"delay": "1ms", "variation": "2ms"}},
            {"both": {}, "send": {}},
            {"both": {"spread": "recorded"}},
            {"both": {"delya": "1ms"}},
            {"schedule": [{"at": "2s"}, {"at": "1s"}]},
        )
        for wrong in wrongs:
            with self.assertRaises(ValueError):
                IMPAIRMENT_FILE.validate_python({"version": 1, "name": "x"} | wrong)

    def test_a_name_that_nobody_knows(self) -> None:
        with self.assertRaises(ImpairmentError):
            read_impairment(str(Path("nowhere") / "x.toml"))
