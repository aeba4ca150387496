import contextlib
import io
import os
import unittest
from unittest import mock

import typer

from harvok.cli import main as program
from harvok.cli.table import COMMANDS
from harvok.errors import UsageError


class Ends(unittest.TestCase):
    def end(self, fault: BaseException) -> tuple[int, str]:
        """Exit code and standard error of a program whose command raises `fault`."""
        said = io.StringIO()
        with (
            mock.patch.object(program, "app", side_effect=fault),
            contextlib.redirect_stderr(said),
            self.assertRaises(SystemExit) as end,
        ):
            program.main()
        return int(end.exception.code or 0), said.getvalue()

    def test_an_error_is_a_sentence_and_what_to_do(self) -> None:
        code, said = self.end(UsageError("no [such] lead", "Look in the box."))
        self.assertEqual((code, said), (2, "error no [such] lead\n  try Look in the box.\n"))

    def test_a_defect_of_ours_is_no_traceback_unless_asked_for(self) -> None:
        code, said = self.end(KeyError("lead"))
        self.assertEqual(code, 4)
        self.assertIn("Harvok itself failed: KeyError('lead')", said)
        asked = mock.patch.dict(os.environ, HARVOK_TRACE="1")
        broken = mock.patch.object(program, "app", side_effect=KeyError)
        with asked, broken, self.assertRaises(KeyError):
            program.main()

    def test_every_command_loads_and_has_a_summary(self) -> None:
        for name, row in COMMANDS.items():
            command = program.load_command(name)
            self.assertEqual(command.name, name)
            self.assertTrue(row.summary.endswith("."))

    def test_keyboard_and_unanswered_questions(self) -> None:
        group = typer.main.get_command(program.app)
        for fault, words in ((KeyboardInterrupt(), "at the keyboard"), (typer.Abort(), "not answered")):
            with (
                mock.patch.object(program, "load_command", side_effect=fault),
                self.assertRaisesRegex(Exception, words),
            ):
                group.main(["ceiling", "1G"], standalone_mode=False)
