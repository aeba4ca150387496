"""Who has the station: one near end at a time, or those of one group, each for as long as it keeps renewing its
lease. Knows no network."""

import secrets
import threading
from dataclasses import dataclass

from harvok.clock import Clock
from harvok.core.units import format_span
from harvok.errors import BusyError, ProtocolError

LEASE_S = 5.0


_HELD_UP_NS = 1_000_000_000
"""A host that is not held up looks more often than this."""
MAX_MEMBERS = 16
"""Near ends of one group."""


@dataclass(slots=True)
class _Holder:
    session: str
    near: str
    planned_until_ns: int
    lease_until_ns: int
    group: str | None
    place: int


class Sessions:
    """Hands the station out and takes it back: to one near end, or to those of one group. Safe to call from several
    threads."""

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self._lock = threading.Lock()
        self._holders: dict[str, _Holder] = {}
        self._looked_ns = 0

    def claim(self, near: str, planned_s: float, session: str | None = None, group: str | None = None) -> str:
        """Gives the station to a near end and returns its session, which is named as that one wants, or by chance.
        Raises BusyError when somebody has it who is not of the same group."""
        now_ns = self._clock.now_ns()
        with self._lock:
            holders = list(self._holders.values())
            if holders and (not group or len(holders) >= MAX_MEMBERS or any(one.group != group for one in holders)):
                free_in_s = self._free_in_s()
                raise BusyError(
                    f"the station serves {holders[0].near}; it should be free in {format_span(round(free_in_s))}",
                    "Wait your turn with --wait 5min, or try later.",
                    free_in_s,
                )
            until_ns = now_ns + int(planned_s * 1e9)
            taken = {one.place for one in holders}
            place = next(place for place in range(MAX_MEMBERS) if place not in taken)
            name = session or secrets.token_hex(16)
            self._holders[name] = _Holder(name, near, until_ns, now_ns + int(LEASE_S * 1e9), group, place)
            return name

    def renew(self, session: str) -> int:
        """Proves that the near end still lives; returns its place in its group, from 0. Raises ProtocolError for a
        session that has ended."""
        with self._lock:
            for holder in self._holders.values():
                if secrets.compare_digest(holder.session.encode(), session.encode()):
                    holder.lease_until_ns = self._clock.now_ns() + int(LEASE_S * 1e9)
                    return holder.place
        raise ProtocolError(
            "this session has ended: the near end was silent for too long, or gave the station back",
            "Measure again; if it happens often, look for losses on the control connection.",
        )

    def give_back(self, session: str) -> bool:
        """Frees the station, or a place in its group; False when the session had ended already."""
        with self._lock:
            return self._holders.pop(session, None) is not None

    def expire(self) -> list[tuple[str, str]]:
        """Frees the station from near ends that fell silent, and returns their sessions and names. To be called often:
        a host that was itself held up between two calls may have heard nothing for that reason, so that the time
        counts for nobody."""
        with self._lock:
            now_ns = self._clock.now_ns()
            held_up_ns = now_ns - self._looked_ns - _HELD_UP_NS if self._looked_ns else 0
            self._looked_ns = now_ns
            for one in self._holders.values():
                one.lease_until_ns += max(held_up_ns, 0)
            silent = [one for one in self._holders.values() if now_ns >= one.lease_until_ns]
            for one in silent:
                del self._holders[one.session]
            return [(one.session, one.near) for one in silent]

    @property
    def free_in_s(self) -> float | None:
        """When the station should be free, in seconds from now; None when it is free."""
        with self._lock:
            return self._free_in_s() if self._holders else None

    def _free_in_s(self) -> float:
        until_ns = max(one.planned_until_ns for one in self._holders.values())
        return max((until_ns - self._clock.now_ns()) / 1e9, 1.0)
