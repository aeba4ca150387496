"""`harvok guide`: asks what is to be decided and what is at hand, and leads to a verdict, command by command."""

import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NoReturn, TypeVar

import typer

from harvok.cli.options import JsonOption, print_json, rate
from harvok.cli.verdicts import worst_of
from harvok.core.guidance import HANDS, QUESTIONS, AtHand, GuideStep, Hand, Question
from harvok.errors import UsageError

if TYPE_CHECKING:
    from rich.console import Console

    from harvok.core.guidance import Guidance

app = typer.Typer(add_completion=False)
KeyT = TypeVar("KeyT", Question, Hand)

_VERDICTS = {
    0: "ACCEPT: it does what was asked of it, with the evidence above.",
    1: "REJECT: it does not; the reasons stand above, each with its figure and its limit.",
    3: "RETEST: nothing can be said yet; the reasons stand above. Mend them, and give the same command again.",
}
_FREE_KINDS = ("physical", "veth")
_MODEL_FACTS = ("asset=model", "serial=1")


@app.command(
    epilog="Exit codes: that of the verdict, 0 ACCEPT, 1 REJECT, 3 RETEST; 2 wrong usage, 4 could not measure."
)
def guide(
    decide: Annotated[
        Question | None,
        typer.Option(show_default="asked for", help="; ".join(f"{k}: {v}" for k, v in QUESTIONS.items())),
    ] = None,
    have: Annotated[
        Hand | None,
        typer.Option(show_default="found out, and asked for", help="; ".join(f"{k}: {v}" for k, v in HANDS.items())),
    ] = None,
    station: Annotated[str | None, typer.Option(metavar="STATION", help="The far end, of two hosts.")] = None,
    port: Annotated[list[str] | None, typer.Option(metavar="PORT", help="A free port of this host; give two.")] = None,
    rated: Annotated[
        float | None,
        typer.Option(parser=rate(), metavar="RATE", show_default="the speed of the port", help="Speed it is sold for."),
    ] = None,
    device: Annotated[
        Path | None, typer.Option(metavar="FILE", help="How the device answers SNMP; `harvok device new` writes it.")
    ] = None,
    name: Annotated[str, typer.Option(metavar="NAME", help="What files and series are called.")] = "first",
    with_: Annotated[
        list[str] | None,
        typer.Option("--with", metavar="KEY=VALUE", help="A fact about the unit, such as asset=A-17. Repeatable."),
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", help="Do not wait before each command.")] = False,
    only_say: Annotated[bool, typer.Option("--only-say", help="Print the commands, and run none.")] = False,
    json: JsonOption = False,
) -> None:
    """Ask what is to be decided, and lead to a verdict.

    Looks for itself what this host has, proposes the way with its
    commands, runs them one by one with what is to be done before each,
    and says what the verdict means. Each command is printed, so that next
    time it can be typed.
    """
    from harvok.core.guidance import advise, usual_hand

    asked = decide or _choose("What is to be decided?", QUESTIONS, "cable")
    hand = have or ("hosts" if station else "ports" if port else None)
    ports = _free_ports() if hand in (None, "ports") else {}
    stations = _known_stations() if not station and hand in (None, "hosts") else []
    if not hand:
        hand = _choose("What is at hand?", HANDS, usual_hand(asked, list(ports), stations))
    facts = tuple(with_ or (_MODEL_FACTS if hand == "host" else ()))
    found = _at_hand(hand, station, port or [], rated, ports, stations)
    at = replace(found, device_file=str(device) if device else "", name=name, facts=facts)
    advice = advise(asked, at)
    if json:
        print_json({"question": asked, "at_hand": at, "advice": advice})
        return
    _lead(asked, at, advice, yes, only_say)


def _choose(question: str, choices: dict[KeyT, str], usual: KeyT) -> KeyT:
    """Asks for one of some, by its number or its name."""
    names = list(choices)
    typer.echo(question)
    for number, (key, words) in enumerate(choices.items(), 1):
        typer.echo(f"  {number}  {key}: {words}")
    while True:
        said = str(typer.prompt("Number or word", default=usual)).strip()
        if said.isdigit() and 1 <= int(said) <= len(names):
            return names[int(said) - 1]
        if said in choices:
            return said
        typer.echo(f"there is no '{said}' among them")


def _at_hand(
    hand: Hand,
    station: str | None,
    given: list[str],
    rated: float | None,
    ports: dict[str, float | None],
    stations: list[str],
) -> AtHand:
    """What there is, with what was found out or asked for. Raises UsageError."""
    far, pair, speed = "", ("", ""), None
    if hand == "hosts":
        far = station or str(typer.prompt("Station at the far end", default=stations[0] if stations else None))
        speed = _speed_towards(far)
    elif hand == "ports":
        free = [*given, *(one for one in ports if one not in given)]
        if len(free) < 2:
            raise UsageError(
                "this host has no two ports that are free: without addresses, and not that of its default route",
                "Name them with --port, twice; `harvok ports` lists what there is.",
            )
        pair = free[0], free[1]
        speed = ports.get(pair[0])
    elif hand == "host":
        speed = 1e9
    bps = rated or speed or float(typer.prompt("Rated speed, such as 1G", value_proc=rate()))
    return AtHand(hand, bps, far, pair)


def _free_ports() -> dict[str, float | None]:
    """Ports of this host that nothing uses, with the speed that each has now."""
    from harvok.host.interfaces import port_state
    from harvok.host.ports import all_ports

    free = [one for one in all_ports() if not one.addresses and one.kind in _FREE_KINDS]
    states = {one.name: port_state(one.name) for one in free}
    return {
        one.name: one.negotiated_bps or one.highest_bps
        for one in free
        if (state := states[one.name]) and not state.default_route
    }


def _known_stations() -> list[str]:
    from harvok.station.keys import own_keys

    return [one.name for one in own_keys().stations()]


def _speed_towards(station: str) -> float | None:
    """Of this host's interface towards a station; None where nobody knows it by that name."""
    import socket

    from harvok.errors import HarvokError
    from harvok.host.interfaces import interface_towards
    from harvok.station.address import parse_station

    try:
        host, _ = parse_station(station)
        address = socket.getaddrinfo(host, None)[0][4][0]
    except (OSError, HarvokError):
        return None
    facts = interface_towards(str(address))
    return facts.negotiated_bps if facts else None


def _lead(question: Question, at: AtHand, advice: "Guidance", yes: bool, only_say: bool) -> None:
    from harvok.cli.render.console import stdout

    console = stdout()
    console.print(f"{QUESTIONS[question]} {advice.why}", soft_wrap=True)
    console.print()
    _draw(console, at, "the cable" if question == "cable" else "the device")
    for number, step in enumerate(advice.steps, 1):
        console.print(f"{number}. {step.purpose}", soft_wrap=True)
        if step.before:
            console.print(f"   first: {step.before}", soft_wrap=True)
        console.print(f"   $ {_typed(step)}", soft_wrap=True, highlight=False)
    console.print()
    steps = () if only_say else advice.steps
    codes = [_run(console, number, len(steps), step, yes) for number, step in enumerate(steps, 1)]
    code = worst_of(codes)  # where several steps decide, one that is missed is not made good by another
    if not only_say and advice.steps[-1].decides:
        console.print(_VERDICTS[code], soft_wrap=True)
    console.print(f"afterwards: {advice.afterwards}", soft_wrap=True)
    raise typer.Exit(code)


def _draw(console: "Console", at: AtHand, what: str) -> None:
    from harvok.core.units import format_speed
    from harvok.reports.rig_drawing import between

    ends = {"hosts": ("this host", at.station), "ports": at.ports, "host": ("port1", "port2")}[at.hand]
    middle = "a model" if at.hand == "host" else what
    for line in between(ends, middle, format_speed(at.rated_bps)):
        console.print(line, highlight=False, soft_wrap=True)
    console.print()


def _run(console: "Console", number: int, of: int, step: GuideStep, yes: bool) -> int:
    """Runs one command, and returns the code of a verdict. Ends the program where the way cannot go on."""
    console.print(f"[{number} of {of}] {step.purpose}", style="bold", markup=False, soft_wrap=True)
    if step.before:
        console.print(f"first: {step.before}", soft_wrap=True)
    console.print(f"$ {_typed(step)}", soft_wrap=True, highlight=False)
    if step.writes and Path(step.writes).exists():
        console.print(f"{step.writes} is there already, and is used as it is; another --name begins anew\n")
        return 0
    if not yes and typer.prompt("Enter to run it, or q to stop", default="", show_default=False).strip() == "q":
        _stop(console, step, 0)
    code = subprocess.run([sys.executable, "-P", "-m", "harvok", *step.words], check=False).returncode
    console.print()
    if code and not step.may_fail and not (step.decides and code in _VERDICTS):
        _stop(console, step, code)
    return code if step.decides else 0


def _stop(console: "Console", step: GuideStep, code: int) -> NoReturn:
    console.print(f"the guide ends here; it goes on with: {_typed(step)}", soft_wrap=True)
    raise typer.Exit(code)


def _typed(step: GuideStep) -> str:
    """The command as a person types it."""
    import shlex

    return f"harvok {shlex.join(step.words)}"
