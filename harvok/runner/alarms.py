"""Tells somebody of what changed at a site: by a command that gets JSON on its standard input, or by an HTTP POST."""

import queue
import shlex
import subprocess
import threading
from collections.abc import Callable, Iterator
from contextlib import closing
from datetime import UTC, timedelta
from types import TracebackType

import httpcore2
from pydantic_core import to_json

from harvok.core.labels import label_text
from harvok.core.models.site import AlarmKeys, SiteFile
from harvok.core.quantities import QUANTITIES
from harvok.core.site.alarms import SiteAlarm, alarm_of, new_change
from harvok.core.site.history import hours_of
from harvok.core.site.outcome import SiteTest
from harvok.core.units import format_quantity
from harvok.errors import HarvokError
from harvok.logbook.site_book import SiteBook
from harvok.logbook.store import Logbook
from harvok.runner.site_page import seen_of, utc_offset_s

_HISTORY = timedelta(days=28)
_PATIENCE_S = 30.0


class Alarms:
    """A context manager that hears of tests, and tells what they change, in a thread of its own: a receiver that is
    slow or gone holds nothing up. `notice` is called with what could not be told."""

    def __init__(self, site: SiteFile, logbook: str, notice: Callable[[str], None]) -> None:
        self._site, self._logbook, self._notice = site, logbook, notice
        self._tests: queue.SimpleQueue[SiteTest | None] = queue.SimpleQueue()
        self._thread = threading.Thread(target=self._work, daemon=True)

    def __enter__(self) -> "Alarms":
        if self._site.alarms:
            self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._site.alarms:
            self._tests.put(None)
            self._thread.join(_PATIENCE_S * 2)

    def hear(self, test: SiteTest) -> None:
        """A test began, ended, or was missed; it is in the logbook."""
        if self._site.alarms and test.state in ("done", "failed"):
            self._tests.put(test)

    def _work(self) -> None:
        while (test := self._tests.get()) is not None:
            try:
                with closing(Logbook(self._logbook)) as logbook:
                    self._look(logbook, test)
            except HarvokError as error:
                self._notice(f"no alarm can be given: {error.message}")

    def _look(self, logbook: Logbook, test: SiteTest) -> None:
        keys = [one for one in self._site.alarms if not one.rounds or test.round in one.rounds]
        if not keys:
            return
        pair = SiteBook(logbook, self._site.name).until(test, test.due - _HISTORY)
        changes = list(_changes(self._site, logbook, test)) if any("change" in one.on for one in keys) else []
        for one in keys:
            alarm = alarm_of(pair, one.in_a_row)
            found = [alarm] if alarm and alarm.kind in _heard(one) else []
            for each in [*found, *(changes if "change" in one.on else [])]:
                self._tell(one, each)

    def _tell(self, keys: AlarmKeys, alarm: SiteAlarm) -> None:
        body = encode_alarm(self._site.name, alarm)
        try:
            if keys.command:
                subprocess.run(
                    shlex.split(keys.command),
                    input=body,
                    check=True,
                    timeout=_PATIENCE_S,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.PIPE,
                )
            else:
                _post(keys.post or "", body)
        except (OSError, subprocess.SubprocessError, httpcore2.NetworkError, httpcore2.TimeoutException) as error:
            self._notice(f"the alarm of {alarm.test.pair} could not be given: {error}")
        except (httpcore2.ProtocolError, httpcore2.UnsupportedProtocol, ValueError) as error:
            self._notice(f"the alarm of {alarm.test.pair} was not taken: {error}")


def _heard(keys: AlarmKeys) -> set[str]:
    """The kinds that a receiver hears; who hears that a pair is bad hears when that is over, too."""
    return {*keys.on, *(("recovered",) if {"verdict", "failure"} & set(keys.on) else ())}


def _changes(site: SiteFile, logbook: Logbook, test: SiteTest) -> Iterator[SiteAlarm]:
    """The changes of level that come out with a test."""
    pairs = [(near, test.far) for near in test.near]
    seen = seen_of(site, logbook, site.round(test.round), pairs, test.due - _HISTORY)
    for (_, quantity, labels), values in seen.items():
        change = new_change([one.value for one in values], hours_of(values, utc_offset_s(site, values)))
        if change:
            unit, name = QUANTITIES[quantity].unit, QUANTITIES[quantity].name
            before, after = (format_quantity(value, unit) for value in (change.before, change.after))
            what = ", ".join(filter(None, (name, label_text(dict(labels)))))
            yield SiteAlarm("change", test, before, after, f"{what} changed its level")


def encode_alarm(site: str, alarm: SiteAlarm) -> bytes:
    """An alarm as JSON; docs/sites.md describes it."""
    test = alarm.test
    return to_json(
        {
            "format": "harvok-alarm",
            "version": 1,
            "site": site,
            "kind": alarm.kind,
            "round": test.round,
            "near": list(test.near),
            "far": test.far,
            "was": alarm.was,
            "now": alarm.now,
            "reason": alarm.reason,
            "due": test.due.astimezone(UTC),
            "told": test.ended,
            "failure": test.failure,
            "verdict": test.verdict,
            "runs": list(test.runs),
        }
    )


def _post(url: str, body: bytes) -> None:
    """Raises ValueError for an answer that is no success."""
    headers = [("Content-Type", "application/json"), ("User-Agent", "harvok")]
    timeouts = dict.fromkeys(("connect", "read", "write", "pool"), _PATIENCE_S)
    with httpcore2.ConnectionPool() as pool:
        answer = pool.request("POST", url, headers=headers, content=body, extensions={"timeout": timeouts})
    if not 200 <= answer.status < 300:
        raise ValueError(f"HTTP {answer.status} of {url}")
