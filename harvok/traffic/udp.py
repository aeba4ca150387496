"""UDP flows between two ends: how the near end opens them, how the far end admits them, and the half that both run.

Each flow has a socket of its own at either end, both connected, so that a worker can have it to itself and strangers
do not reach it. The exchange that opens a flow is in core.wire.datagram; the far end sends nothing that is larger than
what it answers, and no data to an address that has not proven itself. Data to a multicast group goes from the near end
only.
"""

import contextlib
import errno
import os
import secrets
import select
import socket
import struct
import threading
from collections.abc import Iterator
from functools import partial

import psutil

from harvok.clock import Clock
from harvok.core.ends import End, Role
from harvok.core.trials.tcp import SocketOptions
from harvok.core.trials.udp import (
    UdpTrial,
)
from harvok.core.wire.datagram import (
    ANSWER_BYTES,
    TRIAL_TAG_BYTES,
    answer_challenge,
    challenge_for,
    is_answered,
)
from harvok.core.wire.hello import HELLO_BYTES, WELCOME, Hello, decode_hello, encode_hello
from harvok.errors import DataBlockedError, FarEndError, NearEndError
from harvok.signals import uninterrupted
from harvok.traffic.icmp_errors import hear_errors, take_prohibitions
from harvok.traffic.own_address import from_same_address, own_address, tell_own_address
from harvok.traffic.sockets import Source, apply_options, bind_source, families_of, format_address
from harvok.traffic.tcp import DataTarget
from harvok.traffic.trial_end import TrialEnd
from harvok.traffic.udp_processes import UdpWatch
from harvok.zones import socket_address

_ASK_AGAIN_S = 0.2
_ADMISSION_S = 5.0

Flows = dict[str, list[socket.socket]]
"""The sockets of one end by direction, in the order of their flow numbers."""


def _options(trial: UdpTrial, flow: int) -> SocketOptions:
    return SocketOptions(dscp=trial.services[trial.flow_services[flow]].dscp)


def _prepare(sock: socket.socket, trial: UdpTrial, flow: int, role: Role) -> None:
    from harvok.traffic.datagrams import prepare_receiving

    apply_options(sock, _options(trial, flow))
    if role == "receiver":
        prepare_receiving(sock, trial.socket_buffer_bytes)
    elif trial.socket_buffer_bytes:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, trial.socket_buffer_bytes)


def open_flows(trial: UdpTrial, target: DataTarget, source: Source) -> Flows:
    """The near end's half: opens every flow. Raises DataBlockedError when one is not admitted."""
    flows: Flows = {}
    try:
        for stream in trial.streams:
            role = stream.role_at("near")
            flows[stream.name] = []
            for flow in range(trial.flows):
                flows[stream.name].append(_open(trial, target, source, Hello(target.trial_id, role, flow)))
    except BaseException:
        close_flows(flows)
        raise
    return flows


def _open(trial: UdpTrial, target: DataTarget, source: Source, hello: Hello) -> socket.socket:
    family = socket.AF_INET6 if ":" in target.address[0] else socket.AF_INET
    sock = socket.socket(family, socket.SOCK_DGRAM)
    try:
        _prepare(sock, trial, hello.flow, hello.role)
        bind_source(sock, source)
        sock.connect(socket_address(*target.address))
        _prove(sock, encode_hello(hello, target.key), target)
        if trial.group:
            _aim_at_group(sock, trial, (trial.group, target.address[1]))
    except BaseException:
        sock.close()
        raise
    return sock


def _prove(sock: socket.socket, hello: bytes, target: DataTarget) -> None:
    """Says hello until challenged, and answers until welcome."""
    hear_errors(sock)
    sock.settimeout(_ASK_AGAIN_S)
    datagram, refused = hello, False
    for _ in range(round(_ADMISSION_S / _ASK_AGAIN_S)):
        try:
            sock.send(datagram)
            answer = sock.recv(64)
        except TimeoutError:
            continue
        except ConnectionRefusedError:
            refused = True
            continue
        except OSError as error:
            prohibited = take_prohibitions(sock) > 0
            why = "are prohibited by a firewall on the way (ICMP)" if prohibited else os.strerror(error.errno or 0)
            raise _blocked(target, why if prohibited else f"failed: {why}") from error
        if answer == WELCOME:
            return hear_errors(sock, wanted=False)
        datagram = answer_challenge(hello, answer, target.key)
    raise _blocked(target, "were refused" if refused else f"got no answer in {_ADMISSION_S:.0f} s")


def _blocked(target: DataTarget, how: str) -> DataBlockedError:
    return DataBlockedError(
        f"control works, but datagrams to {format_address(target.address)} {how}",
        f"Let UDP port {target.address[1]} through every firewall between here and the station, as well as TCP.",
    )


def _aim_at_group(sock: socket.socket, trial: UdpTrial, group: tuple[str, int]) -> None:
    """Turns a socket that was admitted towards the group, through the interface that it was admitted by."""
    local = sock.getsockname()
    hops = trial.hops or 1
    if sock.family == socket.AF_INET6:
        sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_HOPS, hops)
        sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_IF, interface_index(local[0]))
    else:
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, hops)
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(local[0]))
    try:
        sock.connect(group)
    except OSError as error:
        raise NearEndError(
            f"this host cannot send to the group {group[0]}: {error.strerror}", "Check its routes for multicast."
        ) from error


def interface_index(address: str) -> int:
    """The index of the interface that has an address; 0 where there is none."""
    for name, addresses in psutil.net_if_addrs().items():
        if any(one.address.partition("%")[0] == address.partition("%")[0] for one in addresses):
            return socket.if_nametoindex(name)
    return 0


def close_flows(flows: Flows) -> None:
    """Closes every socket."""
    for ones in flows.values():
        for sock in ones:
            sock.close()


class UdpListener:
    """The far end's half: hears the data port and admits the flows of the one trial that is prepared."""

    def __init__(self, trial: UdpTrial, trial_id: bytes, key: bytes, host: str | None, port: int) -> None:
        self._trial, self._trial_id, self._key, self._port = trial, trial_id, key, port
        self._secret = secrets.token_bytes(32)
        self._wanted: dict[tuple[Role, int], socket.socket | None] = {
            (stream.role_at("near"), flow): None for stream in trial.streams for flow in range(trial.flows)
        }
        self._lock = threading.Lock()
        self._complete = threading.Event()
        self._wake_read, self._wake_write = os.pipe()
        self._listeners = udp_listeners(host, port)
        self._thread = threading.Thread(target=self._hear, daemon=True)
        with uninterrupted():
            self._thread.start()

    def sockets(self, timeout_s: float) -> Flows:
        """Every flow of the trial. Raises FarEndError when some are missing."""
        if not self._complete.wait(timeout_s):
            raise FarEndError("not every UDP flow of the trial arrived", "Measure again.")
        with self._lock:
            admitted, self._wanted = self._wanted, {}
        flows: Flows = {}
        for stream in self._trial.streams:
            ones = [admitted[stream.role_at("near"), flow] for flow in range(self._trial.flows)]
            flows[stream.name] = [sock for sock in ones if sock]
        return flows

    def close(self) -> None:
        """Stops hearing, and closes flows that were admitted and never taken."""
        if self._thread.is_alive():
            os.write(self._wake_write, b"x")
            self._thread.join()
        with self._lock:
            left, self._wanted = self._wanted, {}
            listeners, self._listeners = self._listeners, []
        for sock in [*listeners, *(sock for sock in left.values() if sock)]:
            sock.close()
        if listeners:
            os.close(self._wake_read)
            os.close(self._wake_write)

    def _hear(self) -> None:
        listeners = {sock.fileno(): sock for sock in self._listeners}
        poll = select.poll()
        for fd in (*listeners, self._wake_read):
            poll.register(fd, select.POLLIN)
        while True:
            for fd, _ in poll.poll():
                if fd == self._wake_read:
                    return
                with contextlib.suppress(OSError):  # a stranger's datagram must not end the listening
                    self._answer(listeners[fd])

    def _answer(self, listener: socket.socket) -> None:
        """Challenges a good hello, admits a good answer, and says nothing to anything else."""
        datagram, control, _, peer = listener.recvmsg(ANSWER_BYTES + 1, 128)
        hello = decode_hello(datagram[:HELLO_BYTES], self._key)
        if not hello or hello.trial_id != self._trial_id:
            return
        challenge = challenge_for(peer, self._secret)
        if len(datagram) == HELLO_BYTES:
            listener.sendmsg([challenge], from_same_address(control), 0, peer)
        elif is_answered(datagram, challenge, self._key) and self._admit(hello, listener, own_address(control), peer):
            listener.sendmsg([WELCOME], from_same_address(control), 0, peer)

    def _admit(self, hello: Hello, listener: socket.socket, own: str, peer: tuple[str, int]) -> bool:
        """Makes the flow's own socket; True also when this very flow was admitted before and missed its welcome."""
        place = (hello.role, hello.flow)
        with self._lock:
            if place not in self._wanted:
                return False
            if known := self._wanted[place]:
                return bool(self._trial.group) or known.getpeername()[:2] == peer[:2]
            self._wanted[place] = self._make(hello, listener.family, own, peer)
            if all(self._wanted.values()):
                self._complete.set()
        return True

    def _make(self, hello: Hello, family: int, own: str, peer: tuple[str, int]) -> socket.socket:
        trial = self._trial
        sock = socket.socket(family, socket.SOCK_DGRAM)
        try:
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            _prepare(sock, trial, hello.flow, "receiver" if hello.role == "sender" else "sender")
            sock.bind(socket_address(trial.group or own, self._port))
            if trial.group:
                _join(sock, trial.group, own)
            sock.connect(peer)
        except OSError:
            sock.close()
            raise
        return sock


def udp_listeners(host: str | None, port: int) -> list[socket.socket]:
    """UDP sockets on the data port that tell which of this host's addresses a datagram came to."""
    sockets: list[socket.socket] = []
    try:
        for family in families_of(host):
            sock = socket.socket(family, socket.SOCK_DGRAM)
            sockets.append(sock)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            if family == socket.AF_INET6:
                sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
            tell_own_address(sock)
            sock.bind((host or "", port))
            sock.setblocking(False)
    except OSError as error:
        for sock in sockets:
            sock.close()
        why = "is already in use" if error.errno == errno.EADDRINUSE else f"cannot be heard: {error.strerror}"
        raise FarEndError(
            f"UDP port {port} of the station {why}", "Free it, or start the station on another --port."
        ) from error
    return sockets


def _join(sock: socket.socket, group: str, own: str) -> None:
    """Joins a multicast group on the interface that has the address `own`."""
    if sock.family == socket.AF_INET6:
        request = socket.inet_pton(socket.AF_INET6, group) + struct.pack("=I", interface_index(own))
        sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_JOIN_GROUP, request)
    else:
        sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, socket.inet_aton(group) + socket.inet_aton(own))


class UdpTrialEnd(TrialEnd):
    """One end's half of a UDP trial."""

    def __init__(self, end: End, trial: UdpTrial, flows: Flows, trial_id: bytes, clock: Clock) -> None:
        super().__init__(udp_watches(end, trial, flows, trial_id), partial(close_flows, flows))


def udp_watches(end: End, trial: UdpTrial, flows: Flows, trial_id: bytes) -> Iterator[UdpWatch]:
    """The flows of each direction at one end."""
    tag = int.from_bytes(trial_id[:TRIAL_TAG_BYTES])
    for stream in trial.streams:
        yield UdpWatch(end, stream.name, stream.role_at(end), trial, flows[stream.name], tag)
