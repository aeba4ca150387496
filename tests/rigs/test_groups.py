"""Groups that are joined and left in mid-trial, and what is done at moments of a trial."""

import unittest

from harvok.core.ends import Stream
from harvok.core.stream_frames import StreamFrames
from harvok.core.trials.frames import FrameDirectionResult, FrameTrial, LoadStep
from harvok.core.wire.frame_orders import ReceiveReport, SendReport
from harvok.core.wire.groups import join, leave
from harvok.rigs.groups import Groups, GroupWord, Meanwhile
from harvok.traffic.frames import Reports

FIRST, SECOND, PLAIN = (Stream(f"port1 to port{n}", "port1", f"port{n}") for n in (2, 3, 4))
MULTICAST = {FIRST.name: StreamFrames(cast="multicast"), SECOND.name: StreamFrames(cast="multicast")}


def trial(**keys: object) -> FrameTrial:
    settings = {"streams": (FIRST, SECOND, PLAIN), "frames_of": MULTICAST, **keys}
    return FrameTrial((512,), (LoadStep(100.0, 3.0),), **settings)  # type: ignore[arg-type]


class Words:
    """Notes what was said to whom, at moments a millisecond apart."""

    def __init__(self) -> None:
        self.said: list[tuple[str, GroupWord]] = []

    def tell(self, stream: Stream, word: GroupWord) -> int:
        self.said.append((stream.name, word))
        return len(self.said) * 1_000_000


class Moments(unittest.TestCase):
    def test_what_is_due_is_done_once_and_in_the_order_it_was_asked_for(self) -> None:
        done: list[str] = []
        meanwhile = Meanwhile()
        meanwhile.add(2.0, lambda: done.append("late"))
        meanwhile.add(1.0, lambda: done.append("early"))
        meanwhile.add(1.0, lambda: done.append("as early"))
        for at_s in (0.5, 1.0, 1.5, 2.5, 3.0):
            meanwhile.do_until(at_s)
        self.assertEqual(done, ["early", "as early", "late"])


class JoinedAndLeft(unittest.TestCase):
    def test_only_multicast_streams_and_no_bystanders(self) -> None:
        words = Words()
        groups = Groups(trial(bystanders=(SECOND.name,)), words.tell)
        groups.join()
        groups.leave()
        groups.leave()
        self.assertEqual(words.said, [(FIRST.name, join), (FIRST.name, leave)], "left once")

    def test_moments_are_those_of_the_trial(self) -> None:
        words = Words()
        groups = Groups(trial(join_at_s=1.0, leave_at_s=2.0), words.tell)
        moments = list(groups.moments())
        self.assertEqual([at_s for at_s, _ in moments], [1.0, 2.0])
        for _, do in moments:
            do()
        self.assertEqual([word for _, word in words.said], [join, join, leave, leave])
        self.assertEqual(list(Groups(trial(), words.tell).moments()), [])
        self.assertEqual(list(Groups(trial(frames_of={}, join_at_s=1.0), words.tell).moments()), [])

    def test_how_long_it_took_to_show(self) -> None:
        groups = Groups(trial(join_at_s=1.0, leave_at_s=2.0), Words().tell)
        groups.join()
        groups.leave()
        result = FrameDirectionResult(100, 1.0, 50, FIRST.name)
        self.assertEqual(groups.told(FIRST, result, heard(3_000_000, 5_500_000)).join_delay_s, 0.002)
        self.assertEqual(groups.told(FIRST, result, heard(3_000_000, 5_500_000)).leave_delay_s, 0.0025)
        silent = groups.told(FIRST, result, heard(0, 0))
        self.assertEqual((silent.join_delay_s, silent.leave_delay_s), (None, None))
        self.assertIsNone(groups.told(PLAIN, result, heard(3_000_000, 5_500_000)).join_delay_s)


def heard(first_ns: int, last_ns: int) -> Reports:
    received = ReceiveReport(50, [], 0, 0, 9, None, None, [], first_ns, last_ns, 0, 0, 0, 0, 0, 0, 0, 1)
    return Reports(SendReport(100, [(100, 1)], 1, 0, 0, 0), received, 0)
