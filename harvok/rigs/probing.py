"""Delay probes beside a trial, in the background."""

import threading
from collections.abc import Callable

from harvok.core.trials.delay import DelayTrial, DelayTrialResult, Echo
from harvok.errors import StationLostError
from harvok.signals import uninterrupted
from harvok.traffic.delay import DelaySession, Prober

_TAIL_S = 5.0
OnProbe = Callable[[int, Echo], None]
"""Called with the wall clock at the first probe, in ns, and with each that is answered or lost."""


class Probing:
    """Probes a reflector from `begin` on; leaving it ends that, and closes `prober`."""

    def __init__(self, prober: Prober, session: DelaySession, trial: DelayTrial, on_probe: OnProbe) -> None:
        self._prober, self._session, self._trial, self._on_probe = prober, session, trial, on_probe
        self._result: DelayTrialResult | None = None
        self._fault: BaseException | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)

    def __enter__(self) -> "Probing":
        return self

    def __exit__(self, *error: object) -> None:
        if self._thread.ident is not None:
            self._session.interrupt()
            self._thread.join(_TAIL_S)
        self._prober.sock.close()

    def begin(self) -> None:
        """Sends the first probe."""
        with uninterrupted():
            self._thread.start()

    def finish(self) -> DelayTrialResult:
        """Waits for the last probe. Raises whatever broke it off."""
        self._thread.join(self._trial.duration_s + self._trial.wait_s + _TAIL_S)
        if self._fault:
            raise self._fault
        if self._result is None:
            raise StationLostError("the delay probes did not end in time", "Measure again.")
        return self._result

    def _run(self) -> None:
        try:
            self._result = self._session.run(self._trial, lambda echo: self._on_probe(self._session.began_ns, echo))
        except BaseException as fault:
            self._fault = fault
