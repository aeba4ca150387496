"""`harvok explain`: the documents at the terminal."""

import json

from harvok.core.quantities import QUANTITIES
from harvok.core.site.failures import FAILURES
from harvok.errors import HarvokError
from harvok.runner.explain import explain
from tests.whole.program import ProgramTest


def references(kind: type[HarvokError]) -> set[str]:
    return {kind.reference}.union(*(references(below) for below in kind.__subclasses__()))


class Explaining(ProgramTest):
    def test_figures_errors_and_failures_are_all_explained(self) -> None:
        names = {*QUANTITIES, *references(HarvokError), *(one.name for one in FAILURES.values())} - {""}
        for name in sorted(names):
            with self.subTest(name):
                self.assertTrue(explain(name)[0].said)

    def test_words_of_every_kind(self) -> None:
        said = self.harvok("explain", "receive", "window").stdout
        self.assertIn("receive window, send buffer  How each figure is computed › The limiter", said)
        self.assertIn("whose: settings", said)
        found = json.loads(self.inside("explain", "frame-port", "--json").stdout)
        self.assertEqual(found[0]["word"], "stations.frame_port")
        self.assertNotIn("`", self.inside("explain", "ceiling").stdout)

    def test_the_nearest_is_named_where_nothing_is_written(self) -> None:
        refused = self.inside("explain", "goodput-setled", code=2).stderr
        self.assertIn("goodput-settled", refused)
        self.assertIn("docs/glossary.md", self.inside("explain", "qqqqqqq", code=2).stderr)
