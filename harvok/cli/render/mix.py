"""Mixes of applications: what ships, and what the users of one do."""

from collections.abc import Callable, Sequence

from rich.console import Console
from rich.text import Text

from harvok.cli.render.tables import plain_table
from harvok.core.app.mix import MixFile
from harvok.core.trials.app import Action, Application
from harvok.core.units import counted, format_duration, format_share, format_size


def show_mixes(console: Console, mixes: Sequence[MixFile]) -> None:
    """A line for each mix."""
    table = plain_table(("mix", "applications", "about"))
    for mix in mixes:
        table.add_row(mix.name, str(len(mix.applications)), mix.about)
    console.print(table)


def show_mix(console: Console, mix: MixFile) -> None:
    """What a mix is, and all that its users do."""
    built = mix.build()
    applications = counted(len(built.applications), "application")
    console.print(Text.assemble((mix.name, "bold"), f"  {mix.about}" if mix.about else ""), soft_wrap=True)
    console.print(f"{applications}, shared by {built.shared_by}")
    for written, application, share in zip(mix.applications, built.applications, built.shares(), strict=True):
        console.print()
        about = f"  {written.about}" if written.about else ""
        console.print(
            Text.assemble((application.name, "bold"), f"  {format_share(share)} of the users{about}"), soft_wrap=True
        )
        console.print(_connections(application))
        table = plain_table(("  action",), ("times", "up", "down", "service", "pause"))
        for action in application.actions:
            table.add_row(*_cells(action))
        console.print(table)


def _connections(application: Application) -> str:
    each = application.transactions_per_connection
    last = f"{counted(each, 'transaction')} on each" if each else "each as long as its user stays"
    at_once = counted(application.connections, "connection")
    over = " over TLS" if application.tls else ""
    return f"  {application.protocol}{over}, {at_once} at a time, {last}"


def _cells(action: Action) -> tuple[str, ...]:
    return (
        f"  {action.name}",
        str(action.times),
        _spread(action.request_bytes, format_size),
        _spread(action.response_bytes, format_size),
        _spread(action.service_s, format_duration),
        _spread(action.think_s, format_duration),
    )


def _spread(values: Sequence[float], show: Callable[[float], str]) -> str:
    low, high = min(values), max(values)
    return show(low) if low == high else f"{show(low)} to {show(high)}"
