"""Manual pages and completion scripts, from the commands themselves: `python -m harvok.cli.manual share` writes them.

They come with the package, in share/man; a test holds them to what the program says of itself.
"""

import re
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import typer
from typer.testing import CliRunner

from harvok import __version__
from harvok.cli.examples import EXAMPLES
from harvok.cli.main import app, load_command
from harvok.cli.table import COMMANDS, GROUPS

_TYPE = re.compile(r" <[^>]*>")
"""What Typer says of the type of an argument, which its name says already."""
_DOCS = "The pages of the documentation come with the package; `harvok explain WORD` looks words up in them."
_ENVIRONMENT = {
    "HARVOK_TOKEN": "the token of the station, instead of --token-file or of typing it",
    "HARVOK_CODE": "the station's pairing code, for the first time",
    "HARVOK_LOGBOOK": "where runs are kept: a SQLite file, or a database URL",
    "HARVOK_PLANS": "folders of plans besides, separated by colons",
    "HARVOK_KEYS": "where the keys of this user are",
    "HARVOK_STATE_FOLDER": "where locks and control sockets are",
    "HARVOK_TRACE": "1 shows where Harvok itself failed",
}


def pages() -> dict[str, str]:
    """Every page by the name of its file, as roff (man(7))."""
    made = {"harvok.1": "\n".join(_main_page()) + "\n"}
    for name, row in COMMANDS.items():
        made[f"harvok-{name}.1"] = "\n".join(_command_page(load_command(name), name, row.summary)) + "\n"
    return made


def _main_page() -> Iterator[str]:
    command: Any = typer.main.get_command(app)
    yield from _head("harvok", "decide whether a link, NIC, cable, switch or router carries what it is rated for")
    yield ".SH SYNOPSIS\n.B harvok\n.I COMMAND\n.RI [ OPTION ]..."
    yield ".SH DESCRIPTION"
    yield from _paragraphs(command.help or "")
    for title, names in GROUPS.items():
        yield f".SS {title}"
        for name in names:
            yield f".TP\n.BR harvok\\-{name} (1)\n{_text(COMMANDS[name].summary)}"
    yield ".SH OPTIONS"
    yield from _options(command)
    yield ".SH EXIT STATUS"
    yield _text(command.epilog or "")
    yield ".SH ENVIRONMENT"
    for name, words in _ENVIRONMENT.items():
        yield f".TP\n.B {name}\n{_text(words)}"
    yield f".SH SEE ALSO\n{_text(_DOCS)}"


def _command_page(command: Any, name: str, summary: str) -> Iterator[str]:
    yield from _head(f"harvok-{name}", summary[0].lower() + summary[1:].rstrip("."))
    parts = dict(sorted(getattr(command, "commands", {}).items()))
    yield ".SH SYNOPSIS"
    for path, part in ({f"{name} {key}": one for key, one in parts.items()} or {name: command}).items():
        yield f".B harvok {_text(path)}\n{_usage(part)}\n.br"
    if not parts:
        yield from _described(command, name, ".SH")
    else:
        yield ".SH DESCRIPTION"
        yield from _paragraphs(command.help or summary)
        for key, part in parts.items():
            yield f".SH {key.upper()}"
            yield from _described(part, f"{name} {key}", ".SS")
    yield ".SH SEE ALSO\n.BR harvok (1)"


def _described(command: Any, path: str, heading: str) -> Iterator[str]:
    """What a command does, its arguments and options, two examples, its exit codes."""
    if heading == ".SH":
        yield ".SH DESCRIPTION"
    yield from _paragraphs(command.help or "")
    yield f"{heading} Arguments and options" if heading == ".SS" else ".SH OPTIONS"
    yield from _options(command)
    if path in EXAMPLES:
        yield f"{heading} {'Examples' if heading == '.SS' else 'EXAMPLES'}"
        for example in EXAMPLES[path]:
            yield f".PP\n.nf\n    harvok {_text(example)}\n.fi"
    if command.epilog:
        yield ".PP"
        yield _text(command.epilog)


def _options(command: Any) -> Iterator[str]:
    """Arguments and options, those of one panel of the help together."""
    context = typer.Context(command, info_name=command.name)
    panels: dict[str, list[tuple[str, str]]] = {}
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context)
        if record and parameter.name != "help":
            panels.setdefault(getattr(parameter, "rich_help_panel", None) or "", []).append(record)
    for panel, records in panels.items():
        if panel:
            yield f".PP\n.I {_text(panel)}"
        for names, words in records:
            yield f".TP\n.B {_text(_TYPE.sub('', names))}\n{_text(' '.join(words.split()))}"


def _usage(command: Any) -> str:
    """The arguments, those in brackets that may be left out, behind the options."""
    words = ["[OPTION]..."]
    for parameter in command.params:
        if parameter.param_type_name == "argument":
            name = parameter.metavar or parameter.name.upper()
            words.append(name if parameter.required or name.startswith("[") else f"[{name}]")
    return _text(" ".join(words))


def _head(name: str, about: str) -> Iterator[str]:
    yield f'.TH {name.upper()} 1 "" "Harvok {__version__}" "Harvok"'
    yield f".SH NAME\n{_text(name)} \\- {_text(about)}"


def _paragraphs(text: str) -> Iterator[str]:
    for paragraph in text.split("\n\n"):
        yield f".PP\n{_text(' '.join(paragraph.split()))}"


def _text(text: str) -> str:
    """Text as roff shows it unchanged; what stands in backticks is bold."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    escaped = re.sub(r"`([^`]*)`", r"\\fB\1\\fR", escaped)
    return re.sub(r"(?m)^([.'])", r"\\&\1", escaped)


def completions() -> dict[str, str]:
    """The script of each shell by where it stands in share."""
    files = {"bash": "harvok", "zsh": "_harvok", "fish": "harvok.fish"}
    asked: Any = {"prog_name": "harvok"}
    return {
        file: CliRunner().invoke(app, env={"_HARVOK_COMPLETE": f"source_{shell}"}, **asked).stdout
        for shell, file in files.items()
    }


def shared_files() -> dict[str, str]:
    """Everything that comes with the package in share, by its path there."""
    manual = {f"man/man1/{name}": text for name, text in pages().items()}
    return manual | {f"completions/{name}": text for name, text in completions().items()}


if __name__ == "__main__":
    for path, text in shared_files().items():
        file = Path(sys.argv[1], path)
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text, encoding="utf-8")
