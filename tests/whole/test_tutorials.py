"""The tutorials of docs/ as a reader types them: what they print is what stands there."""

import os
import shutil
import sys
import tempfile
import unittest
from pathlib import Path

from tests.second_try import BUSY
from tests.tutorials import Step, alike, environment_for, run, steps_of, tutorials
from tests.whole.program import Contention

AS_ROOT = {"tutorial-cable.md"}
"""Those that make hosts of this one."""
CAN = sys.platform == "linux" and os.geteuid() == 0 and all(map(shutil.which, ("ip", "tc", "nft")))


class Tutorials(unittest.TestCase):
    def test_on_models_they_print_what_stands_there(self) -> None:
        for page in tutorials():
            if page.name not in AS_ROOT:
                with self.subTest(page.name):
                    self.check(page)

    @unittest.skipUnless(CAN, "network namespaces need root on Linux, with iproute2 and nftables")
    def test_between_two_hosts_they_print_what_stands_there(self) -> None:
        for page in tutorials():
            if page.name in AS_ROOT:
                busy = Contention()
                try:
                    self.check(page)
                except AssertionError as error:
                    if busy.waited > 0.25:
                        self.skipTest(f"{BUSY}: {error}")
                    raise

    def check(self, page: Path) -> None:
        with tempfile.TemporaryDirectory() as name:
            written = steps_of(page)
            made = run(written, environment_for(Path(name)), Path(name))
        for there, now in zip(written, made, strict=True):
            self.assertEqual(alike(now.printed), alike(there.printed), f"{page.name}: {there.command}")


class Alike(unittest.TestCase):
    def test_numbers_ids_and_widths_make_no_difference_and_words_do(self) -> None:
        one = ["ACCEPT  health: 9.400 Mb/s   (run 20261127-054744-rdq9)", "", "5 × TCP"]
        other = ["ACCEPT  health: 10.59 kb/s (run 20251127-054744-zzzz)", "5 × TCP"]
        self.assertEqual(alike(one), alike(other))
        self.assertNotEqual(alike(one), alike([one[0].replace("ACCEPT", "REJECT"), one[2]]))
        self.assertEqual(alike(["key " + "0f" * 32]), ["key KEY"])

    def test_commands_and_what_they_print_are_told_apart(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            page = Path(name, "page.md")
            page.write_text("# Title\n\n    $ echo a; echo b\n    a\n    b\n\nText\n\n    $ false\n")
            steps = steps_of(page)
            self.assertEqual(steps, [Step("echo a; echo b", ["a", "b"]), Step("false")])
            self.assertEqual(run(steps, dict(os.environ), Path(name)), steps)
