"""The places that people named as they measured with a browser, ranked by what they got there."""

import statistics
from collections.abc import Iterable
from dataclasses import dataclass

from harvok.core.figures import find
from harvok.core.models.run import RunRecord
from harvok.core.procedures.browser import BrowserTest
from harvok.logbook.store import Logbook

PLACE = "place"
"""The attribute of a run that holds it."""
_LOOK_BACK = 500


@dataclass(frozen=True, slots=True)
class PlaceFigures:
    """Medians over the runs of one device at one place; None where a run had none. `limiters` by direction are those of
    the newest run. Goodput in b/s, times in s."""

    place: str
    device: str
    runs: int
    receive_bps: float | None
    send_bps: float | None
    response_idle_s: float | None
    response_loaded_s: float | None
    limiters: dict[str, str]


def ranked_places(logbook: Logbook) -> list[PlaceFigures]:
    """Every place of every device that measured here, those of one device together, the best first."""
    groups: dict[tuple[str, str], list[RunRecord]] = {}
    for record in logbook.newest_of(BrowserTest().title, _LOOK_BACK):
        place = record.attributes.get(PLACE)
        if place:
            groups.setdefault((record.near.name, place), []).append(record)
    found = [_place(device, place, records) for (device, place), records in groups.items()]
    return sorted(found, key=lambda one: (one.device, -(one.receive_bps or 0.0), one.place))


def _place(device: str, place: str, records: list[RunRecord]) -> PlaceFigures:
    def median(quantity: str, **labels: str) -> float | None:
        return _median(find(record.figures, quantity, **labels) for record in records)

    loaded = [median("page-response-median", load=load) for load in ("receive", "send")]
    return PlaceFigures(
        place=place,
        device=device,
        runs=len(records),
        receive_bps=median("goodput-settled", direction="receive"),
        send_bps=median("goodput-settled", direction="send"),
        response_idle_s=median("page-response-median", load="idle"),
        response_loaded_s=max((one for one in loaded if one is not None), default=None),
        limiters={reading.direction: reading.limiter.name for reading in records[0].readings},
    )


def _median(values: Iterable[float | None]) -> float | None:
    known = [value for value in values if value is not None]
    return statistics.median(known) if known else None
