"""What options are read with, and those that stand alone: quantities with their units, the logbook, JSON.

Options that several commands share are declared once, as bundles: see harvok.cli.bundles.
"""

import json
import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Annotated, Any, TypeVar

import typer

from harvok.cli import completing
from harvok.core.ends import DirectionChoice
from harvok.core.units import (
    format_rate,
    format_size,
    format_span,
    parse_duration_s,
    parse_rate_bps,
    parse_size_bytes,
)
from harvok.errors import BadQuantityError, UsageError

NumberT = TypeVar("NumberT", int, float)

DAY_S = 86400.0
WHAT, SEARCH, SOCKETS = "What to measure", "Trials and search", "Sockets, at both ends"
PATH, RUNS = "Reaching the station", "Runs and their labels"


def _within(
    parse: Callable[[str], NumberT], show: Callable[[float], str], low: float, high: float
) -> Callable[[Any], NumberT]:
    """A parser that also refuses what lies outside `low` to `high`, saying what it wants. Defaults are numbers."""

    def parser(text: Any) -> NumberT:
        if not isinstance(text, str):
            default: NumberT = text
            return default
        try:
            value = parse(text)
        except BadQuantityError as error:
            raise typer.BadParameter(error.message) from error
        if not low <= value <= high:
            raise typer.BadParameter(f"{show(value)} is outside {show(low)} to {show(high)}")
        return value

    return parser


def rate(low_bps: float = 1e3, high_bps: float = 10e12) -> Callable[[Any], float]:
    """Parses a rate such as 1G."""
    return _within(parse_rate_bps, format_rate, low_bps, high_bps)


def size(low_bytes: int, high_bytes: int) -> Callable[[Any], int]:
    """Parses a size such as 64k or 4Mi."""
    return _within(parse_size_bytes, format_size, low_bytes, high_bytes)


def duration(low_s: float, high_s: float) -> Callable[[Any], float]:
    """Parses a time such as 10s."""
    return _within(parse_duration_s, format_span, low_s, high_s)


def percent(text: Any) -> float:
    """Parses a percentage, with or without its sign, into a ratio."""
    if not isinstance(text, str):
        return float(text)
    number = text.strip().removesuffix("%").strip()
    try:
        value = float(number)
    except ValueError:
        raise typer.BadParameter(f"'{text}' is not a percentage such as 95 or 2.5%") from None
    if not 0 <= value <= 100:
        raise typer.BadParameter(f"{text} is outside 0 to 100 %")
    return value / 100


def time_option(low_s: float, high_s: float, text: str, panel: str | None = None, default: str | bool = True) -> Any:
    """An option that takes a time; `default` is how its default is shown."""
    return typer.Option(
        parser=duration(low_s, high_s), metavar="TIME", help=text, rich_help_panel=panel, show_default=default
    )


def rate_option(text: str, panel: str | None = None) -> Any:
    """An option that takes a rate."""
    return typer.Option(parser=rate(), metavar="RATE", help=text, rich_help_panel=panel)


NamedT = TypeVar("NamedT", bound=str)


def chosen(asked: Sequence[str], known: Sequence[NamedT], what: str) -> tuple[NamedT, ...]:
    """Those of the known ones that were asked for by name, or all of them, in their order. Raises UsageError for one
    that there is not."""
    unknown = [name for name in asked if name not in (*known, "all")]
    if unknown:
        raise UsageError(f"there is no {what} '{unknown[0]}'", f"There are {', '.join(known)}, or all of them: all.")
    return tuple(name for name in known if name in asked or "all" in asked)


def check_resolution(share: float) -> None:
    """Refuses a resolution that no search has. Raises BadParameter."""
    if not 0 < share <= 0.1:
        raise typer.BadParameter(
            "a search needs a resolution above 0, and of 10 % at most", param_hint="'--resolution'"
        )


def percent_option(text: str, panel: str | None = None, default: str | bool = True) -> Any:
    """An option that takes a percentage."""
    return typer.Option(parser=percent, metavar="PERCENT", help=text, rich_help_panel=panel, show_default=default)


def attributes(pairs: list[str]) -> dict[str, str]:
    """Reads repeated `--with key=value`. Raises BadParameter naming the pair that is wrong."""
    found: dict[str, str] = {}
    for pair in pairs:
        key, sign, value = pair.partition("=")
        if not sign or not key.strip():
            raise typer.BadParameter(f"'{pair}' is not of the form key=value", param_hint="'--with'")
        found[key.strip()] = value.strip()
    return found


def typed_command(argv: list[str]) -> list[str]:
    """What was typed; there is no secret in it (harvok.cli.secrets)."""
    handed_on = os.environ.get("HARVOK_TYPED_COMMAND")  # see harvok.runner.namespaced
    return [str(word) for word in json.loads(handed_on)] if handed_on else ["harvok", *argv[1:]]


def name_of_now(what: str) -> str:
    """What a group of series is called where nobody says: to the millisecond, since those on models take less than a
    second."""
    from harvok.clock import SYSTEM

    now = SYSTEM.utc()
    return f"{what}-{now:%Y%m%d-%H%M%S}-{now.microsecond // 1000:03}"


def default_logbook() -> str:
    """The logbook in the user's data folder."""
    from platformdirs import user_data_path

    return str(Path(user_data_path("harvok")) / "logbook.sqlite")


def check_picture(picture: Path | None, *more: str) -> None:
    """Raises UsageError, before anything is measured, for a picture that could not be drawn; `more` are endings that
    will do as well."""
    endings = (".png", ".svg", *more)
    if picture is not None and picture.suffix not in endings:
        wanted = f"{', '.join(endings[:-1])} nor {endings[-1]}"
        raise UsageError(f"{picture} is neither {wanted}", "Name it with one of these endings.")
    if picture is not None and not picture.absolute().parent.is_dir():
        raise UsageError(f"there is no folder {picture.parent}", "Create it first, or draw elsewhere.")


LogbookOption = Annotated[
    str,
    typer.Option(
        "--logbook",
        envvar="HARVOK_LOGBOOK",
        default_factory=default_logbook,
        show_default="in the user's data folder",
        metavar="PATH|URL",
        help="Where runs are kept: a SQLite file, or a database URL.",
    ),
]
JsonOption = Annotated[bool, typer.Option("--json", help="Print JSON alone on standard output.")]
Picture = Annotated[
    Path | None,
    typer.Option("--plot", rich_help_panel=RUNS, metavar="FILE", help="Draw the curve to this file, as PNG or SVG."),
]
WaitForOther = Annotated[float, time_option(0, DAY_S, "Wait up to this long for another test to end.", default="0s")]
PASSES_ON = {"allow_extra_args": True, "ignore_unknown_options": True, "allow_interspersed_args": False}
"""Context settings of a command that takes another command with its options as its last words."""
Station = Annotated[
    str,
    typer.Argument(
        metavar="STATION", autocompletion=completing.stations, help="host, host:port or [IPv6 address]:port"
    ),
]
StationOrRig = Annotated[
    str,
    typer.Argument(
        metavar="STATION|RIG",
        autocompletion=completing.stations_and_rigs,
        help="host, host:port or [IPv6 address]:port; or a rig file (.toml): a gateway, or two ports.",
    ),
]
RigFileArgument = Annotated[
    Path, typer.Argument(metavar="RIG", autocompletion=completing.rigs, help="A rig file; `harvok rig new` writes one.")
]
Direction = Annotated[
    DirectionChoice,
    typer.Option(rich_help_panel=WHAT, help="send: here to there; each: one after the other; both: at the same time."),
]
Dscp = Annotated[
    int | None, typer.Option(rich_help_panel=SOCKETS, min=0, max=63, help="Differentiated services code point.")
]
Overwrite = Annotated[bool, typer.Option("--overwrite", help="Replace a file that is there.")]
Rated = Annotated[
    float | None, rate_option("Speed that the equipment is sold for, such as 1G: sets the ceiling.", WHAT)
]


def print_json(value: object) -> None:
    """Writes what a command found as JSON, alone on standard output."""
    from pydantic_core import to_json

    typer.echo(to_json(value, indent=2).decode())
