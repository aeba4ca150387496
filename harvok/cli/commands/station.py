"""`harvok station`: makes this host the far end of tests."""

import secrets
import socket
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from harvok.cli.bundles import bundled, secret_of
from harvok.cli.options import DAY_S, LogbookOption, Rated, time_option, typed_command
from harvok.core.bounds import UNLIKE_LETTERS
from harvok.core.models.control import DEFAULT_CONTROL_PORT
from harvok.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Callable

    from harvok.runner.browser import DeskSettings
    from harvok.station.browser.code import PageSettings
    from harvok.station.errand import ErrandLimits
    from harvok.station.keys import Keys
    from harvok.station.server import MakeBegin
    from harvok.station.service import StationSettings
    from harvok.traffic.reflector import Network, ReflectorSettings

app = typer.Typer(add_completion=False)

_DOORS, _ERRANDS, _REFLECTOR = "Who is let in", "Tests as near end", "STAMP reflector"
_BROWSER = "Hosts without Harvok"
_TOKEN_GROUPS = 4  # of four letters: 79 bits


def _new_token() -> str:
    return "-".join("".join(secrets.choice(UNLIKE_LETTERS) for _ in range(4)) for _ in range(_TOKEN_GROUPS))


@dataclass(frozen=True, slots=True)
class DoorOptions:
    """Who is let in."""

    token_file: Annotated[
        Path | None,
        typer.Option(
            rich_help_panel=_DOORS,
            metavar="FILE",
            help="File with the token that near ends must present; else HARVOK_TOKEN.",
            show_default="a new token at every start",
        ),
    ] = None
    pair: Annotated[
        bool,
        typer.Option(
            "--pair",
            rich_help_panel=_DOORS,
            help="Remember near ends that hand in their certificate (`harvok pairing make`).",
        ),
    ] = False
    only_paired: Annotated[
        bool,
        typer.Option(
            "--only-paired",
            rich_help_panel=_DOORS,
            help="Serve those near ends alone: for a station that stands for months.",
        ),
    ] = False
    plain: Annotated[
        bool,
        typer.Option(
            "--plain",
            rich_help_panel=_DOORS,
            help="Talk in clear, token included: for looking at the protocol alone.",
        ),
    ] = False

    def token(self) -> str:
        """As given, else a new one. Raises BadParameter for one that is too easy to guess or to mistype."""
        token = secret_of("HARVOK_TOKEN", self.token_file)
        if token is not None and (len(token) < 8 or not token.isascii() or not token.isprintable() or " " in token):
            raise typer.BadParameter(
                "a token has at least 8 printable ASCII letters, no spaces", param_hint="'--token-file'"
            )
        return token or _new_token()

    def keys(self) -> "Keys | None":
        """Who this station is; None where it talks in clear. Raises UsageError for what makes no sense together."""
        from harvok.station.keys import own_keys

        if self.plain and (self.pair or self.only_paired):
            raise UsageError("nobody can be known in clear", "Leave out --plain, or --pair and --only-paired.")
        if self.pair and self.only_paired:
            raise UsageError(
                "--only-paired keeps out whom --pair would let in",
                "Pair first, with --pair; then start it with --only-paired.",
            )
        keys = own_keys()
        if self.only_paired and not keys.near_ends():
            raise UsageError(
                "no near end is paired with this station, so it would serve nobody",
                "Start it with --pair, run `harvok pairing make STATION` at each near end, and then start it so.",
            )
        return None if self.plain else keys


@dataclass(frozen=True, slots=True)
class StampOptions:
    """Which STAMP packets are answered."""

    delay_port: Annotated[
        int | None,
        typer.Option(
            rich_help_panel=_REFLECTOR,
            min=0,
            max=65535,
            help="UDP port of the STAMP reflector; 0 for none.",
            show_default="two above --port",
        ),
    ] = None
    stamp_key_file: Annotated[
        Path | None,
        typer.Option(
            rich_help_panel=_REFLECTOR,
            metavar="FILE",
            help="Answer only packets that are authenticated with the key in this file (or HARVOK_STAMP_KEY).",
        ),
    ] = None
    reflect_to: Annotated[
        list[str] | None,
        typer.Option(
            rich_help_panel=_REFLECTOR, metavar="NETWORK", help="Answer only this address or network. Repeatable."
        ),
    ] = None

    def settings(self, control_port: int, host: str | None) -> "ReflectorSettings | None":
        """What the reflector is to do; None for none. Raises BadParameter for what is no network."""
        from harvok.host.facts import clock_facts
        from harvok.traffic.reflector import ReflectorSettings

        port = control_port + 2 if self.delay_port is None else self.delay_port
        if not port:
            return None
        key = secret_of("HARVOK_STAMP_KEY", self.stamp_key_file)
        clock = clock_facts()
        in_step = clock.error_s if clock.synchronised else None
        allowed = [_network(text) for text in self.reflect_to or []]
        return ReflectorSettings(port, host, key.encode() if key else None, allowed, in_step)


@dataclass(frozen=True, slots=True)
class ErrandOptions:
    """What paired hosts may have this station measure as a near end."""

    errands_to: Annotated[
        list[str] | None,
        typer.Option(
            rich_help_panel=_ERRANDS,
            metavar="HOST",
            help="Paired near ends may have this station test toward this name, address or network, or 'any'. "
            "Repeatable.",
            show_default="nowhere",
        ),
    ] = None
    errand_hours: Annotated[
        list[str] | None,
        typer.Option(
            rich_help_panel=_ERRANDS,
            metavar="HH:MM-HH:MM",
            help="Only in these hours, by this host's clock. Repeatable.",
            show_default="at any time",
        ),
    ] = None

    def limits(self, plain: bool) -> "ErrandLimits | None":
        """The same as a station has it. Raises UsageError."""
        if not self.errands_to:
            if self.errand_hours:
                raise UsageError("the hours of what?", "Say toward whom errands may go: --errands-to.")
            return None
        if plain:
            raise UsageError("nobody can be known in clear, and errands are of those who are", "Leave out --plain.")
        from harvok.core.site.calendar import parse_hours
        from harvok.station.errand import ErrandLimits

        hours = tuple(parse_hours(text) for text in self.errand_hours or ())
        return ErrandLimits(tuple(self.errands_to), hours)


@dataclass(frozen=True, slots=True)
class BrowserOptions:
    """A page that any browser measures with."""

    logbook: LogbookOption
    browser: Annotated[
        bool,
        typer.Option(
            "--browser",
            rich_help_panel=_BROWSER,
            help="Also serve a page with which any browser measures; print its address as text and as QR code.",
        ),
    ] = False
    browser_port: Annotated[
        int | None,
        typer.Option(
            rich_help_panel=_BROWSER, min=1, max=65535, help="TCP port of the page.", show_default="one below --port"
        ),
    ] = None
    browser_duration: Annotated[float, time_option(2, 60, "How long each direction is measured.", _BROWSER, "8s")] = 8.0
    rated: Rated = None

    def page(self, control_port: int, token: str) -> "PageSettings | None":
        """Where the page is and what admits to it; None without one."""
        if not self.browser:
            return None
        from harvok.station.browser.code import PageSettings, code_of

        return PageSettings(self.browser_port or control_port - 1, code_of(token))

    def desk(self, port: int) -> "DeskSettings":
        """What becomes of visits."""
        from harvok.core.procedures.browser import BrowserTest
        from harvok.runner.browser import DeskSettings

        test = BrowserTest(duration_s=self.browser_duration)
        return DeskSettings(self.logbook, port, typed_command(sys.argv), test, self.rated)


@dataclass(frozen=True, slots=True)
class LendingOptions:
    """Which ports the station lends, and for what."""

    frames: Annotated[
        list[str] | None,
        typer.Option(
            "--frames",
            metavar="PORT",
            help="Lend this interface as a tester port of a rig of kind 'remote'. Repeatable.",
            show_default="none",
        ),
    ] = None
    reflect: Annotated[
        bool, typer.Option("--reflect", help="Lent ports only send back what they get: the simplest of far ends.")
    ] = False

    def ports(self) -> list[str]:
        """The ports, each of which can be lent. Raises UsageError, PortError."""
        if self.reflect and not self.frames:
            raise UsageError("--reflect is about lent ports", "Name them with --frames PORT.")
        if not self.frames:
            return []
        from harvok.station.lent_ports import lendable

        for interface in self.frames:
            lendable(interface)
        return self.frames


def _network(text: str) -> "Network":
    import ipaddress

    try:
        return ipaddress.ip_network(text, strict=False)
    except ValueError:
        raise typer.BadParameter(
            f"'{text}' is no address or network such as 198.18.0.0/24", param_hint="'--reflect-to'"
        ) from None


@app.command(epilog="Exit codes: 0 stopped by Ctrl-C or a signal, 2 wrong usage, 4 could not serve.")
@bundled
def station(
    doors: DoorOptions,
    errands: ErrandOptions,
    reflecting: StampOptions,
    lending: LendingOptions,
    browsing: BrowserOptions,
    port: Annotated[
        int,
        typer.Option(min=1, max=65533, help="TCP port for control; data, TCP and UDP, uses the next one up."),
    ] = DEFAULT_CONTROL_PORT,
    host: Annotated[
        str | None,
        typer.Option(metavar="ADDRESS", help="Serve only this address.", show_default="all, IPv4 and IPv6"),
    ] = None,
    name: Annotated[str | None, typer.Option(help="Name of this end.", show_default="this host's name")] = None,
    max_duration: Annotated[
        float, time_option(1, 7 * DAY_S, "Refuse, or end, tests longer than this.", default="1h")
    ] = 3600.0,
    max_flows: Annotated[
        int, typer.Option(min=1, max=64, help="Refuse tests with more flows in a direction than this.")
    ] = 64,
    unit: Annotated[
        str | None,
        typer.Option("--unit", metavar="USER", help="Print a systemd unit that runs this station as USER, and end."),
    ] = None,
) -> None:
    """Make this host the far end of tests, until Ctrl-C.

    Serves one test at a time to near ends that present the token.
    Prints what to type there, and which ports a firewall must let through.
    """
    if unit is not None:
        from harvok.runner.units import station_unit

        typer.echo(station_unit(_without_unit(typed_command(sys.argv)[2:]), unit), nl=False)
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.station import StationView
    from harvok.host.addresses import own_addresses
    from harvok.station.server import serve
    from harvok.station.service import StationSettings

    token = doors.token()
    settings = StationSettings(
        name=name or socket.gethostname(),
        token=token,
        control_port=port,
        data_port=port + 1,
        host=host,
        max_test_s=max_duration,
        max_flows=max_flows,
        reflector=reflecting.settings(port, host),
        keys=doors.keys(),
        pairs=doors.pair,
        only_paired=doors.only_paired,
        errands=errands.limits(doors.plain),
        frame_ports=lending.ports(),
        reflect=lending.reflect,
        page=browsing.page(port, token),
    )
    view = StationView(stdout(), settings, [host] if host else own_addresses())
    serve(settings, view.ready, view.tell, _receive_browsers(browsing, settings, view.tell))
    view.stopped()


def _receive_browsers(
    browsing: BrowserOptions, settings: "StationSettings", tell: "Callable[[str], None]"
) -> "MakeBegin | None":
    """What receives the visitors of the page, once there is a station; None without a page."""
    if settings.page is None:
        return None
    from harvok.runner.browser import BrowserDesk

    desk = browsing.desk(settings.page.port)
    return lambda station: BrowserDesk(station, desk, tell).begin


def _without_unit(words: list[str]) -> list[str]:
    """The options of a station but for the one that prints its unit."""
    at = next(number for number, word in enumerate(words) if word.partition("=")[0] == "--unit")
    return words[:at] + words[at + (1 if "=" in words[at] else 2) :]
