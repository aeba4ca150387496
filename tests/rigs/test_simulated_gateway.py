"""RFC 9411's cases on modelled gateways, which know what is to be found."""

import random
import unittest

from harvok.core.app.reading import figures_of, read_stream
from harvok.core.drive import drive
from harvok.core.ends import SEND
from harvok.core.figures import Figure, find
from harvok.core.observer import Observer
from harvok.core.procedure import Context, Findings
from harvok.core.procedures.app_calibration import AppCalibrationTest, calibrate_app
from harvok.core.procedures.rfc9411 import CASES, CaseName, Rfc9411Test, rfc9411
from harvok.core.trials.app import Action, Application, AppMix, AppTrial, Level
from harvok.errors import TesterLimitError
from harvok.rigs.simulated_gateway import GatewayModel, SimulatedGateway

MIX = AppMix("m", (Application("web", 1.0, (Action("fetch", (10_000,), think_s=(0.1,)),)),))
TRIALS = 30
"""A search that takes more is none."""


def found(
    model: GatewayModel, *cases: CaseName, size: int = 16_000, **settings: float
) -> tuple[list[Figure], list[str], int]:
    """The figures and notices of a test on a model, and how many trials it took."""
    rig, findings = SimulatedGateway(model), Findings()
    test = Rfc9411Test(cases, MIX, sizes=(size,), **settings)  # type: ignore[arg-type]
    drive(rfc9411(test, Context(), findings), rig, Observer(), findings)
    return findings.figures, findings.notices, len(rig.trials)


class Calibrations(unittest.TestCase):
    TRIAL = AppTrial(MIX, (SEND,), (Level(10, 1, 1),))

    def calibrated(self, model: GatewayModel, max_users: int = 4096) -> Findings:
        findings = Findings()
        test = AppCalibrationTest(self.TRIAL, max_users)
        drive(calibrate_app(test, Context(), findings), SimulatedGateway(model), Observer(), findings)
        return findings

    def test_users_are_doubled_until_no_more_is_moved(self) -> None:
        """A user does ten transactions a second here, so that 512 users ask for more than this tester has."""
        (figure,) = self.calibrated(GatewayModel(tester_per_s=3000)).figures
        self.assertTrue(2400 < figure.value <= 3001, figure)
        self.assertEqual(figure.mark, "tester-limit")
        few = self.calibrated(GatewayModel(), max_users=20)
        self.assertAlmostEqual(few.figures[0].value, 200, delta=10)
        self.assertEqual((few.figures[0].labels, few.figures[0].mark), ({"level": "20 users"}, ""))
        self.assertIn("the limit may be higher", few.notices[0])

    def test_a_path_that_serves_nobody_calibrates_nothing(self) -> None:
        with self.assertRaises(TesterLimitError):
            self.calibrated(GatewayModel(table=1))


class Searches(unittest.TestCase):
    def assert_found(self, got: float | None, truth: float, maximum: float, resolution: float, what: object) -> None:
        """No more than there is, and less by the resolution at most; RFC 9411 lets 0.001 % fail."""
        assert got is not None
        self.assertLessEqual(got, truth * 1.0001 + 1, what)
        self.assertGreaterEqual(got, truth - resolution * maximum - 1, what)

    def test_every_search_ends_at_the_truth_of_a_thousand_devices(self) -> None:
        rng = random.Random(9411)
        for number in range(1000):
            rate, table = rng.uniform(50, 19_000), rng.randint(200, 19_000)
            bps = 10 ** rng.uniform(7.7, 9.9)
            resolution = rng.choice([0.001, 0.01, 0.05])
            case = rng.choice(["connections", "throughput", "concurrent"])
            model = {
                "connections": GatewayModel(connections_per_s=rate),
                "throughput": GatewayModel(throughput_bps=bps),
                "concurrent": GatewayModel(table=table),
            }[case]
            figures, _, trials = found(model, case, resolution=resolution)  # type: ignore[arg-type]
            self.assertLess(trials, TRIALS, (number, model))
            if case == "connections":
                self.assert_found(find(figures, "max-connections-rate"), rate, 20_000, resolution, model)
            elif case == "concurrent":
                self.assert_found(find(figures, "max-open-connections"), table, 20_000, resolution, model)
            else:
                payload = bps * 16_000 / (16_000 + 2 * 110)
                self.assert_found(find(figures, "max-app-throughput"), payload, 10e9, resolution, model)

    def test_a_device_without_limits_is_said_to_carry_all_that_was_asked_for(self) -> None:
        figures, notices, trials = found(GatewayModel(), "connections", max_connections_per_s=500.0)
        self.assertEqual(find(figures, "max-connections-rate", object="16.00 kB"), 500)
        self.assertIn("all that was asked for", notices[0])
        self.assertLessEqual(trials, 3)

    def test_a_tester_that_is_short_is_not_taken_for_the_device(self) -> None:
        figures, _, _ = found(GatewayModel(tester_per_s=4000.0, connections_per_s=9000.0), "connections")
        (figure,) = figures
        self.assertEqual(figure.mark, "tester-limit")
        self.assertLessEqual(figure.value, 4000)
        self.assertGreater(figure.value, 3000)
        figures, _, _ = found(GatewayModel(tester_per_s=4000.0, connections_per_s=1000.0), "connections")
        self.assertEqual(figures[0].mark, "")
        self.assert_found(figures[0].value, 1000, 20_000, 0.01, figures)

    def test_latency_is_taken_at_half_of_what_was_found(self) -> None:
        figures, _, _ = found(GatewayModel(throughput_bps=1e9, delay_s=1e-3), "throughput", "latency")
        highest = find(figures, "max-app-throughput") or 0
        carried = find(figures, "app-goodput", case="latency", direction="receive") or 0
        self.assertAlmostEqual(carried / (highest / 2 * (16_110 / 16_000)), 1, delta=0.01)
        self.assertAlmostEqual((find(figures, "response-median", case="latency") or 0) / 2e-3, 1, delta=0.03)

    def test_all_cases_give_figures_that_are_known(self) -> None:
        figures, _, _ = found(GatewayModel(5000, 3000.0, 1e9), *CASES)
        for figure in figures:
            self.assertLessEqual(figure.labels.keys(), set(figure.meaning.labels), figure)
        self.assertEqual(len({figure.key for figure in figures}), len(figures))
        self.assertTrue(find(figures, "transactions-rate", case="mix"))


class Levels(unittest.TestCase):
    def level(self, model: GatewayModel, level: Level, mix: AppMix = MIX) -> tuple[float, float, int, int]:
        """(transactions/s, open connections, failed, unserved) of a level."""
        trial = AppTrial(mix, (SEND,), (level,))
        result = SimulatedGateway(model).run(trial, Observer())
        (reading,) = read_stream(trial, result.streams[0])
        return (
            reading.each_second(reading.total.transactions), reading.open_connections, reading.total.failed,
            reading.unserved,
        )  # fmt: skip

    def test_users_do_as_much_as_their_pauses_let_them(self) -> None:
        rate, open_ones, failed, _ = self.level(GatewayModel(delay_s=1e-9), Level(10, 0, 50))
        self.assertAlmostEqual(rate, 500, delta=1)
        self.assertEqual((open_ones, failed), (50, 0))

    def test_a_full_table_refuses_the_rest(self) -> None:
        _, open_ones, failed, _ = self.level(GatewayModel(table=20), Level(10, 0, 50))
        self.assertEqual((open_ones, failed), (20, 30))

    def test_users_who_do_not_get_through_wait(self) -> None:
        """Fifty users who would do 500 transactions a second and get 100: each goes round in half a second, of which a
        tenth is a pause (Little's law)."""
        bits = 8 * (10_000 + 2 * 110)
        trial = AppTrial(MIX, (SEND,), (Level(10, 0, 50),))
        result = SimulatedGateway(GatewayModel(throughput_bps=100 * bits, delay_s=1e-6)).run(trial, Observer())
        (reading,) = read_stream(trial, result.streams[0])
        self.assertAlmostEqual(reading.each_second(reading.total.transactions), 100, delta=0.1)
        median_s = find(figures_of(reading, by_tester=False), "response-median") or 0.0
        self.assertAlmostEqual(median_s, 0.4, delta=0.01)

    def test_what_does_not_get_through_is_left_over(self) -> None:
        bits = 8 * (10_000 + 2 * 110)
        rate, _, _, unserved = self.level(GatewayModel(throughput_bps=100 * bits), Level(10, 0, arrivals_per_s=150))
        self.assertAlmostEqual(rate, 100, delta=0.1)
        self.assertAlmostEqual(unserved, 500, delta=1)


if __name__ == "__main__":
    unittest.main()
