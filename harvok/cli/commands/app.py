"""`harvok app`: users of applications, through a device to a station's service and back."""

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal

import typer

from harvok.cli import completing
from harvok.cli.across import model_or_across
from harvok.cli.bundles import (
    LabelOptions,
    RecordOptions,
    RepeatOptions,
    SentOptions,
    StationOptions,
    bundled,
    request_of,
)
from harvok.cli.measure import draw_last, leave_with_verdict, measure
from harvok.cli.options import DAY_S, WHAT, Picture, Rated, StationOrRig, check_picture, time_option
from harvok.core.procedures.app import AppTest
from harvok.core.procedures.beside import Beside
from harvok.core.trials.app import MAX_ARRIVALS_PER_S, MAX_USERS, Level
from harvok.errors import BadQuantityError

app = typer.Typer(add_completion=False)

_USUAL_USERS = 64
_ARRIVALS = re.compile(r"(\d+(?:\.\d+)?)(/s)?")


@dataclass(frozen=True, slots=True)
class UserOptions:
    """Who is there, when, and what they do."""

    mix: Annotated[
        str,
        typer.Option(
            rich_help_panel=WHAT,
            metavar="MIX",
            autocompletion=completing.mixes,
            help="What users do: a mix that ships (`harvok mix list`), or a file.",
        ),
    ] = "web"
    direction: Annotated[
        Literal["send", "receive", "both"],
        typer.Option(
            rich_help_panel=WHAT,
            help="Where users are: send: here; receive: at the station; both: at both ends at once.",
        ),
    ] = "send"
    users: Annotated[
        int | None,
        typer.Option(rich_help_panel=WHAT, min=1, max=MAX_USERS, show_default="64", help="Users who stay."),
    ] = None
    levels: Annotated[
        str | None,
        typer.Option(
            rich_help_panel=WHAT,
            metavar="USERS/TIME,…",
            help="Several levels of users, one after the other, such as 64/30s,512/60s,128/60s.",
        ),
    ] = None
    arrivals: Annotated[
        str | None,
        typer.Option(
            rich_help_panel=WHAT,
            metavar="RATE,…",
            help="Users who arrive, go through their application once and leave, such as 2000/s; several one after the "
            "other.",
        ),
    ] = None
    ramp: Annotated[
        float, time_option(0, DAY_S, "Time to reach each level, and to go down at the end.", WHAT, default="5s")
    ] = 5.0
    hold: Annotated[
        float, time_option(0.5, DAY_S, "How long --users or --arrivals are sustained.", WHAT, default="30s")
    ] = 30.0
    interval: Annotated[float, time_option(0.1, 60, "Length of each reporting interval.", WHAT, default="1s")] = 1.0
    timeout: Annotated[
        float, time_option(0.1, 600, "What has no answer after this has failed.", WHAT, default="10s")
    ] = 10.0
    max_users: Annotated[
        int,
        typer.Option(
            rich_help_panel=WHAT, min=1, max=MAX_USERS, help="Of --arrivals: how many may be there who have not left."
        ),
    ] = 10_000


@dataclass(frozen=True, slots=True)
class BesideOptions:
    """What goes on beside the users."""

    with_services: Annotated[
        Path | None,
        typer.Option(
            rich_help_panel=WHAT,
            metavar="FILE",
            help="UDP services that flow both ways meanwhile, at their committed rates, and are held to their limits.",
        ),
    ] = None
    with_policy: Annotated[
        Path | None,
        typer.Option(
            rich_help_panel=WHAT,
            metavar="FILE",
            help="Try meanwhile what the device must let through and what it must block (docs/policies.md).",
        ),
    ] = None
    with_delay: Annotated[
        bool,
        typer.Option(
            "--with-delay", rich_help_panel=WHAT, help="Measure two-way delay meanwhile, fifty times a second."
        ),
    ] = False


@app.command(
    name="app",
    epilog="Exit codes: 0 measured, or all limits ACCEPT; 1 REJECT; 2 wrong usage; 3 RETEST; 4 could not measure.",
)
@bundled
def run_app(
    place: StationOrRig,
    users: UserOptions,
    meanwhile: BesideOptions,
    reaching: StationOptions,
    sending: SentOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions,
    keeping: RecordOptions,
    rated: Rated = None,
    plot: Picture = None,
) -> None:
    """Have users of applications talk to a station through a device.

    Ramps users up, sustains them, ramps them down (RFC 9411). Shows
    throughput at L7 and L2, connections and transactions per second,
    time to first byte and response time, and why transactions failed.
    Figures come from the time in which a level was sustained.
    """
    check_picture(plot)
    test = _test(users, meanwhile)
    if plot is not None and len(test.trial.levels) < 2:
        raise typer.BadParameter("a curve over users needs several --levels or --arrivals", param_hint="'--plot'")
    if place.endswith(".toml") and sending.from_:
        raise typer.BadParameter("a rig has its near end on this host", param_hint="'--from'")
    model = model_or_across("app", place, keeping.logbook, repeating.wait)
    where = model or reaching.settings(place, rated)
    sent = sending.sent(reaching, repeating)
    records = measure(request_of(where, test, keeping, labelling, repeating, sent), keeping)
    draw_last(records, plot)
    leave_with_verdict(records)


def _test(users: UserOptions, meanwhile: BesideOptions) -> AppTest:
    """The test that was asked for. Raises BadParameter where options contradict each other, MixError,
    ServicesFileError, and PolicyError."""
    from harvok.core.ends import PORT_STREAMS
    from harvok.core.trials.app import AppTrial
    from harvok.rigs.mix_files import read_mix
    from harvok.rigs.policy_files import read_policy
    from harvok.runner.services import read_services

    levels = _levels(users)
    trial = AppTrial(
        read_mix(users.mix).build(),
        PORT_STREAMS[users.direction],
        levels,
        users.ramp,
        users.interval,
        users.timeout,
        users.max_users,
    )
    services = read_services(meanwhile.with_services) if meanwhile.with_services else ()
    policy = read_policy(meanwhile.with_policy).build() if meanwhile.with_policy else ()
    return AppTest(trial, Beside(services, meanwhile.with_delay, policy))


def _levels(users: UserOptions) -> tuple[Level, ...]:
    asked = [name for name in ("users", "levels", "arrivals") if getattr(users, name) is not None]
    if len(asked) > 1:
        raise typer.BadParameter(f"give one of --{' and --'.join(asked)}", param_hint=f"'--{asked[1]}'")
    if users.levels is not None:
        return tuple(_level(text, users.ramp) for text in users.levels.split(","))
    if users.arrivals is not None:
        rates = [_arrivals(text.strip()) for text in users.arrivals.split(",")]
        return tuple(Level(users.hold, users.ramp, arrivals_per_s=rate) for rate in rates)
    return (Level(users.hold, users.ramp, users.users or _USUAL_USERS),)


def _level(text: str, ramp_s: float) -> Level:
    from harvok.core.kinds.app import parse_level

    try:
        return parse_level(text, ramp_s)
    except BadQuantityError as error:
        raise typer.BadParameter(error.message, param_hint="'--levels'") from error


def _arrivals(text: str) -> float:
    match = _ARRIVALS.fullmatch(text)
    if not match or not 0.01 <= float(match[1]) <= MAX_ARRIVALS_PER_S:
        raise typer.BadParameter(f"'{text}' is not a number of arrivals such as 2000/s", param_hint="'--arrivals'")
    return float(match[1])
