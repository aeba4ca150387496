"""A hundred devices of known faults: no verdict on any of them is wrong, and nearly all decide."""

import unittest
from collections import Counter

from harvok.testing.device_truth import device_cases, is_wrong, verdict_of_case


class Devices(unittest.TestCase):
    def test_no_verdict_is_wrong(self) -> None:
        wrong, decided, answers = [], 0, Counter[str]()
        cases = list(device_cases())
        for case in cases:
            verdict = verdict_of_case(case)
            answers[verdict] += 1
            decided += verdict == case.truth or (case.truth == "RETEST" and verdict == "REJECT")
            if is_wrong(case, verdict):
                wrong.append((case.fault, case.name, case.size.name, case.truth, verdict))
        self.assertEqual(wrong, [])
        self.assertGreaterEqual(len(cases), 100)
        self.assertGreaterEqual(decided, 0.95 * len(cases), answers)
