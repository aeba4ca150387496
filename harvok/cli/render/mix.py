"""Mixes of applications: what ships, and what the users of one do."""

from collections.abc import Callable, Sequence

from rich.console import Console
from rich.text import Text

from harvok.cli.render.tables import plain_table
from harvok.core.app.demand import AppDemand
from harvok.core.app.mix import MixFile
from harvok.core.trials.app import Action, Application
from harvok.core.units import counted, format_duration, format_per_second, format_rate, format_share, format_size


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


def show_demands(console: Console, name: str, users: int, found: Sequence[AppDemand]) -> None:
    """What users of a mix ask for at most, by application and all together."""
    asked = [one for one in found if one.transactions_per_s is not None]
    asking = f"{counted(users, 'user')} would ask for, bodies alone"
    console.print(f"{name} is valid; if every answer came at once, {asking}:")
    table = plain_table(("  application",), ("transactions/s", "up", "down"))
    for one in found:
        table.add_row(*_demand_cells(one))
    if len(asked) == len(found) > 1:
        total = (sum(getattr(one, what) for one in asked) for what in ("transactions_per_s", "up_bps", "down_bps"))
        table.add_row(*_demand_cells(AppDemand("all", *total)))
    console.print(table)
    if len(asked) < len(found):
        console.print("  no limit: its users never pause, and take what the path gives")


def _demand_cells(demand: AppDemand) -> tuple[str, ...]:
    if demand.transactions_per_s is None or demand.up_bps is None or demand.down_bps is None:
        return (f"  {demand.application}", "no limit", "no limit", "no limit")
    return (
        f"  {demand.application}",
        format_per_second(demand.transactions_per_s),
        format_rate(demand.up_bps),
        format_rate(demand.down_bps),
    )


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
