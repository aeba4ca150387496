"""Option types that several commands share: quantities with their units, names, and where the logbook is."""

import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, TypeVar

import typer

from harvok.core.units import (
    format_rate,
    format_size,
    format_span,
    parse_duration_s,
    parse_rate_bps,
    parse_size_bytes,
)
from harvok.errors import BadQuantityError

NumberT = TypeVar("NumberT", int, float)


def _within(
    parse: Callable[[str], NumberT], show: Callable[[float], str], low: float, high: float
) -> Callable[[str], NumberT]:
    """A parser that also refuses what lies outside `low` to `high`, saying what it wants."""

    def parser(text: str) -> NumberT:
        try:
            value = parse(text)
        except BadQuantityError as error:
            raise typer.BadParameter(error.message) from error
        if not low <= value <= high:
            raise typer.BadParameter(f"{show(value)} is outside {show(low)} to {show(high)}")
        return value

    return parser


def rate(low_bps: float = 1e3, high_bps: float = 10e12) -> Callable[[str], float]:
    """Parses a rate such as 1G."""
    return _within(parse_rate_bps, format_rate, low_bps, high_bps)


def size(low_bytes: int, high_bytes: int) -> Callable[[str], int]:
    """Parses a size such as 64k or 4Mi."""
    return _within(parse_size_bytes, format_size, low_bytes, high_bytes)


def duration(low_s: float, high_s: float) -> Callable[[str], float]:
    """Parses a time such as 10s."""
    return _within(parse_duration_s, format_span, low_s, high_s)


def percent(text: str) -> float:
    """Parses a percentage, with or without its sign, into a ratio."""
    number = text.strip().removesuffix("%").strip()
    try:
        value = float(number)
    except ValueError:
        raise typer.BadParameter(f"'{text}' is not a percentage such as 95 or 2.5%") from None
    if not 0 <= value <= 100:
        raise typer.BadParameter(f"{text} is outside 0 to 100 %")
    return value / 100


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
    """What was typed, with token and key left out: records go to other people."""
    handed_on = os.environ.get("HARVOK_TYPED_COMMAND")  # see harvok.runner.namespaced
    if handed_on:
        return [str(word) for word in json.loads(handed_on)]
    typed = ["harvok", *argv[1:]]
    for number, word in enumerate(typed):
        if word.startswith("--token="):
            typed[number] = "--token=…"
        elif word.startswith("--stamp-key="):
            typed[number] = "--stamp-key=…"
        elif number and typed[number - 1] in ("--token", "--stamp-key"):
            typed[number] = "…"
    return typed


def default_logbook() -> str:
    """The logbook in the user's data folder."""
    from platformdirs import user_data_path

    return str(Path(user_data_path("harvok")) / "logbook.sqlite")


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
