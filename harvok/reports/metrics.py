"""A site's newest figures for programs that collect them: text in the form of OpenMetrics 1.0."""

from collections.abc import Iterator
from pathlib import Path

from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric, StateSetMetricFamily
from prometheus_client.openmetrics.exposition import generate_latest
from prometheus_client.registry import CollectorRegistry

from harvok.core.site.failures import FAILURES
from harvok.reports.site import PairSection, SitePage
from harvok.reports.whole import write_whole

_PAIR = ("site", "round", "near", "far")


class _SiteCollector:
    def __init__(self, page: SitePage) -> None:
        self._page = page

    def collect(self) -> Iterator[Metric]:
        pairs = [pair for one in self._page.rounds for pair in one.pairs]
        yield self._tests(pairs)
        yield self._values(pairs)
        yield self._levels(pairs)
        yield self._verdicts(pairs)
        yield self._moments(pairs)

    def _of(self, pair: PairSection, *more: str) -> list[str]:
        return [self._page.site, pair.round, pair.near, pair.far, *more]

    def _tests(self, pairs: list[PairSection]) -> Metric:
        family = CounterMetricFamily(
            "harvok_site_tests", "Tests in the time that the page shows.", labels=[*_PAIR, "outcome"]
        )
        for pair in pairs:
            for outcome in ("done", "missed", *FAILURES):
                number = sum((test.failure or test.state) == outcome for test in pair.tests)
                family.add_metric(self._of(pair, outcome), number)
        return family

    def _values(self, pairs: list[PairSection]) -> Metric:
        family = GaugeMetricFamily(
            "harvok_site_value", "The newest value of a figure, in its unit.", labels=[*_PAIR, "figure", "of", "unit"]
        )
        for pair in pairs:
            for track in pair.tracks:
                labels = self._of(pair, track.quantity, track.of, track.meaning.unit)
                family.add_metric(labels, track.history.newest.value)
        return family

    def _levels(self, pairs: list[PairSection]) -> Metric:
        family = GaugeMetricFamily(
            "harvok_site_level", "The median since the last change of level.", labels=[*_PAIR, "figure", "of", "unit"]
        )
        for pair in pairs:
            for track in pair.tracks:
                labels = self._of(pair, track.quantity, track.of, track.meaning.unit)
                family.add_metric(labels, track.history.levels[-1][2])
        return family

    def _verdicts(self, pairs: list[PairSection]) -> Metric:
        family = StateSetMetricFamily("harvok_site_state", "How the newest test of a pair ended.", labels=_PAIR)
        for pair in pairs:
            states = ("ACCEPT", "REJECT", "RETEST", "done", "failed", "missed")
            family.add_metric(self._of(pair), {state: pair.state == state for state in states})
        return family

    def _moments(self, pairs: list[PairSection]) -> Metric:
        family = GaugeMetricFamily(
            "harvok_site_last_test", "When the newest test of a pair was due.", labels=_PAIR, unit="seconds"
        )
        for pair in pairs:
            if pair.newest:
                family.add_metric(self._of(pair), pair.newest.due.timestamp())
        return family


def write_metrics(page: SitePage, path: Path) -> None:
    """Writes them in place of older ones, whole or not at all. Raises UsageError for a file that cannot be written."""
    registry = CollectorRegistry(auto_describe=False)
    registry.register(_SiteCollector(page))
    write_whole(generate_latest(registry), path)  # type: ignore[no-untyped-call]
