"""`harvok demo`: the whole job on this host alone."""

from pathlib import Path
from typing import Annotated, Literal

import typer

app = typer.Typer(add_completion=False)


@app.command(epilog="Exit codes: 0 shown, 4 could not measure.")
def demo(
    what: Annotated[
        Literal["app", "site"] | None,
        typer.Argument(
            metavar="[app|site]",
            help="app: two gateways of this kernel with users between; needs root. site: three stations and a page.",
        ),
    ] = None,
    folder: Annotated[
        Path | None,
        typer.Option(metavar="FOLDER", show_default="the user's data folder", help="Folder for the demo's logbook."),
    ] = None,
) -> None:
    """Show the whole job on this host alone, in under a minute.

    Starts a station on loopback, takes a before and an after with real
    TCP traffic, and compares them; then benchmarks two simulated switches,
    and sweeps the load on one of them.
    Needs no root and no network; `harvok demo app`, which has users talk
    across two gateways, needs root, or user namespaces. `harvok demo site`
    coordinates three stations and writes their page.
    """
    from platformdirs import user_data_path

    if what == "site":
        _show_site(folder or user_data_path("harvok"))
        return
    if what == "app":
        raise typer.Exit(_show_gateways(folder or user_data_path("harvok")))
    from harvok.cli.render.compare import show_comparison, show_verdict
    from harvok.cli.render.console import stdout
    from harvok.cli.render.demo import DemoView
    from harvok.cli.render.sweep import show_sweep
    from harvok.reports.frames import draw
    from harvok.reports.sweep import draw_sweep
    from harvok.runner import demo as show

    console = stdout()
    view = DemoView(console)
    place = str(show.new_demo_logbook(folder or user_data_path("harvok")))
    view.scene()
    with show.demo_station() as station:
        view.series(show.BEFORE, "the system's own socket buffers")
        show.measure_series(station, show.BEFORE, None, place, view, view.record)
        view.series(show.AFTER, f"socket buffers of {show.SMALL_BUFFER_BYTES} B, which somebody left in a script")
        show.measure_series(station, show.AFTER, show.SMALL_BUFFER_BYTES, place, view, view.record)
    view.verdict_comes(f"harvok compare {show.BEFORE} {show.AFTER} --changed {show.CHANGED}")
    show_comparison(console, show.compare_demo(place))
    view.switches(show.TODAY, show.OFFERED)
    for name in (show.TODAY, show.OFFERED):
        show.benchmark_switch(name, place, view, view.switch)
    view.verdict_comes(f"harvok compare {show.TODAY} {show.OFFERED}")
    show_verdict(console, show.compare_switches(place))
    plots = Path(place).with_name("demo-plots")
    view.drawn(draw(view.newest_switches, plots))
    held = " ".join(f"--set {setting}" for setting in show.HELD)
    view.sweep(show.OFFERED, f"harvok sweep {show.OFFERED}.toml --over {show.VARIED} {held}")
    readings = show.sweep_switch(place, view, lambda _: None, lambda *_: None)
    show_sweep(console, show.SWEEP, readings)
    draw_sweep(readings, show.SWEEP, plots / "sweep.png")
    view.drawn([plots / "sweep.png"])
    view.what_next(place)


def _show_gateways(folder: Path) -> int:
    """The same plan across today's gateway and across the one that is offered; returns the exit code."""
    from harvok.cli.render.console import stdout
    from harvok.cli.render.demo import DemoView
    from harvok.runner import demo as show
    from harvok.runner.demo_gateways import GATEWAYS, judge_gateway, limiters_of

    view = DemoView(stdout())
    place = str(show.new_demo_logbook(folder))
    view.gateways(*GATEWAYS)
    for name in GATEWAYS:
        view.gateway(name)
        if judge_gateway(name, place, view.notice) not in (0, 1):
            return 4
        for limiter in limiters_of(name, place):
            view.limiter(limiter)
    view.what_next(place)
    return 0


def _show_site(folder: Path) -> None:
    """Three stations on loopback, a coordinator, and the page of their site."""
    from harvok.cli.render.console import stdout
    from harvok.cli.render.demo import DemoView
    from harvok.cli.render.site_runs import SiteView
    from harvok.runner import demo as show
    from harvok.runner import demo_site
    from harvok.runner.site_files import read_site

    console, place = stdout(), str(show.new_demo_logbook(folder))
    view = DemoView(console)
    view.stations()
    with demo_site.demo_stations(folder / "demo-site") as file:
        view.past(demo_site.make_up_the_past(file, place), demo_site.DAYS)
        view.site(file)
        demo_site.run_rounds(file, place, SiteView(console, read_site(file), place).tell)
        page = file.with_name("site.html")
        demo_site.write_demo_page(file, place, page)
    view.page(file, page)
    view.what_next(place)
