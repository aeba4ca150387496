"""An impairment at work between two ports: its process, what it reports, and how it is changed and ended."""

import json
import subprocess
import sys
import threading
from collections.abc import Callable, Sequence
from dataclasses import asdict
from types import TracebackType

from harvok.core.impairment import DirectionReport, ImpairmentPlan, ImpairmentReport
from harvok.errors import NearEndError
from harvok.traffic.impair_worker import BridgeOrders

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
        self._process: subprocess.Popen[str] | None = None
        self._thread: threading.Thread | None = None

    def __enter__(self) -> "ImpairedPath":
        """Starts it. Raises NearEndError when a port cannot be used."""
        process = subprocess.Popen(
            [sys.executable, "-m", "harvok.traffic.impair_worker", self._orders.encode()],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )
        assert process.stdout
        said = process.stdout.readline()
        told = json.loads(said) if said else {"fault": ["the impairment did not start", "Check free memory."]}
        if "fault" in told:
            process.communicate()
            raise NearEndError(*told["fault"])
        self._process = process
        self._thread = threading.Thread(target=self._read, args=[process], daemon=True)
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()

    @property
    def runs(self) -> bool:
        return self._process is not None and self._process.poll() is None

    @property
    def pid(self) -> int:
        """The process that carries the frames."""
        assert self._process
        return self._process.pid

    def apply(self, plan: ImpairmentPlan) -> None:
        """Carries out another plan from now on."""
        assert self._process and self._process.stdin
        self._process.stdin.write(json.dumps(asdict(plan)) + "\n")
        self._process.stdin.flush()

    def stop(self) -> ImpairmentReport | None:
        """Ends it, and returns what it did over all; may be called again."""
        if self._process and self._process.stdin and self._thread:
            self._process.stdin.close()
            self._thread.join(_LAST_REPORT_S)
            self._process.kill()
            self._process.wait()
            if self._process.stdout:
                self._process.stdout.close()
            self._process = None
        return self.last

    def _read(self, process: "subprocess.Popen[str]") -> None:
        assert process.stdout
        try:
            for line in process.stdout:
                told = json.loads(line)
                directions = [DirectionReport(**one) for one in told.pop("directions")]
                self.last = ImpairmentReport(**told, directions=directions)
                self._on_report(self.last)
        except (ValueError, OSError):
            return  # closed while it was ended
