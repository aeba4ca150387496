"""Accounting of numbered frames, against a model that remembers everything."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from harvok.core.measures.arrivals import Arrivals

WINDOW = 64


class RunsGivenAway(unittest.TestCase):
    def test_a_run_counts_as_its_numbers_would(self) -> None:
        one, other = Arrivals(64), Arrivals(64)
        for first, count in ((0, 10), (10, 40), (53, 30), (83, 64), (200, 1)):
            one.add(np.arange(first, first + count))
            other.add_run(first, count)
        for name in ("received", "duplicates", "reordered", "highest", "too_late"):
            self.assertEqual(getattr(one, name), getattr(other, name), name)
        self.assertEqual((one.last_lost(), one.loss_runs()), (other.last_lost(), other.loss_runs()))
        self.assertEqual(other.last_lost(), 199)


def counted(*portions: list[int], window: int = WINDOW) -> Arrivals:
    made = Arrivals(window)
    for portion in portions:
        made.add(np.array(portion, dtype=np.int64))
    return made


class Model:
    """Remembers every number; RFC 4737 §3.2 for reordering."""

    def __init__(self, numbers: list[int]) -> None:
        self.seen: set[int] = set()
        self.duplicates = self.reordered = 0
        maximum = -1
        for number in numbers:
            if number in self.seen:
                self.duplicates += 1
                continue
            self.reordered += number < maximum
            self.seen.add(number)
            maximum = max(maximum, number)
        missing = [n for n in range(maximum) if n not in self.seen]
        self.last_lost = max(missing, default=None)


class AgainstTheModel(unittest.TestCase):
    @settings(deadline=None)
    @given(st.data())
    def test_any_order_within_the_window(self, data: st.DataObject) -> None:
        """Numbers lost, doubled and displaced by less than the window, cut into portions anywhere."""
        copies = data.draw(st.lists(st.sampled_from([0, 1, 1, 1, 2]), min_size=1, max_size=300))
        sent = [number for number, times in enumerate(copies) for _ in range(times)]
        rng = data.draw(st.randoms(use_true_random=False))
        shifts = [number + rng.randint(0, WINDOW // 4) for number in sent]
        arrived = [n for _, n in sorted(zip(shifts, sent, strict=True))]
        cuts = sorted(data.draw(st.lists(st.integers(0, len(arrived)), max_size=8)))
        made = counted(*(arrived[a:b] for a, b in zip([0, *cuts], [*cuts, len(arrived)], strict=True)))
        model = Model(arrived)
        self.assertEqual(
            (made.received, made.duplicates, made.reordered, made.last_lost(), made.too_late),
            (len(model.seen), model.duplicates, model.reordered, model.last_lost, 0),
        )

    @settings(deadline=None)
    @given(st.integers(1, 1000), st.integers(1, 97))
    def test_a_run_without_faults_in_any_portions(self, total: int, portion: int) -> None:
        numbers = list(range(total))
        made = counted(*(numbers[at : at + portion] for at in range(0, total, portion)))
        self.assertEqual((made.received, made.highest, made.last_lost()), (total, total - 1, None))
        self.assertEqual((made.duplicates, made.reordered), (0, 0))


class Edges(unittest.TestCase):
    def test_a_portion_longer_than_the_window(self) -> None:
        made = counted(list(range(10 * WINDOW)))
        self.assertEqual((made.received, made.last_lost()), (10 * WINDOW, None))

    def test_a_loss_is_remembered_after_it_left_the_window(self) -> None:
        made = counted([0, 1, 2, 4], list(range(5, 5 * WINDOW)))
        self.assertEqual((made.received, made.last_lost()), (5 * WINDOW - 1, 3))

    def test_a_gap_wider_than_the_window(self) -> None:
        made = counted([0, 1], [10 * WINDOW])
        self.assertEqual((made.received, made.last_lost()), (3, 10 * WINDOW - 1))
        made.add(np.arange(10 * WINDOW + 1, 20 * WINDOW))
        self.assertEqual(made.last_lost(), 10 * WINDOW - 1)

    def test_a_frame_older_than_the_window_is_lost_and_late(self) -> None:
        made = counted(list(range(1, 3 * WINDOW)), [0])
        self.assertEqual((made.received, made.too_late, made.last_lost()), (3 * WINDOW - 1, 1, 0))

    def test_nothing_came(self) -> None:
        made = counted([])
        self.assertEqual((made.received, made.highest, made.last_lost()), (0, -1, None))
