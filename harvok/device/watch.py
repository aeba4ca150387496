"""Follows a device while a test runs: readings as they come, and fresh ones when they are needed."""

import json
import os
import queue
import threading
from collections.abc import Callable
from dataclasses import dataclass
from types import TracebackType
from typing import Any, Protocol

from harvok.core.device.counters import Refresh, Totals
from harvok.core.device.reading import DeviceFacts, DeviceReading, facts_of, reading_of
from harvok.device.following import follow
from harvok.device.orders import WatchOrders, write_orders
from harvok.errors import DeviceSilentError, HarvokError, NearEndError
from harvok.worker.parent import Worker

_READY_S = 60.0
"""An agent that has thousands of ports and answers slowly takes about that long to tell what it is."""
_NOW_S = 10.0

Heard = Callable[[DeviceReading], None]
_Hear = Callable[[dict[str, Any]], None]


class Following(Protocol):
    """A device that is followed; a modelled one does it in virtual time. `on_reading` hears every reading, as totals
    that only grow; None for nobody. `refresh` is what is known of how often its counters change, `restarts` how often
    it started anew, `unanswered` how many questions had no answer."""

    facts: DeviceFacts
    watched: list[str]
    every_s: float
    refresh: Refresh
    unanswered: int
    on_reading: Heard | None

    @property
    def restarts(self) -> int: ...

    def read_now(self) -> DeviceReading | None:
        """A reading that was asked for after this call; None when no answer comes."""

    def close(self) -> None:
        """Follows it no longer."""


class _Here:
    """Follows in a thread: a question costs half a millisecond of this process."""

    def __init__(self, orders: WatchOrders, hear: _Hear) -> None:
        self._words: queue.SimpleQueue[bool | None] = queue.SimpleQueue()
        self._thread = threading.Thread(target=self._follow, args=(orders, hear), name="device", daemon=True)
        self._thread.start()

    def ask(self) -> None:
        self._words.put(True)

    def end(self) -> None:
        self._words.put(None)
        self._thread.join()

    def _follow(self, orders: WatchOrders, hear: _Hear) -> None:
        try:
            follow(orders, hear, self._wait)
        except HarvokError as error:
            hear({"fault": [error.message, error.hint]})

    def _wait(self, wait_s: float) -> bool | None:
        try:
            return self._words.get(timeout=wait_s)
        except queue.Empty:
            return False


class _Elsewhere:
    """Follows in a process of its own."""

    def __init__(self, orders: WatchOrders, hear: _Hear) -> None:
        fd = write_orders(orders)
        try:
            self._worker = Worker("harvok.device.watch_worker", json.dumps(fd), [fd])
        finally:
            os.close(fd)
        self._thread = threading.Thread(target=self._follow, args=(hear,), name="device", daemon=True)
        self._thread.start()

    def ask(self) -> None:
        self._worker.tell(b"now\n")

    def end(self) -> None:
        self._worker.end()
        self._thread.join()

    def _follow(self, hear: _Hear) -> None:
        try:
            for line in self._worker.lines():
                hear(line)
        except NearEndError as error:
            hear({"fault": [error.message, error.hint]})


@dataclass(slots=True)
class _Heard:
    """What has been heard of a device so far."""

    ready: dict[str, Any] | None = None
    fault: tuple[str, str] | None = None
    latest: DeviceReading | None = None
    answered: int = 0


class DeviceWatch:
    """A device that is asked, from when it is opened until it is closed. A context manager; see Following.

    Raises DeviceSilentError when the device does not say what it is.
    """

    def __init__(self, orders: WatchOrders) -> None:
        self.every_s, self.refresh, self.unanswered = orders.every_s, Refresh(orders.every_s), 0
        self.on_reading: Heard | None = None
        self._heard, self._news, self._asked = _Heard(), threading.Condition(), 0
        self._totals = Totals(wide=True)
        self._follower = (_Elsewhere if orders.access.user else _Here)(orders, self._hear)
        with self._news:
            self._news.wait_for(lambda: self._heard.ready or self._heard.fault, _READY_S)
        if self._heard.ready is None:
            self._follower.end()
            raise DeviceSilentError(*(self._heard.fault or _TOO_LONG))
        told = dict(self._heard.ready)
        self.watched: list[str] = told.pop("watched")
        self.facts: DeviceFacts = facts_of(told)

    def __enter__(self) -> "DeviceWatch":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        self.on_reading = None
        self._follower.end()

    @property
    def restarts(self) -> int:
        return self._totals.restarts

    def read_now(self) -> DeviceReading | None:
        with self._news:
            if self._heard.fault:
                return None
            self._asked += 1
            mine = self._asked
            self._follower.ask()
            self._news.wait_for(lambda: self._heard.answered >= mine or self._heard.fault, _NOW_S)
            return self._heard.latest if self._heard.answered >= mine else None

    def _hear(self, line: dict[str, Any]) -> None:
        """Takes what the follower says."""
        reading = None
        with self._news:
            if "ready" in line:
                self._heard.ready = line["ready"]
                self._totals = Totals(line["ready"]["wide"])
            elif "fault" in line:
                message, hint = line["fault"]
                self._heard.fault = message, hint
            else:
                reading = self._take(line)
            self._news.notify_all()
        if reading and self.on_reading:
            self.on_reading(reading)

    def _take(self, line: dict[str, Any]) -> DeviceReading | None:
        reading = None
        if "reading" in line:
            reading = self._totals.add(reading_of(line["reading"]))
            self.refresh.add(reading)
        else:
            self.unanswered += 1
        self._heard.latest, self._heard.answered = reading, line["asked"]
        return reading


_TOO_LONG = (
    f"the device does not say within {_READY_S:.0f} s what it is",
    "It has very many ports, or answers slowly: see with `harvok device show` how long it takes.",
)


def facts_once(orders: WatchOrders) -> tuple[DeviceFacts, DeviceReading | None]:
    """What a device is, and one reading. Raises DeviceSilentError."""
    with DeviceWatch(orders) as watch:
        return watch.facts, watch.read_now()
