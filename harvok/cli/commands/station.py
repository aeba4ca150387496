"""`harvok station`: makes this host the far end of tests."""

import secrets
import socket
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from harvok.cli.bundles import secret_of
from harvok.cli.options import DAY_S, time_option
from harvok.core.models.control import DEFAULT_CONTROL_PORT
from harvok.errors import UsageError

if TYPE_CHECKING:
    from harvok.station.keys import Keys
    from harvok.traffic.reflector import ReflectorSettings

app = typer.Typer(add_completion=False)

_TOKEN_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"  # none that look alike when read out over a phone
_TOKEN_GROUPS = 4  # of four letters: 79 bits


def _new_token() -> str:
    return "-".join("".join(secrets.choice(_TOKEN_LETTERS) for _ in range(4)) for _ in range(_TOKEN_GROUPS))


@app.command(epilog="Exit codes: 0 stopped by Ctrl-C or SIGTERM, 2 wrong usage, 4 could not serve.")
def station(
    port: Annotated[
        int,
        typer.Option(min=1, max=65533, help="TCP port for control; data, TCP and UDP, uses the next one up."),
    ] = DEFAULT_CONTROL_PORT,
    host: Annotated[
        str | None,
        typer.Option(metavar="ADDRESS", help="Serve only this address.", show_default="all, IPv4 and IPv6"),
    ] = None,
    token_file: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE",
            help="File with the token that near ends must present; else HARVOK_TOKEN.",
            show_default="a new token at every start",
        ),
    ] = None,
    name: Annotated[str | None, typer.Option(help="Name of this end.", show_default="this host's name")] = None,
    max_duration: Annotated[
        float, time_option(1, 7 * DAY_S, "Refuse, or end, tests longer than this.", default="1h")
    ] = 3600.0,
    max_flows: Annotated[
        int, typer.Option(min=1, max=64, help="Refuse tests with more flows in a direction than this.")
    ] = 64,
    delay_port: Annotated[
        int | None,
        typer.Option(
            min=0, max=65535, help="UDP port of the STAMP reflector; 0 for none.", show_default="two above --port"
        ),
    ] = None,
    stamp_key_file: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE",
            help="Reflect only STAMP packets that are authenticated with the key in this file (or HARVOK_STAMP_KEY).",
        ),
    ] = None,
    reflect_to: Annotated[
        list[str] | None,
        typer.Option(metavar="NETWORK", help="Reflect only to this address or network. Repeatable."),
    ] = None,
    pair: Annotated[
        bool, typer.Option("--pair", help="Remember near ends that hand in their certificate (`harvok pairing make`).")
    ] = False,
    only_paired: Annotated[
        bool, typer.Option("--only-paired", help="Serve those near ends alone: for a station that stands for months.")
    ] = False,
    plain: Annotated[
        bool, typer.Option("--plain", help="Talk in clear, token included: for looking at the protocol alone.")
    ] = False,
) -> None:
    """Make this host the far end of tests, until Ctrl-C.

    Serves one test at a time to near ends that present the token. Prints what to type there, and which ports a
    firewall must let through.
    """
    from harvok.cli.render.console import stdout
    from harvok.cli.render.station import StationView
    from harvok.host.addresses import own_addresses
    from harvok.station.server import serve
    from harvok.station.service import StationSettings

    token = secret_of("HARVOK_TOKEN", token_file)
    if token is not None and (len(token) < 8 or not token.isascii() or not token.isprintable() or " " in token):
        raise typer.BadParameter(
            "a token has at least 8 printable ASCII letters, no spaces", param_hint="'--token-file'"
        )
    keys = _keys(pair, only_paired, plain)
    settings = StationSettings(
        name=name or socket.gethostname(),
        token=token or _new_token(),
        control_port=port,
        data_port=port + 1,
        host=host,
        max_test_s=max_duration,
        max_flows=max_flows,
        reflector=_reflector(port + 2 if delay_port is None else delay_port, host, stamp_key_file, reflect_to or []),
        keys=keys,
        pairs=pair,
        only_paired=only_paired,
    )
    view = StationView(stdout(), settings, [host] if host else own_addresses())
    serve(settings, view.ready, view.tell)
    view.stopped()


def _keys(pair: bool, only_paired: bool, plain: bool) -> "Keys | None":
    """Who this station is; None where it talks in clear. Raises UsageError for what makes no sense together."""
    from harvok.station.keys import own_keys

    if plain and (pair or only_paired):
        raise UsageError("nobody can be known in clear", "Leave out --plain, or --pair and --only-paired.")
    if pair and only_paired:
        raise UsageError(
            "--only-paired keeps out whom --pair would let in",
            "Pair first, with --pair; then start it with --only-paired.",
        )
    keys = own_keys()
    if only_paired and not keys.near_ends():
        raise UsageError(
            "no near end is paired with this station, so it would serve nobody",
            "Start it with --pair, run `harvok pairing make STATION` at each near end, and then start it so.",
        )
    return None if plain else keys


def _reflector(port: int, host: str | None, key_file: Path | None, networks: list[str]) -> "ReflectorSettings | None":
    """What the reflector is to do; None for none. Raises BadParameter for what is no network."""
    import ipaddress

    from harvok.host.facts import clock_facts
    from harvok.traffic.reflector import ReflectorSettings

    if not port:
        return None
    key = secret_of("HARVOK_STAMP_KEY", key_file)
    allowed = []
    for text in networks:
        try:
            allowed.append(ipaddress.ip_network(text, strict=False))
        except ValueError:
            raise typer.BadParameter(
                f"'{text}' is no address or network such as 198.18.0.0/24", param_hint="'--reflect-to'"
            ) from None
    clock = clock_facts()
    in_step = clock.error_s if clock.synchronised else None
    return ReflectorSettings(port, host, key.encode() if key else None, allowed, in_step)
