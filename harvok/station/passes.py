"""Tokens for near ends that are not to know the station's own. Knows no network."""

import secrets
import threading

from harvok.clock import Clock
from harvok.errors import LimitError

MAX_PASSES = 64
_GRACE_S = 60.0
_OPENED = ("/v1/station", "/v1/sessions")


class Passes:
    """Hands them out, and knows them again until they are out of date. Safe to call from several threads."""

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self._lock = threading.Lock()
        self._until_ns: dict[str, int] = {}

    def make(self, for_s: float) -> str:
        """A new one for so many seconds, and a minute. Raises LimitError where too many are about."""
        now_ns = self._clock.now_ns()
        with self._lock:
            self._until_ns = {token: until for token, until in self._until_ns.items() if until > now_ns}
            if len(self._until_ns) >= MAX_PASSES:
                raise LimitError(f"the station has {MAX_PASSES} passes out already", "Try again later.")
            token = secrets.token_hex(16)
            self._until_ns[token] = now_ns + int((for_s + _GRACE_S) * 1e9)
            return token

    def admit(self, authorization: bytes, path: str) -> bool:
        """Whether a request with this header may make this call: to test, and nothing else."""
        if not path.startswith(_OPENED):
            return False
        now_ns = self._clock.now_ns()
        with self._lock:
            good = [token for token, until_ns in self._until_ns.items() if until_ns > now_ns]
        return any(secrets.compare_digest(authorization, f"Bearer {token}".encode()) for token in good)
