"""The far half of a trial, behind the same five calls for every kind of traffic: prepare, start, progress, result,
release. The near end may call in any order and at any time, so what may follow what stands in a table.
"""

import contextlib
import queue
import secrets
import threading
from collections.abc import Iterator
from enum import Enum

from harvok.clock import Clock
from harvok.core.models.control import FarEndResult, Fault, PreparedTrial, Progress
from harvok.core.wire.hello import KEY_BYTES, TRIAL_ID_BYTES
from harvok.errors import HarvokError, LimitError, ProtocolError
from harvok.host.cpu import Meter
from harvok.traffic.table import AnyInterval, FlowTrial, make_trial_end, open_listener
from harvok.traffic.trial_end import TrialEnd

_ADMISSION_TIMEOUT_S = 10.0
_KEEP_ALIVE_S = 1.0
_MAX_FAULT_CHARACTERS = 900


class State(Enum):
    """Where the far end of a trial stands."""

    PREPARED = "prepared"
    STARTING = "starting"
    RUNNING = "running"
    OVER = "over"
    RELEASED = "released"


_NEXT: dict[tuple[State, str], State] = {
    (State.PREPARED, "start"): State.STARTING,
    (State.STARTING, "run"): State.RUNNING,
    (State.RUNNING, "progress"): State.RUNNING,
    (State.RUNNING, "finish"): State.OVER,
    (State.OVER, "progress"): State.OVER,
    (State.RUNNING, "result"): State.RUNNING,
    (State.OVER, "result"): State.OVER,
    (State.PREPARED, "release"): State.RELEASED,
    (State.STARTING, "release"): State.RELEASED,
    (State.RUNNING, "release"): State.RELEASED,
    (State.OVER, "release"): State.RELEASED,
    (State.RELEASED, "release"): State.RELEASED,
}


def next_state(state: State, event: str) -> State:
    """The state after an event. Raises ProtocolError for what may not happen in this state."""
    if (state, event) not in _NEXT:
        raise ProtocolError(
            f"'{event}' makes no sense for a trial that is {state.value}", "Use near end and station of one version."
        )
    return _NEXT[state, event]


class FarEnd:
    """The far half of one trial, from preparing it to releasing it."""

    def __init__(
        self, trial: FlowTrial, host: str | None, data_port: int, max_test_s: float, clock: Clock, peer: str
    ) -> None:
        """`peer` is the address of the near end."""
        self._trial = trial
        self._clock = clock
        self._max_test_s = max_test_s
        self._data_port = data_port
        self._trial_id, self._key = secrets.token_bytes(TRIAL_ID_BYTES), secrets.token_bytes(KEY_BYTES)
        self._state = State.PREPARED
        self._lock = threading.Lock()
        self._progress: queue.SimpleQueue[Progress] = queue.SimpleQueue()
        self._trial_end: TrialEnd | None = None
        self._flow_listener = open_listener(trial, self._trial_id, self._key, host, data_port, peer)

    @property
    def prepared(self) -> PreparedTrial:
        """What the near end needs to open its data connections."""
        return PreparedTrial(trial_id=self._trial_id.hex(), key=self._key.hex(), data_port=self._data_port)

    def start(self) -> None:
        """Begins, once every data connection is there. Raises FarEndError when one is missing, after which the trial is
        released."""
        self._become("start")
        try:
            sockets = self._flow_listener.sockets(_ADMISSION_TIMEOUT_S)
        except HarvokError:
            self.release()
            raise
        self._flow_listener.close()
        trial_end = make_trial_end("far", self._trial, sockets, self._trial_id, self._clock)
        with self._lock:
            try:
                self._state = next_state(self._state, "run")
            except ProtocolError:  # released meanwhile
                trial_end.close()
                raise
            self._trial_end = trial_end
            trial_end.begin("receiver", Meter, self._tell)
            trial_end.begin("sender", Meter, self._tell)
        threading.Thread(target=self._finish, args=[trial_end], daemon=True).start()

    def progress(self) -> Iterator[Progress | None]:
        """Intervals as they come, then the end; None now and then, so that a silent line is a broken one. Raises
        ProtocolError before the trial runs."""
        self._become("progress")
        return self._messages()

    def _messages(self) -> Iterator[Progress | None]:
        while True:
            try:
                message = self._progress.get(timeout=_KEEP_ALIVE_S)
            except queue.Empty:
                if self._state is State.RELEASED:
                    return
                yield None
                continue
            yield message
            if message.over:
                return

    def _become(self, event: str) -> None:
        with self._lock:
            self._state = next_state(self._state, event)

    def result(self) -> FarEndResult:
        """What this half saw; while it still runs, what it has seen so far."""
        with self._lock:
            self._state = next_state(self._state, "result")
            assert self._trial_end
            return FarEndResult(summaries=list(self._trial_end.summaries()))

    def release(self) -> None:
        """Ends everything that is left of this half; may be called again."""
        with self._lock:
            already = self._state is State.RELEASED
            self._state = next_state(self._state, "release")
            if already:
                return
            self._flow_listener.close()
            if self._trial_end:
                self._trial_end.close()

    def _tell(self, interval: AnyInterval) -> None:
        self._progress.put(Progress(interval=interval))

    def _finish(self, half: TrialEnd) -> None:
        """Waits for the end of the half, or for the longest test that the station's operator allows."""
        fault: HarvokError | None = None
        try:
            if not half.wait(self._max_test_s):
                half.interrupt()
                fault = LimitError(
                    f"the station ends every test after {self._max_test_s:.0f} s",
                    "Ask for less, or start the station with a larger --max-duration.",
                )
        except HarvokError as broken:
            fault = broken
        if fault:
            self._progress.put(Progress(fault=fault_of(fault)))
        with self._lock, contextlib.suppress(ProtocolError):
            self._state = next_state(self._state, "finish")
        self._progress.put(Progress(over=True))


def fault_of(error: HarvokError) -> Fault:
    """An error as it travels to the other end."""
    return Fault(
        reference=error.reference,
        message=_encodable(error.message),
        hint=_encodable(error.hint),
        free_in_s=getattr(error, "free_in_s", None),
    )


def _encodable(text: str) -> str:
    """What a stranger said may be in it, such as half of a surrogate pair, or far too much."""
    return text[:_MAX_FAULT_CHARACTERS].encode(errors="replace").decode()
