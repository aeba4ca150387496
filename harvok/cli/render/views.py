"""The command line's own table: for each kind of test how it is shown while it runs, and what a run comes to.

A kind without a row of its own gets all its figures in one table.
"""

from dataclasses import dataclass

from rich.console import Console

from harvok.cli.render.app import (
    AppView,
    Rfc9411View,
    show_app,
    show_app_calibration,
    show_app_trials,
    show_rfc9411,
)
from harvok.cli.render.browser import show_browser
from harvok.cli.render.delay import DelayView, show_delay
from harvok.cli.render.emulator import show_emulator
from harvok.cli.render.frames import FramesView, show_calibration, show_rfc2544
from harvok.cli.render.link import LinkView, show_link, show_link_events
from harvok.cli.render.load import show_held_loads
from harvok.cli.render.run_view import RunView, ShowRun
from harvok.cli.render.switch import show_rfc2889, show_rfc3918
from harvok.cli.render.tables import plain_table
from harvok.cli.render.tcp import TcpView, show_tcp, show_tcp_trials
from harvok.cli.render.udp import UdpView, show_load, show_loads, show_search, show_udp_trials
from harvok.core.labels import label_text
from harvok.core.models.run import RunRecord
from harvok.core.procedure import Test
from harvok.core.units import format_quantity
from harvok.runner.request import TestRequest


def show_figures(console: Console, record: RunRecord) -> None:
    """Every figure of a run, with every label."""
    table = plain_table(("figure", "of"), ("value",))
    for figure in record.figures:
        meaning = figure.meaning
        table.add_row(meaning.name, label_text(figure.labels), format_quantity(figure.value, meaning.unit))
    console.print()
    console.print(table)


@dataclass(frozen=True, slots=True)
class View:
    """How a kind of test is shown: `show` prints what a run comes to, `live` follows it while it runs,
    `details` prints its intervals or events, where it has any."""

    show: ShowRun = show_figures
    live: type[RunView] = RunView
    details: ShowRun | None = None


VIEWS: dict[str, View] = {
    "tcp": View(show_tcp, TcpView, show_tcp_trials),
    "udp-load": View(show_load, UdpView, show_udp_trials),
    "udp-steps": View(show_loads, UdpView, show_udp_trials),
    "udp-search": View(show_search, UdpView, show_udp_trials),
    "udp-services": View(show_loads, UdpView, show_udp_trials),
    "app": View(show_app, AppView, show_app_trials),
    "rfc9411": View(show_rfc9411, Rfc9411View),
    "app-calibration": View(show_app_calibration, Rfc9411View),
    "delay": View(show_delay, DelayView),
    "browser": View(show_browser),
    "link": View(show_link, LinkView, show_link_events),
    "rfc2544": View(show_rfc2544, FramesView),
    "rfc2889": View(show_rfc2889, FramesView),
    "rfc3918": View(show_rfc3918, FramesView),
    "load": View(show_held_loads, FramesView),
    "emulator": View(show_emulator, FramesView),
    "calibration": View(show_calibration, FramesView),
}


def view_of(test: Test) -> View:
    """The row of a test; that of its figures alone for a kind without one."""
    return VIEWS.get(test.kind, View())


def live_view(console: Console, request: TestRequest, charted: bool = True, compact: bool = False) -> RunView:
    """What follows a request while it runs, with charts where there is room; one of many runs is followed compactly. To
    be closed at the end."""
    view = view_of(request.test)
    live = view.live(console, view.show, request)
    live.charted, live.compact = charted, compact
    if not compact:
        live.announce()
    return live
