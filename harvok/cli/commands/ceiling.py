"""`harvok ceiling`: the arithmetic by itself."""

from typing import Annotated, Literal

import typer

from harvok.cli.options import JsonOption, rate

app = typer.Typer(add_completion=False)


@app.command(epilog="Exit codes: 0 printed, 2 wrong usage.")
def ceiling(
    line_rate: Annotated[
        float, typer.Argument(parser=rate(), metavar="RATE", help="The line rate, such as 1G or 2.5G.")
    ],
    mtu: Annotated[int, typer.Option(min=68, max=65535, help="IP packet size for the TCP figures, in bytes.")] = 1500,
    frame_size: Annotated[
        list[int] | None,
        typer.Option(
            min=64, max=65535, help="Frame size in bytes, FCS included. Repeatable.", show_default="RFC 2544's seven"
        ),
    ] = None,
    vlan_tags: Annotated[int, typer.Option(min=0, max=2, help="VLAN tags on every frame.")] = 0,
    ip_version: Annotated[Literal["4", "6"], typer.Option(help="IP version of the frame table.")] = "4",
    json: JsonOption = False,
) -> None:
    """Print what the arithmetic allows for a line rate: frame rates, and the rate at each layer.

    L1 counts the whole line with preamble and gap, L2 the frame, L3 the IP packet, goodput the payload.
    """
    from harvok.core.ceilings import ceilings

    found = ceilings(line_rate, mtu, frame_size, vlan_tags, 6 if ip_version == "6" else 4)
    if json:
        from json import dumps

        typer.echo(dumps(found.as_json(), indent=2))
        return
    from harvok.cli.render.ceiling import show_ceilings
    from harvok.cli.render.console import stdout

    show_ceilings(stdout(), found)
