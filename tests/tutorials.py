"""Tutorials of docs/, run as a reader would type them.

A command stands in an indented block behind a dollar sign, and below it what it printed. `python -m tests.tutorials
FILE...` runs them and writes what they print now into the files; the tests hold both against each other, with numbers,
times and ids made alike.
"""

import os
import re
import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

_DOCS = Path(__file__).parent.parent / "docs"
_MARK = "==== harvok tutorial: that was command "
_HERE = re.compile(rf"\b{re.escape(socket.gethostname())}\b")
"""This computer is the observatory's."""
_RUN = re.compile(r"\b\d{8}-\d{6}-[a-z2-9]{4}\b")
_KEY = re.compile(r"\b[0-9a-f]{64}\b")
_NUMBER = re.compile(r"[-+]?\d[\d ]*(?:\.\d+)?(?: (?:[kMGnµm]?(?:b/s|B/s|B|s)|%|min|frames/s))?(?![\w-])")


@dataclass
class Step:
    """A command, and the lines that it printed."""

    command: str
    printed: list[str] = field(default_factory=list)


def tutorials() -> list[Path]:
    return sorted(_DOCS.glob("tutorial-*.md"))


def steps_of(page: Path) -> list[Step]:
    """The commands of a page in their order, each with what stands below it."""
    steps: list[Step] = []
    for line in page.read_text(encoding="utf-8").splitlines():
        if line.startswith("    $ "):
            steps.append(Step(line.removeprefix("    $ ")))
        elif line.startswith("    ") and steps:
            steps[-1].printed.append(line[4:])
    return steps


def run(steps: list[Step], environment: Mapping[str, str], folder: Path) -> list[Step]:
    """The same commands with what they print, typed into one shell."""
    script = ["exec 2>&1", "set -m"]
    for number, step in enumerate(steps):
        script += [f"echo '{_MARK}{number}'", step.command]
        if step.command.endswith("&"):
            script.append("for n in {1..100}; do grep -qs 'Ctrl-C' station.txt && break; sleep 0.1; done")
    done = subprocess.run(
        ["bash"], input="\n".join(script), env=environment, cwd=folder, text=True, stdout=subprocess.PIPE, timeout=900
    )
    made: list[Step] = []
    for line in done.stdout.splitlines():
        if line.startswith(_MARK):
            made.append(Step(steps[int(line.removeprefix(_MARK))].command))
        elif made:
            made[-1].printed.append(line.rstrip().replace(str(folder / "keys"), "~/.local/share/harvok/keys"))
    assert len(made) == len(steps), done.stdout
    assert "Traceback" not in done.stdout, done.stdout
    return made


def alike(lines: list[str]) -> list[str]:
    """Lines without what differs from run to run, and without empty ones."""
    masked = (_NUMBER.sub("#", _KEY.sub("KEY", _RUN.sub("RUN", _HERE.sub("dome", line)))) for line in lines)
    return [" ".join(line.split()) for line in masked if line.strip()]


def environment_for(folder: Path) -> dict[str, str]:
    """A user who has nothing yet, in a folder of his own."""
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    mine = {name: value for name, value in os.environ.items() if not name.startswith("HARVOK_")}
    return mine | {
        "PATH": path,
        "COLUMNS": "100",
        "TZ": "UTC",
        "XDG_DATA_HOME": str(folder / "data"),
        "HARVOK_LOGBOOK": str(folder / "book.sqlite"),
        "HARVOK_KEYS": str(folder / "keys"),
        "HARVOK_STATE_FOLDER": str(folder / "state"),
    }


def _rewritten(page: Path, made: list[Step]) -> Iterator[str]:
    """The page with what its commands print now."""
    number, text = 0, True
    for line in page.read_text(encoding="utf-8").splitlines():
        if line.startswith("    $ "):
            yield line
            printed = "\n".join(made[number].printed).strip("\n").splitlines()
            yield from (f"    {_HERE.sub('dome', one)}".rstrip() for one in printed)
            number, text = number + 1, False
        elif not line.startswith("    ") and (line or text):
            yield from [] if text else [""]
            yield line
            text = True


def main() -> None:
    for name in sys.argv[1:]:
        page = Path(name)
        with tempfile.TemporaryDirectory() as folder:
            made = run(steps_of(page), environment_for(Path(folder)), Path(folder))
        page.write_text("\n".join(_rewritten(page, made)) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
