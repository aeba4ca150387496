"""`harvok pairing`: whom this user knows, and who knows him: stations and near ends, by their certificates."""

from typing import TYPE_CHECKING, Annotated

import typer

from harvok.cli.bundles import StationOptions, bundled
from harvok.cli.options import JsonOption, Station
from harvok.errors import NothingFoundError, UsageError

if TYPE_CHECKING:
    from harvok.station.keys import Known

app = typer.Typer(add_completion=False, no_args_is_help=True)


@app.callback()
def pairing() -> None:
    """Make stations and near ends known to each other, and list them.

    A station becomes known with the first command that has its code;
    a near end, to a station that was started with --pair, with `make`.
    """


@app.command()
@bundled
def make(station: Station, reaching: StationOptions) -> None:
    """Make this user and a station known to each other.

    For stations that serve paired near ends alone (--only-paired).
    The station must have been started with --pair.
    """
    import socket

    from harvok.cli.render.console import stdout
    from harvok.clock import SYSTEM
    from harvok.station.address import resolve
    from harvok.station.client import StationClient
    from harvok.traffic.sockets import check_source

    settings = reaching.settings(station)
    if settings.access.plain:
        raise UsageError("nobody can be known in clear", "Leave out --plain.")
    address = resolve(settings.station, settings.ip_version)
    check_source(settings.source, address.host)
    keys = settings.access.keys
    with StationClient(address, settings.access, settings.source, SYSTEM) as client:
        facts = client.pair(settings.near_name or socket.gethostname())
    known = keys.station(address.place)
    console = stdout()
    console.print(f"{address.place} knows this user now. Compare with what it says:", highlight=False)
    console.print(f"  code of the station  {known.code if known else '–'}  ", facts.name)
    console.print(f"  code of this user    {keys.code}")


@app.command("list")
def list_known(json: JsonOption = False) -> None:
    """List the stations and near ends that are known, with their codes."""
    from harvok.station.keys import own_keys

    keys = own_keys()
    own = keys.code if keys.has_identity else None
    if json:
        from json import dumps

        whole = {"own": own, "stations": _rows(keys.stations()), "near_ends": _rows(keys.near_ends())}
        typer.echo(dumps(whole, indent=2))
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.tables import plain_table

    table = plain_table(("kind", "name", "code", "since"))
    if own:
        table.add_row("this user", "", own, "")
    for kind, known in (("station", keys.stations()), ("near end", keys.near_ends())):
        for one in known:
            table.add_row(kind, one.name, one.code, one.since)
    stdout().print(table if table.row_count else "nobody is known yet")


@app.command()
def forget(name: Annotated[str, typer.Argument(metavar="NAME", help="As `harvok pairing list` shows it.")]) -> None:
    """Forget a station or a near end: it must pair again."""
    from harvok.station.keys import own_keys

    if not own_keys().forget(name):
        raise NothingFoundError(f"nobody is known as '{name}'", "`harvok pairing list` shows who is.")
    typer.echo(f"{name} is forgotten")


def _rows(known: "list[Known]") -> list[dict[str, str]]:
    return [{"name": one.name, "code": one.code, "since": one.since} for one in known]
