"""Options that several commands share, declared once. A command takes a bundle as one parameter.

`bundled` turns a function with bundles among its parameters into one that Typer understands: each field of a bundle
becomes an option of its own, and the function gets the bundles back, filled in.
"""

import dataclasses
import functools
import inspect
import os
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal, get_type_hints

import typer

from harvok.cli import completing
from harvok.cli.options import (
    DAY_S,
    PATH,
    RUNS,
    SEARCH,
    SOCKETS,
    WHAT,
    Direction,
    Dscp,
    LogbookOption,
    attributes,
    check_resolution,
    percent_option,
    size,
    time_option,
    typed_command,
)
from harvok.core.ends import TwoPortDirection
from harvok.core.ethernet import IpVersion
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.core.events import PlannedEvent
    from harvok.core.models.rig import RigFile
    from harvok.core.procedures.frames import FrameSettings
    from harvok.rigs.device_files import DeviceSettings
    from harvok.rigs.stations import StationsSettings
    from harvok.runner.request import Label, Place, Sent, TestRequest
    from harvok.station.contact import Access


def bundled(command: Callable[..., None]) -> Callable[..., None]:
    """A command whose bundles are spread into options of their own."""
    parameters: list[inspect.Parameter] = []
    bundles: dict[str, type[Any]] = {}
    for parameter in inspect.signature(command, eval_str=True).parameters.values():
        if dataclasses.is_dataclass(parameter.annotation) and isinstance(parameter.annotation, type):
            bundles[parameter.name] = parameter.annotation
            parameters += _options_of(parameter.annotation)
        else:
            parameters.append(parameter.replace(kind=inspect.Parameter.KEYWORD_ONLY))

    @functools.wraps(command)
    def spread(**values: Any) -> None:
        filled = {
            name: bundle(**{field.name: values.pop(field.name) for field in dataclasses.fields(bundle)})
            for name, bundle in bundles.items()
        }
        command(**values, **filled)

    del spread.__wrapped__  # else the signature would be looked for there
    spread.__annotations__ = {}
    spread.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    return spread


def _options_of(bundle: type[Any]) -> list[inspect.Parameter]:
    hints = get_type_hints(bundle, include_extras=True)
    return [
        inspect.Parameter(
            field.name,
            inspect.Parameter.KEYWORD_ONLY,
            default=inspect.Parameter.empty if field.default is dataclasses.MISSING else field.default,
            annotation=hints[field.name],
        )
        for field in dataclasses.fields(bundle)
    ]


IP_VERSIONS: dict[str | None, IpVersion | None] = {None: None, "4": 4, "6": 6}
FRAME_IP: dict[str, Literal[4, 6] | None] = {"4": 4, "6": 6, "none": None}


@dataclass(frozen=True, slots=True)
class AccessOptions:
    """What opens a station's door. The token is no option: every user of a host can read its command lines."""

    token_file: Annotated[
        Path | None,
        typer.Option(
            rich_help_panel=PATH,
            metavar="FILE",
            help="File with the station's token; else HARVOK_TOKEN, else asked for.",
        ),
    ] = None
    code: Annotated[
        str | None,
        typer.Option(
            rich_help_panel=PATH,
            envvar="HARVOK_CODE",
            help="Pairing code that the station printed; needed once.",
        ),
    ] = None
    plain: Annotated[
        bool,
        typer.Option(
            "--plain", rich_help_panel=PATH, help="Talk to the station in clear, token included; it must do so too."
        ),
    ] = False

    def access(self, needs_token: bool = True) -> "Access":
        """The same as a request has it; asks for the token where it is needed and missing. Raises UsageError."""
        from harvok.core.wire.pairing import read_pairing_code
        from harvok.station.contact import Access

        token = (secret_of("HARVOK_TOKEN", self.token_file) or ask_token()) if needs_token else ""
        return Access(token, read_pairing_code(self.code) if self.code else None, self.plain)


@dataclass(frozen=True, slots=True)
class StationOptions(AccessOptions):
    """How the station is reached, and as whom."""

    local: Annotated[
        str | None, typer.Option(rich_help_panel=PATH, metavar="ADDRESS", help="Local address to measure from.")
    ] = None
    interface: Annotated[
        str | None,
        typer.Option(
            rich_help_panel=PATH,
            metavar="NAME",
            autocompletion=completing.interfaces,
            help="Local interface to measure through.",
        ),
    ] = None
    ip_version: Annotated[
        Literal["4", "6"] | None,
        typer.Option(rich_help_panel=PATH, help="Use only this IP version, where a name has both."),
    ] = None
    name: Annotated[
        str | None, typer.Option(rich_help_panel=PATH, show_default="this host's name", help="Name of this end.")
    ] = None

    def settings(
        self, station: str, rated_bps: float | None = None, stamp_key: str | None = None, needs_token: bool = True
    ) -> "StationsSettings":
        """Both ends; asks for the token where it is needed and missing. Raises UsageError."""
        from harvok.rigs.stations import StationsSettings
        from harvok.traffic.sockets import Source

        access = self.access(needs_token)
        if needs_token and not access.code and not access.plain and sys.stdin.isatty():
            access = _with_code(access, station)
        return StationsSettings(
            station,
            access,
            Source(self.local, self.interface),
            IP_VERSIONS[self.ip_version],
            self.name,
            rated_bps,
            stamp_key.encode() if stamp_key else None,
        )


@dataclass(frozen=True, slots=True)
class SentOptions:
    """Which station is to be the near end in this host's place."""

    from_: Annotated[
        str | None,
        typer.Option(
            "--from",
            rich_help_panel=PATH,
            metavar="OTHER",
            help="Station that is to be the near end; this host only asks. It must know this user (`harvok pairing`).",
        ),
    ] = None
    from_token_file: Annotated[
        Path | None,
        typer.Option(
            rich_help_panel=PATH, metavar="FILE", help="File with that station's token; else the same as STATION's."
        ),
    ] = None
    reached_at: Annotated[
        str | None,
        typer.Option(
            rich_help_panel=PATH,
            metavar="ADDRESS",
            show_default="as given here",
            help="Where that station reaches STATION, with :PORT if not the usual one.",
        ),
    ] = None

    def sent(self, reaching: StationOptions, repeating: "RepeatOptions") -> "Sent | None":
        """The same as a request has it. Raises UsageError for what the other host would have to do."""
        if self.from_ is None:
            if self.from_token_file or self.reached_at:
                raise UsageError("there is no other near end", "Name one with --from, or leave the options of it out.")
            return None
        given = {
            "--plain": reaching.plain,
            "--local": reaching.local,
            "--interface": reaching.interface,
            "--name": reaching.name,
            "--device": repeating.device,
            "--event": repeating.event,
        }
        wrong = next((name for name, value in given.items() if value), None)
        if wrong:
            raise UsageError(f"{wrong} is of a near end on this host", f"Leave out {wrong}, or --from.")
        from harvok.runner.request import Sent
        from harvok.station.contact import Access

        token = secret_of("HARVOK_FROM_TOKEN", self.from_token_file) or reaching.access().token
        return Sent(self.from_, Access(token), self.reached_at)


@dataclass(frozen=True, slots=True)
class LabelOptions:
    """What the user says about the runs."""

    series: Annotated[
        str | None,
        typer.Option(
            rich_help_panel=RUNS,
            metavar="NAME",
            autocompletion=completing.series,
            help="Series that the runs belong to.",
        ),
    ] = None
    with_: Annotated[
        list[str] | None,
        typer.Option(
            "--with", rich_help_panel=RUNS, metavar="KEY=VALUE", help="An attribute, such as length=15. Repeatable."
        ),
    ] = None
    note: Annotated[
        str, typer.Option(rich_help_panel=RUNS, show_default=False, help="Remark to record with the runs.")
    ] = ""

    def label(self) -> "Label":
        """The same as a request has it. Raises BadParameter."""
        from harvok.runner.request import Label

        return Label(self.series, attributes(self.with_ or []), self.note)


Watched = Annotated[
    Path | None,
    typer.Option(
        rich_help_panel=RUNS, metavar="FILE", help="Device under test to watch; `harvok device new` writes one."
    ),
]


@dataclass(frozen=True, slots=True)
class RepeatOptions:
    """How often a test is run, how long it waits for its turn, which device is watched and what is done meanwhile."""

    repeat: Annotated[int, typer.Option(rich_help_panel=RUNS, min=1, max=1000, help="Number of runs to take.")] = 1
    pause: Annotated[float, time_option(0, 3600, "Pause between repeats.", RUNS, default="0s")] = 0.0
    wait: Annotated[float, time_option(0, DAY_S, "Wait up to this long for a busy station or host.", RUNS, "0s")] = 0.0
    device: Watched = None

    event: Annotated[
        list[str] | None,
        typer.Option(
            rich_help_panel=RUNS,
            metavar="TEXT",
            help='What to do in mid-test: "20s: link port2 down for 200ms", or run, device, set, impair, tell, await. '
            "Repeatable.",
        ),
    ] = None

    def events(self) -> "tuple[PlannedEvent, ...]":
        """What is to be done in mid-test. Raises UsageError."""
        if not self.event:
            return ()
        from harvok.core.events import parse_events

        return parse_events(self.event)

    def settings(self) -> "DeviceSettings | None":
        """How the device is watched. Raises DeviceFileError."""
        if self.device is None:
            return None
        from harvok.rigs.device_files import read_settings

        return read_settings(self.device)


@dataclass(frozen=True, slots=True)
class RecordOptions:
    """Where runs are kept, and what standard output is to carry."""

    logbook: LogbookOption
    json: Annotated[bool, typer.Option("--json", help="Print JSON alone on standard output.")] = False
    no_charts: Annotated[bool, typer.Option("--no-charts", help="Show rows alone while a test runs.")] = False


@dataclass(frozen=True, slots=True)
class FlowOptions:
    """What tests between two stations have in common."""

    direction: Direction = "each"
    interval: Annotated[float, time_option(0.1, 60, "Length of each reporting interval.", WHAT, default="1s")] = 1.0
    socket_buffer: Annotated[
        int | None,
        typer.Option(
            rich_help_panel=SOCKETS,
            parser=size(1024, 2**30),
            metavar="SIZE",
            help="Send and receive buffer of every socket.",
        ),
    ] = None
    dscp: Dscp = None


FrameSizes = Annotated[
    list[str] | None,
    typer.Option(
        metavar="SIZE",
        rich_help_panel=WHAT,
        show_default="RFC 2544's seven; 64 and 1518 for a ramp",
        help="Bytes with FCS, or a mix such as aaaaaaafffg (RFC 6985). Repeatable.",
    ),
]
FrameIpVersion = Annotated[
    Literal["4", "6", "none"],
    typer.Option(rich_help_panel=WHAT, help="IP version of the frames; none: bare Ethernet."),
]


@dataclass(frozen=True, slots=True)
class FrameOptions:
    """Which frames are sent between two ports."""

    frame_size: FrameSizes = None
    direction: Annotated[
        TwoPortDirection,
        typer.Option(rich_help_panel=WHAT, help="send: first port to second; both: at the same time."),
    ] = "send"
    stream: Annotated[
        list[str] | None,
        typer.Option(
            metavar="PORT:PORT",
            rich_help_panel=WHAT,
            help="Frames from one port of the rig to another, such as port1:port3, instead of --direction; `all` is "
            "every other port, all:all a full mesh. What they have of their own follows: port1:port3,load=50%,"
            "size=512,vlan=10,dscp=46,pairs=100,to=broadcast. Repeatable.",
        ),
    ] = None
    ip_version: FrameIpVersion = "4"


@dataclass(frozen=True, slots=True)
class FrameVariety:
    """How frames differ from one another, and how they are grouped."""

    address_pairs: Annotated[
        int, typer.Option(min=1, max=65536, rich_help_panel=WHAT, help="Address pairs to spread the frames over.")
    ] = 1
    burst: Annotated[
        int, typer.Option(min=1, max=1024, rich_help_panel=WHAT, help="Frames sent back to back (RFC 2544 §21).")
    ] = 1


TrialPause = Annotated[
    float,
    time_option(
        0, 600, "Pause after a trial, for frames in flight and the device to settle (RFC 2544 §23).", SEARCH, True
    ),
]


@dataclass(frozen=True, slots=True)
class ManyPorts:
    """Which ports of a switch take part, with which frames, and how trials are taken."""

    frame_size: FrameSizes = None
    port: Annotated[
        list[str] | None,
        typer.Option(
            metavar="PORT",
            rich_help_panel=WHAT,
            show_default="all, as in the rig file",
            help="Ports that take part, in this order: the first is the one of one-to-many. Repeatable.",
        ),
    ] = None
    ip_version: FrameIpVersion = "4"
    duration: Annotated[float, time_option(1, DAY_S, "Length of a trial that counts.", SEARCH, "30s")] = 30.0
    resolution: Annotated[float, percent_option("Resolution of a search, of line rate.", SEARCH, "0.1%")] = 0.001
    loss_tolerance: Annotated[float, percent_option("Loss at which a trial still passes.", SEARCH, "0%")] = 0.0
    trial_pause: TrialPause = 7.0

    def settings(self, rig: "RigFile", ports: tuple[str, ...]) -> "FrameSettings":
        """What all trials have in common; the streams are the mesh, for which the tester is calibrated. Raises
        UsageError."""
        from harvok.core.frame_streams import mesh_settings

        check_resolution(self.resolution)
        if len(set(ports)) < 2:
            raise UsageError("a switch is tested between two ports at least", "Name them with --port, each once.")
        ip, pause_s = FRAME_IP[self.ip_version], self.trial_pause
        return mesh_settings(
            rig.rated, ports, ip, self.duration, self.resolution, self.loss_tolerance, pause_s, rig.aging
        )


def request_of(
    place: "Place",
    test: Any,
    keeping: RecordOptions,
    labelling: LabelOptions,
    repeating: RepeatOptions = RepeatOptions(),
    sent: "Sent | None" = None,
) -> "TestRequest":
    """A request of everything that was asked for."""
    from harvok.runner.request import TestRequest

    return TestRequest(
        place=place,
        test=test,
        logbook=keeping.logbook,
        command=typed_command(sys.argv),
        label=labelling.label(),
        repeat=repeating.repeat,
        pause_s=repeating.pause,
        wait_s=repeating.wait,
        device=repeating.settings(),
        events=repeating.events(),
        sent=sent,
    )


def secret_of(variable: str, file: Path | None) -> str | None:
    """A secret from the file that was named, else from the environment; None where neither has it. Raises UsageError
    for a file that cannot be read."""
    if file is None:
        return os.environ.get(variable) or None
    try:
        secret = file.read_text(encoding="utf-8").strip()
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"{file} cannot be read: {error}", "Name a file with nothing but the secret in it.") from error
    if not secret:
        raise UsageError(f"{file} is empty", "Name a file with nothing but the secret in it.")
    return secret


def _with_code(access: "Access", station: str) -> "Access":
    """Asks the person at the keyboard for the code of a station that is not known yet. Raises UsageError."""
    from harvok.core.wire.pairing import read_pairing_code
    from harvok.station.address import parse_station
    from harvok.traffic.sockets import format_address

    if access.keys.station(format_address(parse_station(station))):
        return access
    return dataclasses.replace(access, code=read_pairing_code(str(typer.prompt("Pairing code that it printed"))))


def ask_token() -> str:
    """Asks the person at the keyboard; a script has nobody to ask. Raises UsageError."""
    if not sys.stdin.isatty():
        raise UsageError(
            "no token was given", "Set HARVOK_TOKEN to what `harvok station` printed, or name a file: --token-file."
        )
    return str(typer.prompt("Token that the station printed", hide_input=True))
