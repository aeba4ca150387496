"""Values that a shell completes: what stands in the logbook, on this host and in this folder. Quiet when there is none,
and quick, since somebody waits with a finger on the key."""

import os
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import typer

if TYPE_CHECKING:
    from harvok.logbook.listing import RunLine

_NEWEST = 200
"""Runs that are looked at."""
Values = list[tuple[str, str]]
"""What may be typed, each with a few words about it."""


def runs(ctx: typer.Context, incomplete: str) -> Values:
    """The newest runs, and `last`."""
    lines = ((line.id, f"{line.test} {line.series or ''}".strip()) for line in _lines(ctx))
    return _beginning(incomplete, [("last", "the newest run"), *lines])


def series(ctx: typer.Context, incomplete: str) -> Values:
    """The series of the newest runs."""
    named = {line.series: line.test for line in reversed(_lines(ctx)) if line.series}
    return _beginning(incomplete, reversed(named.items()))


def series_and_runs(ctx: typer.Context, incomplete: str) -> Values:
    """Both, series first."""
    return [*series(ctx, incomplete), *runs(ctx, incomplete)]


def stations(incomplete: str) -> Values:
    """Stations that this user knows."""
    from harvok.errors import HarvokError
    from harvok.station.keys import own_keys

    try:
        known = own_keys().stations()
    except (HarvokError, OSError):
        return []
    return _beginning(incomplete, ((one.name, "a known station") for one in known))


def rigs(incomplete: str) -> Values:
    """Rig files of this folder."""
    return _files(incomplete, lambda text: "kind =" in text and "[[steps]]" not in text, "a rig")


def stations_and_rigs(incomplete: str) -> Values:
    """Both."""
    return [*stations(incomplete), *rigs(incomplete)]


def plan_files(incomplete: str) -> Values:
    """Plans of this folder, by file."""
    return _files(incomplete, lambda text: "[[steps]]" in text, "a plan")


def plans(incomplete: str) -> Values:
    """Plans at hand, by name, and those of this folder by file."""
    from harvok.runner.plan_shelf import named_plans, plan_folders

    elsewhere = [folder for folder in plan_folders() if folder != Path()]
    named = ((name, f"a plan in {path.parent}") for name, path in named_plans(elsewhere).items())
    return [*plan_files(incomplete), *_beginning(incomplete, named)]


def mixes(incomplete: str) -> Values:
    """Mixes that ship."""
    from harvok.rigs.mix_files import shipped

    return _beginning(incomplete, ((mix.name, mix.about) for mix in shipped()))


def impairments(incomplete: str) -> Values:
    """Impairments that ship."""
    from harvok.rigs.impairment_files import shipped

    return _beginning(incomplete, ((one.name, one.about) for one in shipped()))


def figures(incomplete: str) -> Values:
    """Keys of figures."""
    from harvok.core.quantities import QUANTITIES

    return _beginning(incomplete, ((key, quantity.name) for key, quantity in QUANTITIES.items()))


def words(incomplete: str) -> Values:
    """What `harvok explain` has something on: figures, limiters, errors, terms."""
    from harvok.runner.explain import known_words

    return _beginning(incomplete, known_words().items())


def interfaces(incomplete: str) -> Values:
    """Network interfaces of this host."""
    import socket

    return _beginning(incomplete, ((name, "an interface") for _, name in socket.if_nameindex()))


def _lines(ctx: typer.Context) -> "list[RunLine]":
    """The newest runs of the logbook that is asked for; none where it would have to be opened properly."""
    from harvok.cli.options import default_logbook
    from harvok.logbook.listing import glance

    place = ctx.params.get("logbook") or os.environ.get("HARVOK_LOGBOOK") or default_logbook()
    found = glance(str(place), _NEWEST, None)
    return found[0] if found else []


def _files(incomplete: str, is_one: Callable[[str], bool], what: str) -> Values:
    folder = Path(incomplete).parent
    found = []
    for path in sorted(folder.glob("*.toml")) if folder.is_dir() else ():
        try:
            if is_one(path.read_text(encoding="utf-8")):
                found.append((str(path), what))
        except (OSError, UnicodeDecodeError):
            continue
    return _beginning(incomplete, found)


def _beginning(incomplete: str, values: Iterable[tuple[str, str]]) -> Values:
    return [(value, about) for value, about in values if value.startswith(incomplete)]
