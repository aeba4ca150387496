"""`harvok guide`: what it advises, what it asks, and how it leads through the commands."""

import importlib
import json
import shlex
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import typer

from harvok.cli.examples import EXAMPLES, examples_of
from harvok.cli.table import COMMANDS, GROUPS
from harvok.core.guidance import HANDS, QUESTIONS, AtHand, advise, usual_hand
from harvok.errors import UsageError
from tests.whole.program import ProgramTest


def parsed(line: str) -> None:
    """Reads a command line as the program would, and does nothing. Raises what it would refuse it with."""
    name, *rest = shlex.split(line)
    command: Any = typer.main.get_command(importlib.import_module(COMMANDS[name].module).app)
    while rest and rest[0] in getattr(command, "commands", {}):
        command, rest = command.commands[rest[0]], rest[1:]
    command.make_context(line, rest)


class Advised(unittest.TestCase):
    def test_every_command_of_every_way_is_one_that_the_program_takes(self) -> None:
        for question in QUESTIONS:
            for hand in HANDS:
                at = AtHand(hand, 1e9, "hall.example", ("eth1", "eth2"), "sw.device.toml", "first", ("asset=A-17",))
                try:
                    advice = advise(question, at)
                except UsageError as error:
                    self.assertIn("--have", error.hint)
                    continue
                self.assertTrue(advice.why and advice.afterwards and advice.steps)
                for step in advice.steps:
                    with self.subTest(question, hand=hand, words=step.words):
                        parsed(shlex.join(step.words))

    def test_what_is_at_hand_where_nobody_says(self) -> None:
        self.assertEqual(usual_hand("cable", [], ["hall:26470"]), "hosts")
        self.assertEqual(usual_hand("cable", ["eth1", "eth2"], []), "ports")
        self.assertEqual(usual_hand("capacity", ["eth1"], []), "host")
        self.assertEqual(usual_hand("slow", [], []), "hosts")

    def test_the_device_is_watched_where_it_can_be_asked(self) -> None:
        (_, first, *_) = advise("loss", AtHand("hosts", 1e9, "hall", device_file="sw.toml")).steps
        self.assertEqual(first.words[-2:], ("--device", "sw.toml"))


class Examples(unittest.TestCase):
    def test_every_command_has_two_that_the_program_takes(self) -> None:
        paths = []
        for name, row in COMMANDS.items():
            command: Any = typer.main.get_command(importlib.import_module(row.module).app)
            parts = getattr(command, "commands", {})
            paths += [f"{name} {part}" for part in parts] or [name]
        self.assertLessEqual(set(paths), set(EXAMPLES))
        for path, lines in EXAMPLES.items():
            for line in lines:
                with self.subTest(line):
                    self.assertTrue(line.startswith(path))
                    parsed(line)
        self.assertEqual(examples_of("no such command"), "")

    def test_the_help_has_every_command_in_one_group(self) -> None:
        grouped = [name for names in GROUPS.values() for name in names]
        self.assertEqual(sorted(grouped), sorted(COMMANDS))


class BenchPages(unittest.TestCase):
    """A screen each: wire this, type this, read this."""

    PAGES = sorted((Path(__file__).parents[2] / "docs").glob("bench-*.md"))

    def test_one_screen_in_three_parts(self) -> None:
        self.assertEqual(len(self.PAGES), 6)
        for page in self.PAGES:
            lines = page.read_text().splitlines()
            self.assertLessEqual(len(lines), 40, page.name)
            parts = [line for line in lines if line.startswith("## ")]
            self.assertEqual(parts, ["## Wire this", "## Type this", "## Read this"], page.name)

    def test_what_is_to_be_typed_is_what_the_program_takes(self) -> None:
        for page in self.PAGES:
            typed = [line.strip() for line in page.read_text().splitlines() if line.startswith("    harvok ")]
            self.assertGreaterEqual(len(typed), 5, page.name)
            for line in typed:
                with self.subTest(page.name, line=line):
                    parsed(line.removeprefix("harvok "))


class Guided(ProgramTest):
    def led(self, *words: str) -> str:
        """What a whole way prints, up to an ACCEPT."""
        process = self.start("guide", *words, "--yes")
        out, err = process.communicate(timeout=200)
        self.assertEqual(process.returncode, 0, out + err)
        return out


class PlansAtHand(Guided):
    def test_they_are_listed_with_their_last_verdict_and_run_by_name(self) -> None:
        self.assertIn("no plan is at hand here", self.inside("plan", "list").stdout)
        self.led("--decide", "capacity", "--have", "host", "--name", "hall")
        facts = ("--with", "asset=B-2", "--with", "serial=2")
        self.assertIn("ACCEPT", self.inside("run", "hall", *facts).stdout)
        (self.folder / "broken.toml").write_text("version = 1\n[[steps]]\nname = 5\n")
        (self.folder / "rig-of-others.toml").write_text("version = 1\n")
        hall, broken = json.loads(self.inside("plan", "list", "--json").stdout)
        self.assertEqual((hall["name"], hall["times_judged"], hall["last_verdict"]), ("hall", 2, "ACCEPT"))
        self.assertEqual((broken["name"], broken["times_judged"]), ("broken", 0))
        self.assertIn("broken.toml", broken["fault"])
        shown = self.inside("plan", "list", "--shared", str(self.folder)).stdout
        self.assertEqual((shown.count("rig hall"), shown.count("problem ")), (1, 1), "each file once")
        self.assertIn("Did you mean hall?", self.inside("run", "hal", code=2).stderr)


class Leading(Guided):
    def test_to_a_verdict_on_a_model(self) -> None:
        said = self.led("--decide", "capacity", "--have", "host", "--name", "try")
        for words in ("$ harvok rig new try-rig.toml", "[4 of 4] runs it", "ACCEPT: it does", "afterwards:"):
            self.assertIn(words, said)
        self.assertTrue((self.folder / "try.toml").exists())
        again = self.led("--decide", "capacity", "--have", "host", "--name", "try")
        self.assertEqual(again.count("is there already, and is used as it is"), 2)

    def test_where_two_plans_decide_the_worse_verdict_stands(self) -> None:
        way = ("guide", "--decide", "capacity", "--have", "ports", "--port", "eth1", "--port", "eth2", "--rated", "1G")
        for of_frames, of_flows, code, word in ((1, 0, 1, "REJECT"), (0, 3, 3, "RETEST"), (3, 1, 1, "REJECT")):
            codes = [0, 0, 0, 0, 0, of_frames, 0, of_flows]
            ended = [mock.Mock(returncode=one) for one in codes]
            with mock.patch("harvok.cli.commands.guide.subprocess.run", side_effect=ended):
                said = self.inside(*way, "--yes", code=code).stdout
            self.assertIn("$ harvok rig try first-rig.toml run first-flows.toml", said)
            self.assertIn(f"{word}: it does not" if code == 1 else f"{word}: nothing can be said yet", said)

    def test_what_it_asks_can_be_answered(self) -> None:
        hosts = ("--station", "hall.example", "--rated", "1G", "--only-say")
        with mock.patch("typer.prompt", side_effect=["9", "cable"]):
            said = self.inside("guide", *hosts).stdout
        self.assertIn("there is no '9' among them", said)
        self.assertIn("harvok plan new first.toml --job cable --rated 1G --station hall.example", said)
        with mock.patch("typer.prompt", side_effect=["2", "host"]):
            self.assertIn("a model", self.inside("guide", "--only-say").stdout)

    def test_as_json(self) -> None:
        said = self.inside("guide", "--decide", "slow", "--station", "hall.example", "--rated", "10G", "--json").stdout
        read = json.loads(said)
        self.assertEqual((read["question"], read["at_hand"]["station"]), ("slow", "hall.example"))
        self.assertIn(
            ["preflight", "hall.example", "--rated", "10G"], [step["words"] for step in read["advice"]["steps"]]
        )

    def test_it_ends_where_the_way_ends(self) -> None:
        asked = ("guide", "--decide", "cable", "--station", "hall.example", "--rated", "1G", "--yes")
        for codes, code, words in (
            ((4, 0, 0, 1), 1, "REJECT: it does not"),
            ((0, 0, 0, 3), 3, "RETEST: nothing can be said yet"),
            ((0, 2), 2, "the guide ends here; it goes on with: harvok plan new first.toml"),
            ((0, 0, 0, 4), 4, "the guide ends here; it goes on with: harvok run first.toml"),
        ):
            with mock.patch("subprocess.run", side_effect=[mock.Mock(returncode=one) for one in codes]):
                self.assertIn(words, self.inside(*asked, code=code).stdout)
        with mock.patch("typer.prompt", return_value="q"), mock.patch("subprocess.run") as run:
            self.assertIn("it goes on with: harvok preflight", self.inside(*asked[:-1]).stdout)
        run.assert_not_called()

    def test_what_cannot_be_decided_so(self) -> None:
        refused = self.inside("guide", "--decide", "slow", "--have", "host", code=2).stderr
        self.assertIn("It takes --have hosts", refused)
        with mock.patch("harvok.cli.commands.guide._free_ports", return_value={}):
            refused = self.inside("guide", "--decide", "cable", "--have", "ports", code=2).stderr
        self.assertIn("no two ports that are free", refused)
