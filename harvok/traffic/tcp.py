"""TCP flows between two ends: how the near end opens them, how the far end admits them, and the half that both run.

The near end always opens the connections, whatever the direction. Each begins with a hello (core.wire.hello);
the far end answers WELCOME to one that belongs to the trial it prepared, and closes every other without a word.
"""

import errno
import os
import selectors
import socket
import threading
from dataclasses import dataclass
from functools import partial

from harvok.clock import SYSTEM, Clock
from harvok.core.ends import End, Role
from harvok.core.trials.tcp import SocketOptions, TcpTrial
from harvok.core.wire.hello import HELLO_BYTES, WELCOME, Hello, decode_hello, encode_hello
from harvok.errors import DataBlockedError, FarEndError
from harvok.signals import uninterrupted
from harvok.traffic.sampler import FlowWatch
from harvok.traffic.sockets import Source, apply_options, bind_source, format_address, listen, reset_close
from harvok.traffic.trial_end import TrialEnd
from harvok.traffic.unproven import Unproven
from harvok.zones import socket_address

CONNECT_TIMEOUT_S = 5.0
HELLO_TIMEOUT_S = 5.0
MAX_STRANGERS, MAX_STRANGERS_OF_ONE = 128, 64
"""Connections that may be in their hello at one time: in all, and from one address."""
_LOOK_S = 0.25
"""How often to look whose time for its hello is over."""

Sockets = dict[Role, list[socket.socket]]
"""The data connections of one end by the part it plays on them, in the order of their flow numbers."""


@dataclass(frozen=True, slots=True)
class DataTarget:
    """What the control connection tells the near end: where data connections go, and what they must prove."""

    address: tuple[str, int]
    trial_id: bytes
    key: bytes


def connect_flows(trial: TcpTrial, target: DataTarget, source: Source) -> Sockets:
    """The near end's half: opens every data connection of a trial. Raises DataBlockedError when one cannot."""
    sockets: Sockets = {}
    try:
        for stream in trial.streams:
            role = stream.role_at("near")
            sockets[role] = []
            for flow in range(trial.flows):
                sockets[role].append(_connect(trial, target, source, Hello(target.trial_id, role, flow)))
    except BaseException:
        close_all(sockets)
        raise
    return sockets


def _connect(trial: TcpTrial, target: DataTarget, source: Source, hello: Hello) -> socket.socket:
    sock = open_connection(target, source, CONNECT_TIMEOUT_S, trial.options)
    try:
        sock.sendall(encode_hello(hello, target.key))
        if sock.recv(len(WELCOME)) != WELCOME:
            raise DataBlockedError(
                f"the data connection to {format_address(target.address)} was closed before it was admitted",
                "Something else may listen on that port, or a middlebox on the way may have answered in its place.",
            )
        sock.settimeout(None)
    except OSError as error:
        sock.close()
        raise _blocked(error, target) from error
    except BaseException:
        sock.close()
        raise
    return sock


def open_connection(
    target: DataTarget, source: Source, timeout_s: float, options: SocketOptions | None = None
) -> socket.socket:
    """A connection to the data port, with a timeout. Raises DataBlockedError when it cannot be opened."""
    family = socket.AF_INET6 if ":" in target.address[0] else socket.AF_INET
    sock = socket.socket(family, socket.SOCK_STREAM)
    try:
        sock.settimeout(timeout_s)
        if options:
            apply_options(sock, options)
        bind_source(sock, source)
        sock.connect(socket_address(*target.address))
    except OSError as error:
        sock.close()
        raise _blocked(error, target) from error
    except BaseException:
        sock.close()
        raise
    return sock


def _blocked(error: OSError, target: DataTarget) -> DataBlockedError:
    where, port = format_address(target.address), target.address[1]
    if isinstance(error, TimeoutError):
        how = f"got no answer in {CONNECT_TIMEOUT_S:.0f} s"
    elif error.errno == errno.ECONNREFUSED:
        how = "was refused"
    else:
        how = f"failed: {os.strerror(error.errno or 0)}"
    return DataBlockedError(
        f"control works, but the data connection to {where} {how}",
        f"Let TCP port {port} through every firewall between here and the station, as well as control.",
    )


def close_all(sockets: Sockets) -> None:
    """Closes every connection at once, leaving nothing queued."""
    for ones in sockets.values():
        for sock in ones:
            reset_close(sock)


@dataclass(slots=True, eq=False)
class _Stranger:
    """A connection in its hello: what it has said, and until when it must have said the rest."""

    sock: socket.socket
    until_s: float
    said: bytes = b""


class TcpListener:
    """The far end's half: listens on the data port and admits the connections of the one trial that is prepared.

    Strangers cannot keep those out: they are bounded in number (traffic.unproven) and each has HELLO_TIMEOUT_S for its
    whole hello.
    """

    def __init__(self, trial: TcpTrial, trial_id: bytes, key: bytes, host: str | None, port: int) -> None:
        self._trial_id = trial_id
        self._key = key
        self._wanted: dict[tuple[Role, int], socket.socket | None] = {
            (stream.role_at("near"), flow): None for stream in trial.streams for flow in range(trial.flows)
        }
        self._lock = threading.Lock()
        self._strangers: Unproven[_Stranger] = Unproven(MAX_STRANGERS, MAX_STRANGERS_OF_ONE)
        self._complete = threading.Event()
        self._listeners = listen(host, port, trial.options)
        self._wake, self._woken = socket.socketpair()
        self._thread = threading.Thread(target=self._admit_all, daemon=True)
        with uninterrupted():
            self._thread.start()

    def sockets(self, timeout_s: float) -> Sockets:
        """Every connection of the trial, by the far end's role. Raises FarEndError when some are missing."""
        if not self._complete.wait(timeout_s):
            raise FarEndError("not every data connection of the trial arrived", "Measure again.")
        with self._lock:
            admitted = {key: sock for key, sock in self._wanted.items() if sock}
            self._wanted = {}
        opposite: dict[Role, Role] = {"sender": "receiver", "receiver": "sender"}
        sockets: Sockets = {}
        for (role, _), sock in sorted(admitted.items(), key=lambda item: item[0]):
            sockets.setdefault(opposite[role], []).append(sock)
        return sockets

    def close(self) -> None:
        """Stops listening, and closes connections that were admitted and never taken."""
        self._wake.close()
        self._thread.join()
        with self._lock:
            left, self._wanted = self._wanted, {}
        for sock in left.values():
            if sock:
                reset_close(sock)

    def _admit_all(self) -> None:
        """Hears every stranger at once, until closed."""
        with selectors.DefaultSelector() as selector:
            for listener in self._listeners:
                listener.setblocking(False)
                selector.register(listener, selectors.EVENT_READ)
            selector.register(self._woken, selectors.EVENT_READ)
            while self._serve(selector):
                self._send_away_late_ones(selector)
            for key in list(selector.get_map().values()):
                key.fileobj.close()  # type: ignore[union-attr]

    def _serve(self, selector: selectors.BaseSelector) -> bool:
        """Hears whoever speaks; False once this was closed."""
        for key, _ in selector.select(_LOOK_S if len(self._strangers) else None):
            if key.fileobj is self._woken:
                return False
            if not isinstance(key.data, _Stranger):
                self._accept(selector, key.fileobj)  # type: ignore[arg-type]
            elif key.data in self._strangers:  # not displaced a moment ago
                self._hear(selector, key.data)
        return True

    def _accept(self, selector: selectors.BaseSelector, listener: socket.socket) -> None:
        try:
            sock, peer = listener.accept()
        except OSError:
            return
        sock.setblocking(False)
        stranger = _Stranger(sock, SYSTEM.now_ns() / 1e9 + HELLO_TIMEOUT_S)
        selector.register(sock, selectors.EVENT_READ, stranger)
        displaced = self._strangers.add(stranger, peer[0])
        if displaced:
            self._send_away(selector, displaced)

    def _hear(self, selector: selectors.BaseSelector, stranger: _Stranger) -> None:
        """Admits a connection that proves itself, and closes every other without a word."""
        try:
            said = stranger.sock.recv(HELLO_BYTES - len(stranger.said))
        except BlockingIOError:
            return
        except OSError:
            said = b""
        stranger.said += said
        if said and len(stranger.said) < HELLO_BYTES:
            return
        hello = decode_hello(stranger.said, self._key)
        selector.unregister(stranger.sock)
        self._strangers.discard(stranger)
        if not hello or not self._admit(hello, stranger.sock):
            stranger.sock.close()

    def _send_away_late_ones(self, selector: selectors.BaseSelector) -> None:
        now_s = SYSTEM.now_ns() / 1e9
        late = [stranger for stranger in self._strangers if stranger.until_s < now_s]
        for stranger in late:
            self._strangers.discard(stranger)
            self._send_away(selector, stranger)

    def _send_away(self, selector: selectors.BaseSelector, stranger: _Stranger) -> None:
        selector.unregister(stranger.sock)
        stranger.sock.close()

    def _admit(self, hello: Hello, sock: socket.socket) -> bool:
        place = (hello.role, hello.flow)
        with self._lock:
            if hello.trial_id != self._trial_id or place not in self._wanted or self._wanted[place]:
                return False
            try:
                sock.setblocking(True)
                sock.sendall(WELCOME)
            except OSError:
                return False
            self._wanted[place] = sock
            if all(self._wanted.values()):
                self._complete.set()
        return True


class TcpTrialEnd(TrialEnd):
    """One end's half of a TCP trial."""

    def __init__(self, end: End, trial: TcpTrial, sockets: Sockets, trial_id: bytes, clock: Clock) -> None:
        roles = [(stream.name, stream.role_at(end)) for stream in trial.streams]
        watches = (FlowWatch(end, name, role, trial, sockets[role], trial_id.hex(), clock) for name, role in roles)
        super().__init__(watches, partial(close_all, sockets))
