"""Who has the station: one near end at a time, for as long as it keeps renewing its lease. Knows no network."""

import secrets
import threading
from dataclasses import dataclass

from harvok.clock import Clock
from harvok.core.units import format_span
from harvok.errors import BusyError, ProtocolError

LEASE_S = 5.0


@dataclass(slots=True)
class _Holder:
    session: str
    near: str
    planned_until_ns: int
    lease_until_ns: int


class Sessions:
    """Hands the station out and takes it back. Safe to call from several threads."""

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self._lock = threading.Lock()
        self._holder: _Holder | None = None

    def claim(self, near: str, planned_s: float, session: str | None = None) -> str:
        """Gives the station to a near end and returns its session, which is named as that one wants, or by chance.
        Raises BusyError when somebody has it."""
        now_ns = self._clock.now_ns()
        with self._lock:
            if self._holder:
                free_in_s = self._free_in_s(self._holder)
                raise BusyError(
                    f"the station serves {self._holder.near}; it should be free in {format_span(round(free_in_s))}",
                    "Wait your turn with --wait 5min, or try later.",
                    free_in_s,
                )
            until_ns = now_ns + int(planned_s * 1e9)
            self._holder = _Holder(session or secrets.token_hex(16), near, until_ns, now_ns + int(LEASE_S * 1e9))
            return self._holder.session

    def renew(self, session: str) -> None:
        """Proves that the near end still lives. Raises ProtocolError for a session that has ended."""
        with self._lock:
            if not self._holder or not secrets.compare_digest(self._holder.session.encode(), session.encode()):
                raise ProtocolError(
                    "this session has ended: the near end was silent for too long, or gave the station back",
                    "Measure again; if it happens often, look for losses on the control connection.",
                )
            self._holder.lease_until_ns = self._clock.now_ns() + int(LEASE_S * 1e9)

    def give_back(self, session: str) -> bool:
        """Frees the station; False when the session had ended already."""
        with self._lock:
            if not self._holder or self._holder.session != session:
                return False
            self._holder = None
            return True

    def expire(self) -> str | None:
        """Frees the station from a near end that fell silent, and returns that one's name."""
        with self._lock:
            if not self._holder or self._clock.now_ns() < self._holder.lease_until_ns:
                return None
            near = self._holder.near
            self._holder = None
            return near

    @property
    def free_in_s(self) -> float | None:
        """When the station should be free, in seconds from now; None when it is free."""
        with self._lock:
            return self._free_in_s(self._holder) if self._holder else None

    def _free_in_s(self, holder: _Holder) -> float:
        return max((holder.planned_until_ns - self._clock.now_ns()) / 1e9, 1.0)
