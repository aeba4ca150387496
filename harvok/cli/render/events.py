"""What was done in mid-test, and what that cost."""

from collections.abc import Iterator

from rich.console import Console
from rich.text import Text

from harvok.cli.render.console import print_hanging
from harvok.core.events import EVENT, INTENDED, TOOK
from harvok.core.figures import find
from harvok.core.models.run import RunRecord
from harvok.core.samples import Event
from harvok.core.units import counted, format_duration

_COSTS = (
    ("outage-from-loss", "outage of {} by loss"),
    ("outage-from-rate", "{} by rate"),
    ("time-to-recover", "recovered after {}"),
    ("event-stall", "nothing came for {}"),
    ("event-delay-rise", "the delay rose by {}"),
)
_COUNTS = (
    ("event-failed-transactions", "transaction", "failed"),
    ("event-lost-connections", "connection", "moved nothing any more"),
)


def show_events(console: Console, record: RunRecord) -> None:
    """Each event of a run with its time in the last trial, then a line for each direction."""
    done = {event.labels["what"]: event for trial in record.trials for event in trial.events if event.name == EVENT}
    directions = dict.fromkeys(f.labels["direction"] for f in record.figures if "event" in f.labels)
    for what, event in done.items():
        print_hanging(console, Text("event ", "bold"), f"{what}: {_when(event)}")
        for direction in directions:
            if costs := ", ".join(_costs(record, what, direction)):
                print_hanging(console, Text(f"      {direction or 'there and back'} ", "bold"), costs)


def _when(event: Event) -> str:
    late_s = event.at_s - event.values[INTENDED]
    said = f"done at {event.at_s:.3f} s, {format_duration(max(late_s, 0.0))} after its time"
    if fault := event.labels.get("fault"):
        return f"{said}, and failed: {fault}"
    if event.labels["what"].startswith("await "):
        return f"said to be done at {event.at_s:.3f} s, {format_duration(event.values[TOOK])} after it was asked for"
    return f"{said}; took {format_duration(event.values[TOOK])}"


def _costs(record: RunRecord, what: str, direction: str) -> Iterator[str]:
    for quantity, words in _COSTS:
        value = find(record.figures, quantity, event=what, direction=direction)
        if value is not None and (value or quantity != "event-stall"):
            yield words.format(format_duration(value) if value else "0 s")
    if find(record.figures, "outage-from-rate", event=what, direction=direction) and (
        find(record.figures, "time-to-recover", event=what, direction=direction) is None
    ):
        yield "did not recover"
    for quantity, thing, fate in _COUNTS:
        if number := find(record.figures, quantity, event=what, direction=direction):
            yield f"{counted(int(number), thing)} {fate}"
