"""A kind of test is one row: one that Harvok does not ship runs, lists, shows, compares, plans, exports and reports."""

import csv
import json
import subprocess
import sys
import unittest
from pathlib import Path
from typing import Any

from harvok.cli.render.views import VIEWS
from harvok.core.kinds.table import KINDS
from harvok.core.quantities import QUANTITIES
from tests.whole.program import ProgramTest

ROOT = Path(__file__).parents[2]
RIG = """
version = 1
kind = "simulated"
name = "dome-sw-b"
rated = "1G"
[device]
forwarding_fps = {fps}
buffer_frames = 100
loss = "{loss}"
"""
PLAN = """
version = 1
name = "{name}"
rig = "{name}.toml"
repeats = 5
[[steps]]
name = "swing"
test = "seesaw"
frame_sizes = [64, 1518]
[[criteria]]
figure = "seesaw-forwarded"
frame_size = 1518
labels = {{ rhythm = "two steps" }}
min = "90%"
"""


class AToyKind(ProgramTest):
    def toy(self, *arguments: str, code: int = 0) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "tests.house.toy", *arguments, "--logbook", str(self.logbook)],
            env=self.env | {"PYTHONPATH": str(ROOT)}, cwd=self.folder, capture_output=True, text=True,
        )  # fmt: skip
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        return done.stdout

    def run_plan(self, name: str, fps: int, code: int = 0) -> str:
        (self.folder / f"{name}.toml").write_text(RIG.format(fps=fps, loss="0.1%"))
        (self.folder / f"plan-{name}.toml").write_text(PLAN.format(name=name))
        return self.toy("run", f"plan-{name}.toml", "--name", name, code=code)

    def test_it_runs_lists_shows_compares_and_is_reported_with_nothing_else_touched(self) -> None:
        ran = self.run_plan("fast", 1_400_000)
        self.assertIn("send, 64 B, two steps", ran)
        self.assertIn("ACCEPT", ran)
        self.assertIn("seesaw", self.toy("logbook", "list"))
        (newest, *_) = json.loads(self.toy("logbook", "list", "--json"))
        self.assertEqual(newest["figures"][0]["labels"]["rhythm"], "two steps")
        self.assertIn("the seesaw came to rest after 2 figures", self.toy("logbook", "show", newest["id"]))
        record: dict[str, Any] = json.loads(self.toy("logbook", "export", newest["id"]))
        self.assertEqual((record["test"]["kind"], len(record["trials"])), ("seesaw", 2))

        self.run_plan("slow", 500_000)
        compared = self.toy("compare", "fast.swing", "slow.swing", code=1)
        self.assertIn("REJECT send, 64 B, two steps: forwarded over a seesaw", compared)
        of = ("--rig", newest["rig"], "--frame-size", "64")
        self.assertIn("forwarded over a seesaw", self.toy("logbook", "trend", "seesaw-forwarded", *of))

        self.toy("report", "make", "slow.swing", "--to", "slow.html")
        self.toy("report", "make", "slow.swing", "--to", "slow.csv")
        page = (self.folder / "slow.html").read_text()
        self.assertIn("forwarded over a seesaw", page)
        rows = list(csv.DictReader((self.folder / "slow.csv").read_text().splitlines()))
        self.assertEqual({row["rhythm"] for row in rows if row["quantity"] == "seesaw-forwarded"}, {"two steps"})


class TheTables(unittest.TestCase):
    def test_every_kind_has_a_view_and_quantities_that_are_known(self) -> None:
        self.assertEqual(set(VIEWS), set(KINDS))
        for kind in KINDS.values():
            self.assertLessEqual(set(kind.quantities), set(QUANTITIES), kind.name)
            self.assertTrue(kind.headline, kind.name)
