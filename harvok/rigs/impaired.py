"""An impairment at work between two ports: its process, what it reports, and how it is changed and ended."""

import json
import threading
from collections.abc import Callable, Sequence
from dataclasses import asdict
from types import TracebackType

from harvok.core.impairment import DirectionReport, ImpairmentPlan, ImpairmentReport
from harvok.errors import NearEndError
from harvok.signals import uninterrupted
from harvok.traffic.impair_worker import BridgeOrders
from harvok.worker.parent import Worker

OnReport = Callable[[ImpairmentReport], None]
_LAST_REPORT_S = 5.0


class ImpairedPath:
    """A context manager: inside, the path between the ports is impaired. `last` is the newest report."""

    def __init__(
        self,
        ports: tuple[str, str],
        plan: ImpairmentPlan,
        namespaces: Sequence[str] = (),
        on_report: OnReport = lambda _: None,
    ) -> None:
        self.last: ImpairmentReport | None = None
        self._on_report = on_report
        self._orders = BridgeOrders(ports, plan, list(namespaces))
        self._worker: Worker | None = None
        self._thread: threading.Thread | None = None
        self._fault: NearEndError | None = None

    def __enter__(self) -> "ImpairedPath":
        """Starts it. Raises NearEndError when a port cannot be used."""
        worker = Worker("harvok.traffic.impair_worker", self._orders.encode())
        try:
            worker.wait_ready()
        except NearEndError:
            worker.kill()
            raise
        self._worker = worker
        self._thread = threading.Thread(target=self._read, args=[worker], daemon=True)
        with uninterrupted():
            self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()

    @property
    def runs(self) -> bool:
        return self._worker is not None and self._worker.runs

    @property
    def pid(self) -> int:
        """The process that carries the frames."""
        assert self._worker
        return self._worker.pid

    def apply(self, plan: ImpairmentPlan) -> None:
        """Carries out another plan from now on."""
        assert self._worker
        self._worker.tell(json.dumps(asdict(plan)).encode() + b"\n")

    def stop(self) -> ImpairmentReport | None:
        """Ends it, and returns what it did over all; may be called again. Raises NearEndError when it failed
        on the way."""
        if self._worker and self._thread:
            self._worker.close_input()
            self._thread.join(_LAST_REPORT_S)
            self._worker.kill()
            self._worker = None
            if self._fault:
                raise self._fault
        return self.last

    def _read(self, worker: Worker) -> None:
        try:
            for report in worker.lines():
                directions = [DirectionReport(**one) for one in report.pop("directions")]
                self.last = ImpairmentReport(**report, directions=directions)
                self._on_report(self.last)
        except NearEndError as fault:
            self._fault = fault
