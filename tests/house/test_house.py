"""Tests of the house itself: what loads when, what the docs promise, what every error can do."""

import ast
import importlib
import json
import pickle
import re
import subprocess
import sys
import tempfile
import unittest
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import typer

from harvok.cli.table import COMMANDS
from harvok.core.models.run import RunRecord
from harvok.core.quantities import QUANTITIES
from harvok.errors import HarvokError
from tests.whole.warm import WarmProcess

ROOT = Path(__file__).parents[2]
DOCS = "\n".join(path.read_text() for path in sorted((ROOT / "docs").glob("*.md")))
README = (ROOT / "README.md").read_text()
CONTRIBUTING = (ROOT / "CONTRIBUTING.md").read_text()
FIGURES = (ROOT / "docs" / "figures.md").read_text()


def loaded(code: str) -> set[str]:
    """The top-level names of all modules that running `code` loads."""
    text = f"import sys\n{code}\nprint(*{{name.partition('.')[0] for name in sys.modules}})"
    done = subprocess.run([sys.executable, "-c", text], capture_output=True, text=True, check=True)
    return set(done.stdout.splitlines()[-1].split())


def all_errors(kind: type[HarvokError] = HarvokError) -> Iterator[type[HarvokError]]:
    yield kind
    for below in kind.__subclasses__():
        yield from all_errors(below)


def options_of(command: Any) -> set[str]:
    """Every long option of a command and of the commands below it."""
    options = {option for parameter in command.params for option in parameter.opts if option.startswith("--")}
    return options.union(*(options_of(below) for below in getattr(command, "commands", {}).values()))


class Code(unittest.TestCase):
    TREES = {path: ast.parse(path.read_text()) for path in sorted((ROOT / "harvok").rglob("*.py"))}

    def test_no_two_classes_share_a_name(self) -> None:
        names = Counter(
            node.name for tree in self.TREES.values() for node in ast.walk(tree) if isinstance(node, ast.ClassDef)
        )
        self.assertEqual([name for name, count in names.items() if count > 1], [])

    def test_no_module_is_called_like_a_test(self) -> None:
        self.assertEqual([path for path in self.TREES if path.name.startswith("test")], [])

    def test_kinds_of_test_are_told_apart_by_their_tables(self) -> None:
        asked = [
            f"{path.name}: {line.strip()}"
            for path in self.TREES
            for line in path.read_text().splitlines()
            if re.search(r"isinstance\([^)]*(?:Test|Trial)\b", line)
        ]
        self.assertLessEqual(len(asked), 10, asked)


class StartUp(unittest.TestCase):
    HEAVY = frozenset(
        [
            "numpy",
            "scipy",
            "pandas",
            "sqlalchemy",
            "matplotlib",
            "fastapi",
            "httpcore2",
            "cryptography",
            "pyroute2",
            "uvicorn",
        ]
    )

    def run_help(self, *arguments: str) -> set[str]:
        return loaded(f"""
from contextlib import redirect_stdout
import io
sys.argv = {["harvok", *arguments]!r}
from harvok.cli.main import main
try:
    with redirect_stdout(io.StringIO()):
        main()
except SystemExit:
    pass""")

    def test_help_and_light_commands_load_nothing_heavy(self) -> None:
        for arguments in (["--help"], ["--version"], ["ceiling", "1G"], *([name, "--help"] for name in COMMANDS)):
            self.assertFalse(self.run_help(*arguments) & self.HEAVY, arguments)
        self.assertNotIn("rich", self.run_help("--help"))

    def test_the_logbook_needs_no_network_and_no_arithmetic(self) -> None:
        found = self.run_help("logbook", "list", "--logbook", "sqlite://")
        self.assertIn("sqlalchemy", found)
        self.assertFalse(found & (self.HEAVY - {"sqlalchemy"}))

    def test_workers_load_next_to_nothing(self) -> None:
        for worker in ("worker", "app.users_worker", "app.service_worker"):
            found = loaded(f"import harvok.traffic.{worker}")
            self.assertFalse(found & (self.HEAVY | {"typer", "pydantic", "rich", "psutil"}), worker)


class Errors(unittest.TestCase):
    def test_every_error_survives_pickling(self) -> None:
        for kind in all_errors():
            there = kind("what happened", "what to do")
            back = pickle.loads(pickle.dumps(there))
            self.assertIs(type(back), kind)
            self.assertEqual((str(back), back.hint, back.__dict__), (str(there), there.hint, there.__dict__))

    def test_references_are_stable_and_unique(self) -> None:
        references = [kind.reference for kind in all_errors()]
        self.assertEqual(len(references), len(set(references)))
        for kind in all_errors():
            self.assertRegex(kind.reference, r"^[a-z]+(-[a-z]+)*$")
            self.assertIn(kind.exit_code, (2, 4))


class Documents(unittest.TestCase):
    def test_every_command_is_in_the_guide_and_the_readme(self) -> None:
        for name in COMMANDS:
            self.assertIn(f"`harvok {name}", DOCS)
            self.assertIn(f"harvok {name}", README)

    def test_every_figure_is_explained_with_its_unit_and_no_other_is(self) -> None:
        explained: dict[str, str] = {}
        for keys, unit in re.findall(r"^\| ((?:`[a-z0-9-]+`(?:, )?)+) \| ([^|]+) \|", FIGURES, re.MULTILINE):
            explained |= dict.fromkeys(re.findall(r"`([^`]+)`", keys), unit.strip())
        self.assertEqual(explained, {key: quantity.unit for key, quantity in QUANTITIES.items()})
        for key, quantity in QUANTITIES.items():
            self.assertEqual(key, quantity.key)

    def test_every_option_in_the_docs_is_one(self) -> None:
        known = {"--help", "--version", "--install-completion", "--show-completion"}
        for row in COMMANDS.values():
            known |= options_of(typer.main.get_command(importlib.import_module(row.module).app))
        for page in (README, CONTRIBUTING, DOCS):
            for option in re.findall(r"(?<![\w-])--[a-z][a-z-]+", page):
                self.assertIn(option, known)

    def test_every_option_of_every_command_is_in_the_docs(self) -> None:
        for name in COMMANDS:
            with WarmProcess(
                ["harvok", name, "--help"], cwd=ROOT, env={"COLUMNS": "160", "PATH": "", "HOME": str(ROOT)}, text=True,
                stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            ) as process:  # fmt: skip
                shown, _ = process.communicate()
            self.assertEqual(process.returncode, 0)
            for option in set(re.findall(r"(?<!\S)--[a-z-]+", shown)) - {"--help"}:
                self.assertIn(f"`{option}", DOCS, f"{name} {option}")

    def test_every_reference_of_an_error_is_in_the_docs(self) -> None:
        for kind in all_errors():
            self.assertIn(f"`{kind.reference}`", DOCS)

    def test_the_site_of_the_docs_is_whole_and_fetches_nothing(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            command = [sys.executable, "-P", "-m", "mkdocs", "build", "--quiet", "--strict", "--site-dir", folder]
            done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True)
            self.assertEqual((done.returncode, done.stdout), (0, ""), done.stderr)
            pages = {page.stem for page in Path(folder).glob("*.html")}
            self.assertLessEqual({page.stem for page in (ROOT / "docs").glob("*.md")}, pages)
            for page in Path(folder).glob("*.html"):
                fetched = re.findall(r'<(?:script|link|img)[^>]+(?:src|href)="(https?:[^"]+)"', page.read_text())
                self.assertEqual(fetched, [], page.name)

    def test_the_published_schema_is_the_real_one(self) -> None:
        published = json.loads((ROOT / "docs" / "schema" / "run-2.json").read_text())
        self.assertEqual(published, RunRecord.model_json_schema(mode="serialization"))

    def test_links_and_pictures_are_there(self) -> None:
        for page in (ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md")), ROOT / "benchmarks" / "README.md"):
            for target in re.findall(r"\]\((?!https?:)([^)#]+)", page.read_text()):
                self.assertTrue((page.parent / target).exists(), f"{page.name}: {target}")
        for picture in (ROOT / "docs" / "screenshots").glob("*.png"):
            self.assertIn(picture.name, README)
