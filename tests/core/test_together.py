"""What several near ends came to together."""

import unittest

from harvok.core.site.together import MemberFlow, figures_together, ready_s


def a_flow(
    name: str, began_s: float, rate_bps: float, seconds: int = 10, ceiling_bps: float | None = None
) -> MemberFlow:
    moments = [began_s + second + 1 for second in range(seconds)]
    return MemberFlow(name, began_s, moments, [rate_bps / 8] * seconds, ceiling_bps)


class Together(unittest.TestCase):
    def figures(self, *flows: MemberFlow) -> dict[str, float]:
        found = figures_together("send", flows)
        self.assertTrue(all(figure.labels == {"direction": "send"} for figure in found))
        return {figure.quantity: figure.value for figure in found}

    def test_the_sum_is_of_the_time_in_which_all_sent(self) -> None:
        found = self.figures(a_flow("dome", 100.0, 600e6), a_flow("spectro", 102.5, 300e6))
        self.assertAlmostEqual(found["together-goodput"], 900e6)
        self.assertAlmostEqual(found["start-skew"], 2.5)
        self.assertAlmostEqual(found["together-fairness"], 900**2 / (2 * (600**2 + 300**2)))

    def test_one_that_had_everything_and_all_that_had_the_same(self) -> None:
        self.assertAlmostEqual(self.figures(a_flow("a", 0, 1e9), a_flow("b", 0, 0))["together-fairness"], 0.5)
        self.assertAlmostEqual(self.figures(*[a_flow(n, 0, 1e6) for n in "abcd"])["together-fairness"], 1.0)

    def test_the_share_is_of_the_link_that_they_share(self) -> None:
        found = self.figures(a_flow("a", 0, 470e6, ceiling_bps=940e6), a_flow("b", 0, 470e6, ceiling_bps=940e6))
        self.assertAlmostEqual(found["together-ceiling-share"], 1.0)

    def test_near_ends_that_never_sent_together_have_no_sum(self) -> None:
        found = self.figures(a_flow("a", 0, 1e6), a_flow("b", 20, 1e6))
        self.assertEqual(found, {"start-skew": 20})

    def test_more_near_ends_get_more_time_to_be_ready(self) -> None:
        self.assertGreater(ready_s(10), ready_s(2))
