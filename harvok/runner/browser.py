"""Browsers that measure with this host's station: each visit is one run, kept in this host's logbook like any other."""

import threading
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass
from functools import partial

from harvok.clock import SYSTEM, Clock
from harvok.core.figures import find
from harvok.core.models.run import RunRecord
from harvok.core.observer import Observer
from harvok.core.procedures.browser import BrowserTest
from harvok.core.units import format_byte_rate, format_duration, format_rate
from harvok.errors import HarvokError
from harvok.logbook.store import Logbook
from harvok.runner.browser_places import PLACE, PlaceFigures, ranked_places
from harvok.runner.request import BrowserPlace, Label, TestRequest
from harvok.runner.run import run_test
from harvok.station.browser.visit import Ending, Visit, VisitRequest
from harvok.station.service import Station

_AROUND_S = 15.0
"""Beside the transfers: opening connections, telling what was seen."""


@dataclass(frozen=True, slots=True)
class DeskSettings:
    """Where the runs go, and what is known of them before."""

    logbook: str
    port: int
    command: list[str]
    test: BrowserTest = BrowserTest()
    rated_bps: float | None = None


class BrowserDesk:
    """Begins visits, one at a time and never beside another test of the station, and keeps what they measured."""

    def __init__(
        self, station: Station, settings: DeskSettings, tell: Callable[[str], None], clock: Clock = SYSTEM
    ) -> None:
        self._station, self._settings, self._tell, self._clock = station, settings, tell, clock

    def begin(self, asked: VisitRequest, address: str, local: str) -> Visit:
        """Holds the station for a browser, and has it measure. Raises BusyError."""
        asked = asked.model_copy(update={key: _shown(text) for key, text in asked if isinstance(text, str)})
        session = self._station.hold(f"a browser at {asked.place}", self._settings.test.expected_s + _AROUND_S, address)
        visit = Visit(asked, address, local, partial(self._station.sessions.renew, session), self._clock)
        threading.Thread(target=self._measure, args=(visit, session), daemon=True).start()
        return visit

    def _measure(self, visit: Visit, session: str) -> None:
        records: list[RunRecord] = []
        ending = Ending()
        try:
            run_test(self._request(visit), Observer(), records.append, self._clock)
            ending = self._ending(records[-1])
            said = "; ".join(f"{line['what']} {line['value']}" for line in [*ending.lines, *ending.responses])
            self._tell(f"{visit.asked.place}: {said}; run {ending.run}")
        except HarvokError as error:
            ending = Ending(error=f"{error.message}. {error.hint}")
            self._tell(f"{visit.asked.place}: {error.message}")
        except Exception as error:  # whatever it is, the station goes on, and the page is told
            ending = Ending(error=f"the station could not go on: {error!r}. Reload the page, and report this.")
            self._tell(f"{visit.asked.place}: {ending.error}")
        finally:
            visit.end(ending)
            self._station.give_back(session)

    def _request(self, visit: Visit) -> TestRequest:
        settings, asked = self._settings, visit.asked
        attributes = {PLACE: asked.place, "browser": asked.browser, "system": asked.system}
        return TestRequest(
            place=BrowserPlace(visit, self._station.settings.name, settings.port, settings.rated_bps),
            test=settings.test,
            logbook=settings.logbook,
            command=settings.command,
            label=Label(f"browser.{asked.place}", {key: text for key, text in attributes.items() if text}),
        )

    def _ending(self, record: RunRecord) -> Ending:
        with closing(Logbook(self._settings.logbook)) as logbook:
            places = [one for one in ranked_places(logbook) if one.device == record.near.name]
        return Ending(
            record.id, "", _lines(record), _responses(record), [_row(one, record.attributes[PLACE]) for one in places]
        )


def _shown(text: str) -> str:
    """What a stranger wrote, fit for a terminal: no letter in it moves a cursor."""
    return "".join(letter if letter.isprintable() else " " for letter in text).strip() or "unnamed"


def _lines(record: RunRecord) -> list[dict[str, str]]:
    """What a visitor is told of goodput: each direction with its limiter, and both at once."""
    limiters = {reading.direction: reading.limiter for reading in record.readings}
    found = []
    for figure in record.figures:
        if figure.quantity not in ("goodput-settled", "goodput-both-ways"):
            continue
        direction, alone = figure.labels["direction"], figure.quantity == "goodput-settled"
        limiter = limiters.get(direction) if alone else None
        found.append(
            {
                "what": direction if alone else f"{direction}, both at once",
                "value": format_rate(figure.value),
                "also": f"= {format_byte_rate(figure.value)}",
                "limiter": limiter.name if limiter else "",
                "evidence": limiter.evidence if limiter else "",
            }
        )
    return found


def _responses(record: RunRecord) -> list[dict[str, str]]:
    words = {"idle": "response at rest", "receive": "while receiving", "send": "while sending", "both": "while both"}
    values = {what: find(record.figures, "page-response-median", load=load) for load, what in words.items()}
    return [{"what": what, "value": format_duration(value)} for what, value in values.items() if value is not None]


def _row(one: PlaceFigures, here: str) -> dict[str, str]:
    return {
        "place": one.place,
        "here": "yes" if one.place == here else "",
        "runs": str(one.runs),
        "receive": format_rate(one.receive_bps) if one.receive_bps is not None else "–",
        "send": format_rate(one.send_bps) if one.send_bps is not None else "–",
        "response": format_duration(one.response_loaded_s) if one.response_loaded_s is not None else "–",
    }
