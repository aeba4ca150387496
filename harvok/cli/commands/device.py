"""`harvok device`: the device under test from its own side, by SNMP."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from harvok.cli.options import DAY_S, JsonOption, Overwrite, duration, print_json, time_option

if TYPE_CHECKING:
    from harvok.rigs.device_files import DeviceSettings

app = typer.Typer(add_completion=False, no_args_is_help=True, help="Ask the device under test what it is and counts.")

DeviceArgument = Annotated[Path, typer.Argument(metavar="FILE", help="A description; `harvok device new` writes one.")]
_VERSIONS = Literal["2c", "3"]


def _settings(file: Path, every_s: float | None = None) -> "DeviceSettings":
    from dataclasses import replace

    from harvok.rigs.device_files import read_settings

    settings = read_settings(file)
    return replace(settings, orders=replace(settings.orders, every_s=every_s)) if every_s else settings


@app.command()
def show(file: DeviceArgument, json: JsonOption = False) -> None:
    """Print what a device is: firmware, uptime, ports, errors, CPU.

    Ports that no end of a test is wired to are shown as well.
    """
    from dataclasses import replace

    from harvok.device.watch import facts_once

    settings = _settings(file)
    facts, reading = facts_once(replace(settings.orders, ports=()))
    if json:
        print_json({"name": settings.name, "facts": facts, "reading": reading})
        return
    from harvok.cli.render.console import stdout
    from harvok.cli.render.device import show_device

    show_device(stdout(), settings, facts, reading)


@app.command()
def watch(
    file: DeviceArgument,
    every: Annotated[
        float | None,
        typer.Option(
            parser=duration(0.1, 60), metavar="TIME", help="Time between two questions.", show_default="file's"
        ),
    ] = None,
    for_: Annotated[
        float | None, typer.Option("--for", parser=duration(1, DAY_S), metavar="TIME", help="Stop after this long.")
    ] = None,
    json: JsonOption = False,
) -> None:
    """Follow a device: rates of its ports, errors, CPU. Ctrl-C ends it.

    Says how often its counters really change: many devices read them
    anew only every few seconds.
    """
    from harvok.cli.render.device import follow_device

    follow_device(_settings(file, every), for_, json)


@app.command()
def new(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The file to write.")],
    snmp: Annotated[_VERSIONS, typer.Option(help="Version of SNMP that the device speaks.")] = "2c",
    overwrite: Overwrite = False,
) -> None:
    """Write a description of a device with comments, to be changed."""
    from harvok.cli.files import check_free, writing
    from harvok.rigs.device_files import device_text

    check_free(file, overwrite)
    with writing(file) as out:
        out.write(device_text(snmp))
    typer.echo(f"written: {file}; `harvok device show {file}` asks the device")


@app.command("stand-in")
def stand_in(
    port: Annotated[int, typer.Option(min=0, max=65535, help="UDP port to answer at; 0 takes any.")] = 0,
    refresh: Annotated[float, time_option(0, 60, "How often its counters are read anew.", default="0s")] = 0.0,
    bits: Annotated[Literal["32", "64"], typer.Option(help="Size of its counters of octets and frames.")] = "64",
    restart: Annotated[
        float | None, typer.Option(parser=duration(1, DAY_S), metavar="TIME", help="Start anew after this long.")
    ] = None,
) -> None:
    """Answer SNMP as a made-up switch, to try things out. Ctrl-C ends it.

    Its four ports carry traffic that swings up and down within a minute;
    one of them counts errors. It answers this host alone, with the
    community `harvok`.
    """
    from harvok.core.device.model import AgentFaults
    from harvok.device.stand_in import serve_stand_in

    faults = AgentFaults(refresh, 32 if bits == "32" else 64, None, restart)
    serve_stand_in(port, faults, lambda at: typer.echo(f"dome-sw-a answers SNMPv2c at 127.0.0.1 port {at}"))
