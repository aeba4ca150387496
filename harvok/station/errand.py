"""The near end of a test that somebody else asked this station for: what its operator allows, and the process that runs
the test."""

import ipaddress
import queue
import threading
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, time

from pydantic import ValidationError

from harvok.core.models.control import ErrandRequest
from harvok.core.models.errand import Errand
from harvok.core.site.calendar import is_within
from harvok.core.units import format_span
from harvok.core.wire.pairing import signed_text
from harvok.errors import LimitError, PairingError, ProtocolError, UnknownNameError
from harvok.signals import uninterrupted
from harvok.station.address import parse_station, resolve
from harvok.station.keys import Keys
from harvok.traffic.sockets import format_address
from harvok.worker.parent import Worker

ANYWHERE = "any"
_KEEP_ALIVE_S = 1.0
_END_S = 15.0
"""A test that is broken off says so to its far end first."""
_PROCESS = "harvok.runner.errand_process"


@dataclass(frozen=True, slots=True)
class ErrandLimits:
    """Toward whom a station lets itself be sent: names, addresses and networks, or `any`; and in which hours, by its
    own clock: at any time where none are given."""

    toward: tuple[str, ...]
    hours: tuple[tuple[time, time], ...] = ()

    def check(self, errand: Errand, max_test_s: float, max_flows: int, now: datetime) -> Errand:
        """The errand, with its far end as it may be reached. Raises LimitError for what the operator does not allow."""
        if self.hours and not any(is_within(now, hours) for hours in self.hours):
            raise LimitError(
                f"the station takes no errands at {now:%H:%M} of its clock", "Ask in the hours that its operator named."
            )
        expected_s, flows = errand.test.expected_s, getattr(getattr(errand.test, "trial", None), "flows", 1)
        if expected_s is None or expected_s > max_test_s:
            longest = format_span(max_test_s)
            raise LimitError(
                f"the station takes errands of at most {longest}, with a known end", "Ask for a shorter --duration."
            )
        if flows > max_flows:
            raise LimitError(f"the station allows 1 to {max_flows} flows, not {flows}", "Use fewer --flows.")
        return errand.model_copy(update={"station": self._allowed(errand.station)})

    def _allowed(self, station: str) -> str:
        """The far end as it was named, or by its address where that is what is allowed. Raises LimitError."""
        host, _ = parse_station(station)
        if {ANYWHERE, host, host.lower()} & set(self.toward):
            return station
        with suppress(UnknownNameError):
            address = resolve(station)
            if any(_holds(network, address.host) for network in self.toward):
                return format_address((address.host, address.port))
        raise LimitError(
            f"the station may not be sent toward {host}",
            "Its operator says toward whom: `harvok station --errands-to`.",
        )


def _holds(network: str, address: str) -> bool:
    try:
        return ipaddress.ip_address(address.partition("%")[0]) in ipaddress.ip_network(network, strict=False)
    except ValueError:  # a name
        return False


def read_errand(request: ErrandRequest, session: str, keys: Keys) -> Errand:
    """The errand of a near end that is paired and signed it. Raises PairingError, ProtocolError."""
    message = signed_text(keys.code, session, request.errand)
    asking = next((one for one in keys.near_ends() if one.code == request.code), None)
    if asking is None or not asking.has_signed(message, request.signature):
        raise PairingError(
            "the station takes errands of near ends alone that are paired with it",
            "Pair with it, while it runs with --pair: harvok pairing make STATION.",
        )
    try:
        return Errand.model_validate_json(request.errand)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise ProtocolError(
            f"the errand is not readable at {where}: {first['msg']}", "Upgrade the older end of the two."
        ) from error


class RunningErrand:
    """The process that runs the test; what it tells is passed on as it comes."""

    def __init__(self, errand: Errand) -> None:
        self._worker = Worker(_PROCESS, "")  # its orders hold a token, which no command line may show
        self._lines: queue.SimpleQueue[str | None] = queue.SimpleQueue()
        self._worker.tell(errand.model_dump_json().encode() + b"\n")
        with uninterrupted():
            threading.Thread(target=self._read, daemon=True).start()

    def lines(self) -> Iterator[str]:
        """What the process tells, as JSON Lines; an empty one now and then."""
        while True:
            try:
                line = self._lines.get(timeout=_KEEP_ALIVE_S)
            except queue.Empty:
                yield "\n"
                continue
            if line is None:
                return
            yield line

    def release(self) -> None:
        """Ends the test; may be called again."""
        self._worker.end(_END_S)

    def _read(self) -> None:
        for line in self._worker.raw_lines():
            self._lines.put(line.decode() + "\n")
        self._lines.put(None)
