"""`harvok ports`: the interfaces of this host in one table."""

import typer

from harvok.cli.options import JsonOption

app = typer.Typer(add_completion=False)


@app.command()
def ports(json: JsonOption = False) -> None:
    """Show all interfaces of this host, and what may hold one down.

    State, negotiated and highest speed, MTU, driver, slot, addresses,
    errors and drops.
    """
    from harvok.host.ports import all_ports, remarks_on

    found = all_ports()
    if json:
        from pydantic_core import to_json

        whole = [{**_plain(port), "remarks": remarks_on(port)} for port in found]
        typer.echo(to_json(whole, indent=2).decode())
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.ports import show_ports

    show_ports(stdout(), found)


def _plain(port: object) -> dict[str, object]:
    from dataclasses import asdict

    return asdict(port)  # type: ignore[call-overload,no-any-return]
