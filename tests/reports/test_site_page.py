"""The page of a site in a real browser, and its metrics read by their own reader."""

import html
import re
import shutil
import subprocess
import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory

from prometheus_client.openmetrics.parser import text_fd_to_metric_families

from harvok.core.site.history import Seen, history_of
from harvok.core.site.outcome import SiteTest
from harvok.reports.history_chart import HEIGHT, WIDTH
from harvok.reports.metrics import write_metrics
from harvok.reports.site import NextTests, PairSection, RoundSection, SitePage, Track, write_site_page

MADE = datetime(2026, 11, 26, 12, tzinfo=UTC)
SINCE = MADE - timedelta(days=28)
CHROMIUM = shutil.which("chromium")
_LOOK = """<script>
const boxes = [...document.querySelectorAll("svg .dots, svg .level")].map(one => one.getBBox());
document.title = JSON.stringify({
  wide: document.documentElement.scrollWidth > window.innerWidth,
  drawn: boxes.filter(box => box.width > 100).length,
  paper: getComputedStyle(document.body).backgroundColor,
  ink: getComputedStyle(document.body).color,
});
</script></body>"""


def a_page(name: str = "observatory", of: str = "send", level: float = 940e6) -> SitePage:
    seen = [
        Seen(
            (SINCE + timedelta(hours=3 * number)).timestamp(),
            level * (0.88 if 120 < number < 160 else 1),
            f"run-{number}",
        )
        for number in range(200)
    ]
    due = SINCE + timedelta(days=3)
    failed = SiteTest("hourly", ("dome",), "hall", due, "failed", due, due, (), "host-down", "no answer <b>at all</b>")
    done = replace(failed, due=MADE, state="done", failure="", reason="", verdict="REJECT", runs=("run-199",))
    tracks = [Track("goodput-settled", of, history_of(seen), [850e6])]
    pairs = [
        PairSection("hourly", "dome", "hall", [failed, done], tracks),
        PairSection("hourly", "spectro", "hall", [], []),
    ]
    return SitePage(
        site=name,
        zone="Europe/Berlin",
        made=MADE,
        since=SINCE,
        counts={"done": 1, "host-down": 1},
        running=[],
        rounds=[RoundSection("hourly", "TCP, send, 10 s", "every hour", pairs)],
        next=[NextTests("hourly", MADE + timedelta(hours=1), 2)],
        failed=[failed],
        reports={"run-199": "page-reports/run-199.html"},
    )


class Pages(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(TemporaryDirectory()))
        self.path = self.folder / "page.html"

    def written(self, page: SitePage) -> str:
        write_site_page(page, self.path)
        return self.path.read_text()

    def test_what_it_says(self) -> None:
        text = self.written(a_page())
        for words in (
            "✗ REJECT",
            "no test yet",
            "available 50.0 %",
            "1 host down",
            'href="page-reports/run-199.html"',
            "changed from 940.0 Mb/s to 827.2 Mb/s",
            "limit 850.0 Mb/s",
            "2026-11-26 14:00",
            "no answer &lt;b&gt;at all&lt;/b&gt;",
        ):
            self.assertIn(words, text)
        self.assertNotRegex(text, r'(?:src|href)="(?!#|page-reports/)', "nothing is fetched from elsewhere")

    def test_what_a_stranger_wrote_is_text(self) -> None:
        text = self.written(a_page("<script>alert(1)</script>", "<img src=x>"))
        self.assertNotIn("<script>alert", text)
        self.assertNotIn("<img src=x>", text)

    def test_every_coordinate_is_inside_the_drawing(self) -> None:
        for level in (940e6, 0.0, 2e-6):
            text = self.written(a_page(level=level))
            for x, y in re.findall(r"M(-?[\d.]+) (-?[\d.]+)h0", text):
                self.assertTrue(0 <= float(x) <= WIDTH and 0 <= float(y) <= HEIGHT, (level, x, y))
            self.assertNotIn("nan", text.lower().replace("nano", ""))

    def test_a_file_that_cannot_be_written_leaves_the_old_one(self) -> None:
        before = self.written(a_page())
        self.assertEqual(self.path.read_text(), before)
        self.assertEqual([file.name for file in self.folder.iterdir()], ["page.html"])

    @unittest.skipUnless(CHROMIUM, "Chromium is not installed")
    def test_in_a_browser_wide_and_narrow_light_and_dark(self) -> None:
        self.path.write_text(self.written(a_page()).replace("</body>", _LOOK))
        looks = {(width, dark): self.looked_at(width, dark) for width in (400, 1280) for dark in (False, True)}
        for (width, dark), look in looks.items():
            with self.subTest(width=width, dark=dark):
                self.assertIn('"wide":false', look, "it scrolls sideways")
                self.assertIn('"drawn":2', look)
                self.assertIn('"paper":"rgb(20, 25, 31)"' if dark else '"paper":"rgb(255, 255, 255)"', look)

    def looked_at(self, width: int, dark: bool) -> str:
        assert CHROMIUM
        scheme = ["--blink-settings=preferredColorScheme=0"] if dark else []
        command = [
            CHROMIUM,
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            f"--user-data-dir={self.folder}/browser",
        ]
        done = subprocess.run(
            [*command, *scheme, f"--window-size={width},900", "--dump-dom", self.path.as_uri()],
            capture_output=True,
            text=True,
            timeout=120,
        )
        found = re.search(r"<title>(.*?)</title>", done.stdout)
        assert found, done.stderr
        return html.unescape(found[1])

    def test_metrics_are_read_by_their_own_reader(self) -> None:
        path = self.folder / "metrics.txt"
        write_metrics(a_page(of='se"nd\n'), path)
        self.assertTrue(path.read_text().endswith("# EOF\n"))
        with path.open() as file:
            families = {family.name: family for family in text_fd_to_metric_families(file)}
        (value,) = families["harvok_site_value"].samples
        self.assertEqual((value.value, value.labels["of"], value.labels["unit"]), (940e6, 'se"nd\n', "b/s"))
        tests = {sample.labels["outcome"]: sample.value for sample in families["harvok_site_tests"].samples[:13]}
        self.assertEqual((tests["done"], tests["host-down"], tests["refused"]), (1, 1, 0))
        states = {s.labels["harvok_site_state"]: s.value for s in families["harvok_site_state"].samples[:6]}
        self.assertEqual([state for state, on in states.items() if on], ["REJECT"])
