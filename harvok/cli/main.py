"""The entry point: loads the command that was asked for, and turns errors into a sentence and an exit code.

Exit codes: 0 done or ACCEPT, 1 REJECT, 2 wrong usage, 3 RETEST, 4 could not measure.
"""

import importlib
import os
import sys
from collections.abc import Callable
from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from harvok import __version__
from harvok.cli.entry import command_begins, command_ended, was_interrupted
from harvok.cli.secrets import refuse_secrets
from harvok.cli.table import COMMANDS, GROUPS
from harvok.errors import BrokenOffError, HarvokError, UsageError
from harvok.host.state import CHANGED_FEATURES, LENT_PORTS, has_state

_EPILOG = "Exit codes: 0 done or ACCEPT, 1 REJECT, 2 wrong usage, 3 RETEST, 4 could not measure."


class LazyGroup(TyperGroup):
    """Knows every command by name and summary, and loads the module of the one that runs."""

    def __init__(self, **attributes: Any) -> None:
        super().__init__(**attributes)
        for name, row in COMMANDS.items():
            self.add_command(_placeholder(name, row.summary), name)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """In groups, in the order of the work."""
        for title, names in GROUPS.items():
            with formatter.section(title):
                formatter.write_dl([(name, COMMANDS[name].summary) for name in names])

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        name, command, rest = super().resolve_command(ctx, args)
        if name in COMMANDS:
            command = load_command(name)
        return name, command, rest

    def invoke(self, ctx: Any) -> Any:
        command_begins()
        try:
            return super().invoke(ctx)
        except KeyboardInterrupt:
            raise BrokenOffError("broken off at the keyboard", "Nothing was changed.") from None
        except typer.Abort:
            raise UsageError("a question was asked and not answered", "Give the answer as an option.") from None
        finally:
            command_ended()


def _placeholder(name: str, summary: str) -> Any:
    """Stands in for a command in help and completion, at no cost."""
    stand_in = typer.Typer(add_completion=False)
    stand_in.command(name, help=summary)(lambda: None)
    return typer.main.get_command(stand_in)


def load_command(name: str) -> Any:
    """A command with its parts; with its examples where its help was asked for."""
    command = typer.main.get_command(importlib.import_module(COMMANDS[name].module).app)
    command.name = name
    if _HELP_WORDS & set(sys.argv):
        from harvok.cli.examples import examples_of

        _add_examples(command, name, examples_of)
    return command


_HELP_WORDS = {"-h", "--help"}


def _add_examples(command: Any, path: str, examples_of: Callable[[str], str]) -> None:
    """Puts its examples at the end of each command's help."""
    command.epilog = "\n\n".join(filter(None, [examples_of(path), command.epilog]))
    for name, part in getattr(command, "commands", {}).items():
        _add_examples(part, f"{path} {name}", examples_of)


app = typer.Typer(
    cls=LazyGroup,
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog=_EPILOG,
)


def _print_version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"harvok {__version__}")
        raise typer.Exit


@app.callback()
def harvok(
    version: Annotated[  # noqa: ARG001
        bool, typer.Option("--version", callback=_print_version, is_eager=True, help="Print the version and exit.")
    ] = False,
) -> None:
    """Decide, with evidence, whether a link, NIC, cable, switch or router carries what it is rated for.

    Start with `harvok demo`; then `harvok station` at the far end and `harvok tcp STATION` here.
    """
    if has_state(LENT_PORTS):
        _restore_ports()
    if has_state(CHANGED_FEATURES):
        _restore_features()


def _restore_features() -> None:
    """Tidies up after an impairment that was killed, and says so."""
    from harvok.cli.render.console import print_note
    from harvok.runner.impair import restore_all_features

    ports = restore_all_features()
    names = " and ".join(ports)
    if ports:
        print_note(f"put offloads of {names} back as before a killed impairment")


def _restore_ports() -> None:
    """Tidies up after a test that was killed while it had ports of this host, and says so."""
    from harvok.cli.render.console import print_note
    from harvok.runner.lending import restore_ports

    back, gone = restore_ports()
    if back:
        print_note(f"put {' and '.join(back)} back as before a test that was killed")
    if gone:
        print_note(f"{' and '.join(gone)} went with a test that was killed, being virtual")


def main() -> None:
    """Runs the program. Every error that Harvok raises on purpose becomes one sentence and what to do about it."""
    try:
        refuse_secrets(sys.argv[1:])
        app(prog_name="harvok")
    except HarvokError as error:
        _show(error)
        sys.exit(error.exit_code)
    except Exception as error:
        if os.environ.get("HARVOK_TRACE"):
            raise
        _show(_explained(error))
        sys.exit(HarvokError.exit_code)


def _explained(error: Exception) -> HarvokError:
    """A signal may come between any two steps; what does not fit together after it was broken off as well."""
    if was_interrupted():
        return BrokenOffError("broken off at the keyboard", "What was measured until then is in the logbook.")
    return HarvokError(f"Harvok itself failed: {error!r}", "Set HARVOK_TRACE=1 to see where, and report it.")


def _show(error: HarvokError) -> None:
    from harvok.cli.render.console import headed, stderr

    console = stderr()
    console.print(headed("error", "bold red", error.message), soft_wrap=True)
    console.print(headed("  try", "bold", error.hint), soft_wrap=True)
